"""Take the pictures of the README and the guide, with the synthetic studies.

Usage: python docs/make_screenshots.py [FOLDER]   (on a display, or with xvfb-run)
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import tifffile
from PyQt6.QtCore import QPoint, QSettings, QSize
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtTest import QTest

from rilievo.core.compare.question import Design
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import checked_copy, step_use
from rilievo.core.signal.cards import CARDS, place_card
from rilievo.demo.sets import write_demo_study
from rilievo.ui.session.study_session import STAGES
from rilievo.ui.shell.app import make_application
from rilievo.ui.shell.window import Window


class Photographer:
    """A window, and a folder for its pictures."""

    def __init__(self, folder: Path) -> None:
        settings = tempfile.mkdtemp()
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
        folder.mkdir(parents=True, exist_ok=True)
        self.folder = folder
        self.application = make_application()
        self.window = Window()
        self.window.commands.study.asks_before_leaving = False
        self.window.resize(1280, 800)
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
        """Open a synthetic study and wait for it."""
        study, _ = write_demo_study(key, Path(tempfile.mkdtemp()) / key)
        self.window.commands.study.open_study(study)
        session, queue = self.window.session, self.window.compute.queue
        self.wait(lambda: 0 < len(session.state.samples) == len(queue.summaries))

    def focus(self, name: str, channel: str | None = None) -> None:
        """Show a sample."""
        entry = next(e for e in self.window.session.state.samples if e.name == name)
        self.window.session.focus.set(sample_id=entry.id, channel=channel)
        self.wait()

    def point_at(self, x: int, y: int) -> None:
        """Put the pointer on an image pixel."""
        picture = self.window.views.area.picture
        at = picture.to_widget(x, y).toPoint()
        QTest.mouseMove(picture, at + QPoint(1, 0))
        QTest.mouseMove(picture, at)


def stages(shots: Photographer) -> None:
    """The five stages, with the Lipid study."""
    window = shots.window
    shots.open("lipid")
    shots.focus("starved-2")
    window.commands.measure.measure_all()
    shots.wait(lambda: len(window.session.measurements.tables) == len(window.session.state.samples))
    for stage in STAGES:
        window.session.go_to(stage)
        if stage == "measure":
            window.session.focus.set(regions={7}, channel="lipid dye")
        shots.take(stage)
    comparing(shots)
    measuring(shots)


def comparing(shots: Photographer) -> None:
    """The batch's checks, and the first page of the report."""
    window = shots.window
    window.views.comparison.show_view("checks")
    shots.take("batch")
    designs(shots)
    window.views.comparison.show_view("plot")
    path = Path(tempfile.mkdtemp()) / "report.pdf"
    window.report_runner.save(path)
    shots.wait(lambda: not window.report_runner.is_running)
    document = QPdfDocument(None)
    document.load(str(path))
    size = document.pagePointSize(0)
    page = document.render(0, QSize(round(size.width() * 1.6), round(size.height() * 1.6)))
    paper = QImage(page.size(), QImage.Format.Format_RGB32)
    paper.fill(0xFFFFFF)
    painter = QPainter(paper)
    painter.drawImage(0, 0, page)
    painter.end()
    paper.save(str(shots.folder / "report.png"))
    window.views.notice.hide()


def designs(shots: Photographer) -> None:
    """Two factors, other choices, another method, and a blinded study."""
    window = shots.window
    panel, view = window.views.compare, window.views.comparison
    question = window.session.state.question
    view.show_view("plot")
    panel.change("Design", {"design": Design(factor="sample:harvest"), "shown_as": "cells"})
    for card, folded in ((panel.what, True), (panel.shown, True), (panel.design, False)):
        card.set_folded(folded)
    shots.take("designs")
    panel.change("Back", question.model_dump())
    panel.design.set_folded(True)
    panel.what.set_folded(False)
    window.commands.compare.try_choices()
    shots.wait(lambda: bool(view.choices.results), 300)
    shots.take("choices")
    method = window.session.state.method
    first = method.outlines[0]
    lower = checked_copy(first, threshold=checked_copy(first.threshold, factor=0.8))
    other = Path(tempfile.mkdtemp()) / "other.json"
    method.changed(outlines=(lower,)).save(other)
    window.commands.compare.measure_twice(other)
    shots.wait(lambda: view.twice.plot.is_drawn, 120)
    shots.take("twice")


