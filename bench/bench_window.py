"""How fast the window answers: times, and ratios to numpy.copyto of the same array.

Usage: python bench/bench_window.py      (offscreen by itself; no display needed)

Everything is driven through the real window, from the request to the painted answer.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import tifffile
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication
from scipy import ndimage

from rilievo.demo.sets import write_demo_study
from rilievo.ui.shell.app import make_application
from rilievo.ui.shell.window import Window

SIDE = 4096
ROUNDS = 15

_FIRST_PAINT = """
import time; start = time.perf_counter()
from rilievo.ui.shell.app import make_application
application = make_application()
from rilievo.ui.shell.window import Window
window = Window(); window.commands.study.asks_before_leaving = False; window.show()
window.grab()
application.processEvents()
print(time.perf_counter() - start)
"""


def timed(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    """Median seconds of a piece of work."""
    spent = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        spent.append(time.perf_counter() - start)
    return statistics.median(spent)


def until(application: QApplication, ready: Callable[[], bool], limit: float = 60.0) -> None:
    end = time.perf_counter() + limit
    while not ready():
        application.processEvents()
        if time.perf_counter() > end:
            raise TimeoutError
        time.sleep(0.0005)


def large_image(folder: Path) -> Path:
    """A 4096×4096 16-bit field with about 4 000 round objects on noise."""
    rng = np.random.default_rng(1)
    field = ndimage.gaussian_filter(rng.normal(size=(SIDE, SIDE)).astype(np.float32), 12)
    field = (field / field.std()) * 900 + 3000 + rng.normal(0, 60, field.shape)
    path = folder / "large-1.tif"
    tifffile.imwrite(path, field.clip(0, 65535).astype(np.uint16))
    return path


def open_window(application: QApplication) -> Window:
    window = Window()
    window.commands.study.asks_before_leaving = False
    window.show()
    application.processEvents()
    return window


def settled(window: Window) -> bool:
    state = window.session.state
    return (
        window.jobs.idle
        and bool(state.samples)
        and all(window.compute.queue.current(entry.id) is not None for entry in state.samples)
    )


def drag(application: QApplication, window: Window, levels: list[float]) -> tuple[float, float]:
    """Median seconds until picture and marker, and until all tiles, show a dragged level."""
    picture, strip = window.views.area.picture, window.views.drawer.strip
    shown, update = {"tiles": 0}, strip.update

    def count_tiles() -> None:
        update()
        shown["tiles"] += 1

    strip.update = count_tiles  # type: ignore[method-assign,assignment]
    to_picture, to_tiles = [], []
    window.compute.drag.begin()
    window.compute.drag.rest.setInterval(10_000_000)
    for level in levels:
        before, image = dict(shown), picture.image
        start = time.perf_counter()
        window.compute.drag.preview(level)
        until(application, lambda seen=image: picture.image is not seen)
        # Answered is what has reached the screen: paint now what was only asked to be painted.
        picture.repaint()
        window.views.ridges.plot.viewport().repaint()
        window.views.ridges.flags.repaint()
        to_picture.append(time.perf_counter() - start)
        until(application, lambda seen=before: shown["tiles"] > seen["tiles"] and window.jobs.idle)
        strip.repaint()
        to_tiles.append(time.perf_counter() - start)
    strip.update = update  # type: ignore[method-assign]
    return statistics.median(to_picture), statistics.median(to_tiles)


def exact(application: QApplication, window: Window, levels: list[float]) -> float:
    """Median seconds from the rest of the pointer to the exact regions of the focused sample."""
    spent = []
    for level in levels:
        window.compute.drag.preview(level)
        start = time.perf_counter()
        window.compute.drag.commit()
        until(
            application,
            lambda: window.compute.queue.current(window.session.focus.sample_id or 0) is not None,
        )
        spent.append(time.perf_counter() - start)
        until(application, lambda: settled(window))
    return statistics.median(spent)


def main() -> None:
    """Print the table."""
    folder = Path(tempfile.mkdtemp())
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(folder))
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    command = [sys.executable, "-c", _FIRST_PAINT]
    starts = []
    for _ in range(4):
        run = subprocess.run(command, capture_output=True, text=True, check=True, env=environment)
        starts.append(float(run.stdout))
    application = make_application()

    window = open_window(application)
    path = large_image(folder)
    begun = time.perf_counter()
    window.commands.images.add([path])
    until(application, lambda: window.views.area.picture.image is not None)
    first_picture = time.perf_counter() - begun
    until(application, lambda: settled(window))
    window.session.go_to("outline")
    until(application, lambda: settled(window))
    levels = [float(v) for v in np.linspace(3600, 4400, ROUNDS)]
    coarse, _ = drag(application, window, levels)
    regions = exact(application, window, levels[:5])
    facts = window.compute.queue.focused
    count = sum(regions.count for regions in facts.regions) if facts else 0
    pixels = window.compute.store.focused.first.pixels  # type: ignore[union-attr]
    target = np.empty_like(pixels)
    copy = timed(lambda: np.copyto(target, pixels))
    window.close()

    window = open_window(application)
    study, _ = write_demo_study("lipid", folder / "lipid")
    window.commands.study.open_study(study)
    until(application, lambda: settled(window))
    window.session.go_to("outline")
    until(application, lambda: settled(window))
    _, tiles = drag(application, window, [float(v) for v in np.linspace(250, 500, ROUNDS)])
    small = np.empty((12, 768, 768), np.uint16)
    twelve = np.zeros_like(small)
    copy_twelve = timed(lambda: np.copyto(small, twelve))
    window.close()

    print(f"{SIDE}×{SIDE} 16-bit: one numpy.copyto takes {copy * 1e3:.1f} ms; {count} regions")
    print(f"{'':44}{'time':>10}{'goal':>10}{'× copy':>9}")
    rows = (
        ("start to first paint (second run on)", statistics.median(starts[1:]), 1.5, None),
        ("opening to first picture", first_picture, None, copy),
        ("threshold dragged: picture and marker", coarse, 0.033, copy),
        ("pointer rests: exact regions", regions, 1.0, copy),
        ("twelve 768×768: all tiles follow", tiles, 0.150, copy_twelve),
    )
    for name, seconds, goal, unit in rows:
        goal_text = f"{goal * 1e3:.0f} ms" if goal else "–"
        ratio = f"{seconds / unit:.1f}" if unit else "–"
        print(f"{name:44}{seconds * 1e3:7.1f} ms{goal_text:>10}{ratio:>9}")


if __name__ == "__main__":
    main()
