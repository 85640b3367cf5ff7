"""Take the pictures of the README and the guide: the five stages on the made-up Lipid study.

Usage: python docs/make_screenshots.py [FOLDER]   (on a display, or with xvfb-run)
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication

from rilievo.core.palettes import ViewStyle
from rilievo.demo.sets import write_demo_study
from rilievo.ui.app import make_application
from rilievo.ui.model import STAGES
from rilievo.ui.window import Window


def wait(application: QApplication, until: Callable[[], bool], seconds: float = 30.0) -> None:
    """Run the window until something is true and everything is painted."""
    end = time.monotonic() + seconds
    settled = 0
    while settled < 6 and time.monotonic() < end:
        application.processEvents()
        time.sleep(0.02)
        settled = settled + 1 if until() else 0


def main(folder: Path) -> None:
    """Write one PNG a stage, one of the empty window, and one with tints."""
    settings = tempfile.mkdtemp()
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
    application = make_application()
    window = Window()
    window.asks = False
    window.show()
    wait(application, window.isVisible)
    window.grab().save(str(folder / "empty.png"))
    study, _ = write_demo_study("lipid", Path(tempfile.mkdtemp()) / "lipid")
    window.files.open_study(study)
    entries = window.model.state.samples
    wait(application, lambda: len(window.bench.facts) == len(entries) and window.jobs.idle)
    chosen = next(entry for entry in entries if entry.name == "starved-2")
    window.model.focus(sample_id=chosen.id)
    window.measure_all()
    wait(application, lambda: len(window.model.tables) == len(entries) and window.jobs.idle)
    for stage in STAGES:
        window.go_to(stage)
        if stage == "measure":
            window.model.focus(regions={7})
        wait(application, lambda: window.jobs.idle)
        window.grab().save(str(folder / f"{stage}.png"))
    window.go_to("look")
    tints = ViewStyle(stretch="asinh", strength=30, palette="elevation")
    window.model.focus(channel="lipid dye")
    window.model.change("tints", replace(window.model.state, styles={"lipid dye": tints}))
    wait(application, lambda: window.jobs.idle)
    window.grab().save(str(folder / "tints.png"))
    window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "screenshots")