def nested(shots: Photographer) -> None:
    """Where the variation sits, of made-up fields in dishes in animals; and a blinded study."""
    folder = Path(tempfile.mkdtemp())
    rng = np.random.default_rng(5)
    y, x = np.mgrid[:160, :160]
    known = {}
    for group, shift in (("control", 0), ("treated", 60)):
        for animal in range(1, 5):
            of_animal = rng.normal(0, 30)
            for dish in range(1, 4):
                of_dish = rng.normal(0, 20)
                for field in (1, 2):
                    values = rng.normal(200, 8, (160, 160))
                    for cx in range(25, 150, 36):
                        for cy in range(25, 150, 36):
                            cell = shift + of_animal + of_dish + rng.normal(0, 50)
                            values[np.hypot(x - cx, y - cy) < 9] += 300 + cell
                    name = f"{group}-{animal}{dish}{field}"
                    tifffile.imwrite(folder / f"{name}.tif", values.clip(0).astype(np.uint16))
                    known[name] = (group, {"animal": str(animal), "dish": str(dish)})
    window = shots.window
    window.session.clear()
    window.commands.images.add(sorted(folder.iterdir()))
    shots.wait(lambda: len(window.session.state.samples) == len(known))
    state = window.session.state
    placed = tuple(
        replace(entry, group=known[entry.name][0], attributes=known[entry.name][1])
        for entry in state.samples
    )
    method = state.method.changed(outlines=(ClassDefinition(),))
    window.session.change("Groups", replace(state, name="Dishes", samples=placed, method=method))
    window.commands.measure.measure_all()
    shots.wait(lambda: len(window.session.measurements.tables) == len(known))
    window.session.go_to("compare")
    design = Design(
        levels=("sample:animal", "sample:dish"), numbered_anew=True, costs=(50, 10, 2, 0)
    )
    panel = window.views.compare
    panel.change("x", {"design": design, "unit": "sample:animal", "shown_as": "variation"})
    panel.what.set_folded(True)
    panel.design.set_folded(False)
    shots.take("variation")
    panel.design.set_folded(True)
    panel.what.set_folded(False)
    window.session.go_to("outline")
    window.commands.blinding.blind()
    window.views.drawer.show_tab("Samples")
    shots.take("blinded")
    window.views.notice.hide()


def measuring(shots: Photographer) -> None:
    """Where a number comes from, with its error."""
    window = shots.window
    window.session.go_to("measure")
    window.commands.measure.show_origin("starved-2", 7, "lipid dye", "mean")
    shots.wait(lambda: window.views.origin.origin is not None)
    card = window.views.origin.error
    for field, value in ((card.gain, 2.0), (card.read, 6.0), (card.dark, 100.0)):
        field.set_value(value)
    card.ask.click()
    shots.wait(lambda: "±" in card.said.text(), 120)
    shots.take("origin")
    window.commands.measure.leave_origin()


def photographed_card(path: Path) -> list[tuple[float, float]]:
    """Write a made-up photograph of a colour card and two leaves under uneven light.

    Returns the corners of the card.
    """
    height, width, layout = 600, 800, CARDS["colours_24"]
    corners = [(250.0, 190.0), (560.0, 170.0), (575.0, 390.0), (240.0, 380.0)]
    y, x = np.mgrid[:height, :width].astype(float)
    u, v = place_card(layout, corners).to_card(x, y)
    rng = np.random.default_rng(31)
    across, down = (x / width - 0.5, y / height - 0.5)
    light = 1 - 0.6 * (across**2 + down**2)
    row, column = (v.clip(0, 0.999) * 4).astype(int), (u.clip(0, 0.999) * 6).astype(int)
    middle = (abs((u * 6) % 1 - 0.5) < 0.43) & (abs((v * 4) % 1 - 0.5) < 0.43)
    inside = (u > 0) & (u < 1) & (v > 0) & (v < 1) & middle
    leaves = [
        np.hypot((x - 110) / 60, (y - 300) / 130) < 1,
        np.hypot((x - 690) / 55, (y - 280) / 140) < 1,
    ]
    planes = []
    for channel, table, leaf in (("red", 0.30, 0.09), ("green", 0.26, 0.2), ("blue", 0.22, 0.05)):
        scene = np.full((height, width), table)
        scene[(abs(u - 0.5) < 0.62) & (abs(v - 0.5) < 0.68)] = 0.62
        scene = np.where(inside, layout.known_for(channel)[row * 6 + column], scene)
        for k, one in enumerate(leaves):
            scene[one] = leaf * (1 + 0.5 * k)
        planes.append(200 + 3200 * scene * light + rng.normal(0, 12, (height, width)))
    pixels = np.stack(planes, axis=-1).clip(0, 4095).astype(np.uint16)
    tifffile.imwrite(path, pixels, photometric="rgb")
    return corners


