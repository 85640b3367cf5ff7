"""Take the pictures of the README and the guide, with the made-up studies.

Usage: python docs/make_screenshots.py [FOLDER]   (on a display, or with xvfb-run)
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QPoint, QRectF, QSettings
from PyQt6.QtTest import QTest

from rilievo.core.regions.shapes import GridShape
from rilievo.demo.sets import write_demo_study
from rilievo.ui.app import make_application
from rilievo.ui.model import STAGES
from rilievo.ui.window import Window


class Photographer:
    """A window, and a folder for its pictures."""

    def __init__(self, folder: Path) -> None:
        settings = tempfile.mkdtemp()
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
        self.folder = folder
        self.application = make_application()
        self.window = Window()
        self.window.asks = False
        self.window.show()
        self.wait(self.window.isVisible)

    def wait(self, until: Callable[[], bool] = lambda: True, seconds: float = 60.0) -> None:
        """Run the window until something is true, nothing is computed and all is painted."""
        end = time.monotonic() + seconds
        settled = 0
        while settled < 6 and time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.02)
            settled = settled + 1 if self.window.jobs.idle and until() else 0

    def take(self, name: str) -> None:
        """Save what the window shows."""
        self.wait()
        self.window.grab().save(str(self.folder / f"{name}.png"))

    def open(self, key: str) -> None:
        """Open a made-up study and wait for it."""
        study, _ = write_demo_study(key, Path(tempfile.mkdtemp()) / key)
        self.window.files.open_study(study)
        entries = self.window.model.state.samples
        self.wait(lambda: len(self.window.bench.facts) == len(entries))

    def focus(self, name: str, channel: str | None = None) -> None:
        """Show a sample."""
        entry = next(e for e in self.window.model.state.samples if e.name == name)
        self.window.model.focus(sample_id=entry.id, channel=channel)
        self.wait()

    def point_at(self, x: int, y: int) -> None:
        """Put the pointer on an image pixel."""
        picture = self.window.area.picture
        at = picture.to_widget(x, y).toPoint()
        QTest.mouseMove(picture, at + QPoint(1, 0))
        QTest.mouseMove(picture, at)


def stages(shots: Photographer) -> None:
    """The five stages, with the Lipid study."""
    window = shots.window
    shots.take("empty")
    shots.open("lipid")
    shots.focus("starved-2")
    window.measure_all()
    shots.wait(lambda: len(window.model.tables) == len(window.model.state.samples))
    for stage in STAGES:
        window.go_to(stage)
        if stage == "measure":
            window.model.focus(regions={7})
        shots.take(stage)


def correcting(shots: Photographer) -> None:
    """A background by itself, the library and the history."""
    window = shots.window
    window.go_to("correct")
    shots.focus("starved-2", "chlorophyll")
    window.drawer.show_tab("Samples")
    panel = window.correct_panel
    panel.do("background", "remove")
    shots.wait()
    panel.add_step("repair.outliers")
    shots.wait()
    mesh = panel.add_step("background.mesh")
    shots.wait()
    panel.cards[mesh].form.fields["tile"].entered.emit(96.0)
    shots.wait()
    panel.look_at(mesh, "background")
    shots.take("correct-relief")
    panel.look_at(mesh, None)
    shots.focus("starved-4")
    panel.cards[mesh].scope.button("one").click()
    panel.cards[mesh].form.fields["tile"].entered.emit(64.0)
    shots.wait()
    panel.add_step("smooth.gaussian")
    shots.wait()
    window.show_history()
    window.drawer.history.tree.expandItem(window.drawer.history.tree.topLevelItem(1))
    shots.take("history")
    window.drawer.show_tab("Samples")
    window.show_methods()
    window.methods.choose("Uneven fluorescence")
    shots.take("methods")
    window.show_picture()


def looking(shots: Photographer) -> None:
    """What Look can do."""
    window = shots.window
    window.go_to("look")
    shots.focus("starved-2", "chlorophyll")
    window.drawer.show_tab("Profile")
    window.drawer.profile.others.setCurrentIndex(1)
    window.drawer.profile.set_line(120, 610, 560, 180)
    shots.point_at(330, 404)
    shots.take("profile")
    window.model.viewing.choose(line=None, tool="point")
    window.drawer.show_tab("Samples")


def outlining(shots: Photographer) -> None:
    """Other ways to find regions, how steady they are, parents and children."""
    window, panel = shots.window, shots.window.outline_panel
    window.go_to("outline")
    shots.focus("starved-2", "chlorophyll")
    shots.wait()
    panel.ensureWidgetVisible(panel.clean, 0, 0)
    panel.verticalScrollBar().setValue(panel.steady.y() - 4)
    shots.take("outline-steady")
    panel.verticalScrollBar().setValue(0)
    window.model.viewing.choose(layout_kind="samples")
    window.area.sheet.zoom_by(2.0)
    shots.take("sheet")
    window.model.viewing.choose(layout_kind="one")
    panel.choose_kind("Classes")
    shots.wait()
    panel.gray.form.fields["k"].entered.emit(4)
    panel.gray.flat.setChecked(True)
    shots.take("outline-classes")
    panel.gray.flat.setChecked(False)
    panel.choose_kind("Threshold")
    shots.wait()
    panel.classes.add_class("threshold")
    panel.classes.name.setText("droplet")
    panel.classes.take_name()
    window.bench.change_outline("Found on the dye", channel="lipid dye")
    panel.level.take_way("hand")
    panel.level.threshold.enter("1600")
    shots.wait()
    window.model.focus_class(0)
    panel.classes.add_class("derived", "inside")
    panel.derived.set("b", "droplet")
    panel.classes.name.setText("droplet in cell")
    panel.classes.take_name()
    shots.focus("starved-2", "lipid dye")
    shots.wait()
    regions = window.bench.focused_regions
    if regions is not None and regions.count:
        x, y = regions.centres[regions.count // 2]
        window.area.picture.zoom_to(2.0)
        window.area.picture.centre_on(float(x), float(y))
    shots.take("outline-children")
    window.area.picture.fit()


def grid(shots: Photographer) -> None:
    """Seven swatches by three clicks."""
    window, panel = shots.window, shots.window.outline_panel
    window.go_to("outline")
    shots.focus("bath-1", "madder")
    panel.classes.add_class("drawn")
    panel.classes.name.setText("wool")
    panel.classes.take_name()
    shots.wait()
    cells = GridShape(
        rows=1, columns=7, first=(103, 263), across=(847, 263), down=(103, 263),
        width=84, height=84, names=("0 h", "1 h", "2 h", "4 h", "8 h", "32 h", "64 h"),
    )  # fmt: skip
    window.outlining.take("grid", cells)
    shots.take("outline-grid")
    window.model.undo_stack.setIndex(0)


def nights(shots: Photographer) -> None:
    """Faint stars, and the histograms of all nights."""
    window = shots.window
    shots.open("nights")
    window.go_to("look")
    shots.focus("night-8")
    window.look_panel.display.use_preset("background")
    shots.take("relief")
    shots.focus("night-1")
    window.look_panel.display.use_preset("faint")
    window.drawer.show_tab("Histogram")
    window.drawer.histogram.others.setCurrentIndex(2)
    window.drawer.histogram.refresh()
    window.area.picture.zoom_to_box(QRectF(150, 120, 420, 300))
    shots.take("look-nights")
    window.drawer.show_tab("Samples")


def swatches(shots: Photographer) -> None:
    """Colours laid over each other, with picks and specimens."""
    window = shots.window
    shots.open("swatches")
    grid(shots)
    window.go_to("look")
    shots.focus("bath-1", "madder")
    window.model.viewing.choose(overlay=True)
    window.look_panel.channels.set_folded(False)
    window.look_panel.display.set_folded(True)
    window.drawer.show_tab("Picks")
    shots.take("look-swatches")
    folder = window.model.state.samples[0].path.parent
    window.model.viewing.choose(overlay=False)
    window.model.clear()
    window.files.preview([folder])
    shots.wait()
    window.intake.pattern.setText("{dye}-{replicate#}")
    shots.take("intake")
    window.show_picture()


def main(folder: Path) -> None:
    """Write one PNG a view."""
    shots = Photographer(folder)
    stages(shots)
    correcting(shots)
    looking(shots)
    outlining(shots)
    nights(shots)
    swatches(shots)
    shots.window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "screenshots")