def carded(shots: Photographer) -> None:
    """Reflectance by a colour card in the picture."""
    window = shots.window
    path = Path(tempfile.mkdtemp()) / "leaves.tif"
    corners = photographed_card(path)
    window.session.clear()
    window.commands.images.add([path])
    shots.wait(lambda: bool(window.session.state.samples))
    window.session.go_to("correct")
    black = step_use("black", "arithmetic.number", operation="subtract", number=200.0)
    marked = [{"x": x, "y": y} for x, y in corners]
    card = step_use("card", "curve.card", card="colours_24", corners=marked, light="surround")
    method = window.session.state.method.changed(steps=(black, card))
    window.session.change_method("Card", method)
    shots.wait()
    if not window.views.correct.cards["card"].is_open:
        window.views.correct.cards["card"].title.click()
    window.views.drawer.show_tab("Samples")
    shots.take("card")


def outlining(shots: Photographer) -> None:
    """What was found in all samples."""
    window, panel = shots.window, shots.window.views.outline
    window.session.go_to("outline")
    shots.focus("starved-2", "chlorophyll")
    shots.wait()
    panel.found.open()
    window.session.view.choose(layout_kind="samples")
    window.views.area.sheet.zoom_by(2.0)
    shots.take("sheet")
    window.session.view.choose(layout_kind="one")


def nights(shots: Photographer) -> None:
    """One star, in the theme for dark rooms."""
    window = shots.window
    window.appearance.choose("night")
    shots.open("nights")
    window.session.go_to("look")
    shots.focus("night-8")
    window.views.look.display.use_preset("faint")
    shots.focus("night-4")
    window.commands.measure.measure_all()
    shots.wait(lambda: len(window.session.measurements.tables) == len(window.session.state.samples))
    window.session.go_to("measure")
    window.pages.drawer_height = 340
    table = window.session.measurements.tables[window.session.focus.sample_id]
    flux = table.column(table.channels[0], "flux")
    star = int(table.ids[int(np.nanargmax(flux))])
    regions = window.compute.regions.focused
    window.session.focus.set(regions={star})
    window.views.drawer.show_tab("Star")
    window.views.area.picture.zoom_to(5.0)
    x, y = (float(v) for v in regions.centres[regions.index_of(star)])
    window.views.area.picture.centre_on(x, y)
    shots.take("star")
    window.views.area.picture.fit()
    window.pages.drawer_height = 280
    window.appearance.choose("paper")


def swatches(shots: Photographer) -> None:
    """Swatches in a comparison, and bringing in."""
    window = shots.window
    shots.open("swatches")
    window.session.go_to("look")
    shots.focus("bath-1", "madder")
    window.commands.measure.measure_all()
    shots.wait(lambda: len(window.session.measurements.tables) == len(window.session.state.samples))
    window.session.go_to("compare")
    shots.wait(lambda: window.views.comparison.plot.is_drawn)
    window.session.go_to("look")
    folder = window.session.state.samples[0].path.parent
    window.session.view.choose(overlay=False)
    window.session.clear()
    window.commands.images.preview([folder])
    shots.wait()
    shots.take("intake")
    window.pages.show_picture()


def drops(shots: Photographer) -> None:
    """A plane of a time series, and the curves through time."""
    window = shots.window
    shots.open("drops")
    window.session.go_to("look")
    shots.focus("moss t19")
    window.views.drawer.show_tab("Along")
    shots.wait()
    along = window.views.drawer.along
    along.fit.setCurrentIndex(along.fit.findData("decay"))
    window.session.view.pointed.emit((62, 54))
    shots.take("stack")
    window.commands.measure.measure_all()
    shots.wait(
        lambda: len(window.session.measurements.tables) == len(window.session.state.samples), 200
    )
    window.session.go_to("compare")
    shots.wait(lambda: window.views.comparison.plot.is_drawn)
    shots.take("series")


def main(folder: Path) -> None:
    """Write one PNG a view."""
    shots = Photographer(folder)
    stages(shots)
    outlining(shots)
    nights(shots)
    swatches(shots)
    drops(shots)
    carded(shots)
    nested(shots)
    shots.window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "screenshots")
