"""The Ridges: hills, markers, flags, reading."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from pytestqt.qtbot import QtBot

from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import plane_from_native
from rilievo.ui.panels.ridges import hills
from rilievo.ui.window import Window
from tests.ui.conftest import WAIT


def test_hills_show_shares_so_that_sizes_compare() -> None:
    rng = np.random.default_rng(0)
    small = rng.integers(0, 240, (40, 60)).astype(np.uint8)
    large = np.tile(small, (5, 5))
    heights = hills(
        [histogram_of(plane_from_native(p)) for p in (small, large)], 0, 240, logarithmic=False
    )
    np.testing.assert_allclose(heights[0], heights[1], atol=1e-9)
    assert heights.max() == 1


def test_logarithmic_hills_lift_what_is_rare() -> None:
    pixels = np.zeros((100, 100), np.uint8)
    pixels[0, :10] = 200
    histogram = histogram_of(plane_from_native(pixels))
    plain = hills([histogram], -0.5, 239.5, logarithmic=False)[0]
    lifted = hills([histogram], -0.5, 239.5, logarithmic=True)[0]
    assert plain[200] == pytest.approx(0.001, rel=0.01)
    assert lifted[200] == pytest.approx(2 / 5, rel=0.01)
    assert lifted[100] == 0


def test_rows_stand_in_the_order_of_the_samples(study: Window, settle: Callable[[], None]) -> None:
    settle()
    names = [row.name for row in study.ridges._rows]
    assert names == [entry.name for entry in study.model.state.samples]
    assert len(study.ridges._curves) == 12
    study.choosing.remove_sample()
    settle()
    assert len(study.ridges._curves) == 11


@pytest.mark.parametrize(
    ("stage", "keys"),
    [
        ("look", ["display low", "display high"]),
        ("correct", ["background level"]),
        ("outline", ["threshold"]),
    ],
)
def test_each_stage_has_its_markers(
    study: Window, settle: Callable[[], None], stage: str, keys: list[str]
) -> None:
    study.go_to(stage)
    if stage == "correct":
        # What is estimated stands on its card; a level that is typed can be dragged.
        study.correct_panel.add_step("background.level")
    settle()
    assert [marker.key for marker in study.ridges.markers()] == keys
    assert list(study.ridges._lines) == keys


def test_a_flag_is_dragged_like_its_line(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.go_to("outline")
    settle()
    flags = study.ridges._flags
    marker, tip, box = flags._boxes()[0]
    start = box.center().toPoint()
    qtbot.mousePress(flags, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(flags, start + QPoint(40, 0))
    assert study.bench.drag.level is not None
    assert study.bench.drag.level > marker.value
    qtbot.mouseRelease(flags, Qt.MouseButton.LeftButton, pos=start + QPoint(40, 0))
    settle()
    assert study.model.state.method.outline.threshold.way == "hand"
    moved = flags._boxes()[0]
    assert moved[1] > tip


def test_flags_stay_inside_the_panel(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("outline")
    settle()
    for level in (-20.0, 1200.0):
        study.ridges.drag_marker("threshold", to=level)
        settle()
        for _, _, box in study.ridges._flags._boxes():
            assert box.left() >= study.ridges._plot.plot_left() - 1
            assert box.right() <= study.ridges._flags.width()


def test_hovering_reads_a_row(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("look")
    settle()
    study.ridges._read((260.0, 10.2))
    text = study.ridges._reading.text()
    assert "replete-2" in text
    assert "at or below" in text
    study.ridges._read(None)
    assert study.ridges._reading.text().strip() == ""


def test_clicking_a_hill_focuses_its_sample(study: Window, settle: Callable[[], None]) -> None:
    settle()

    class Click:
        def __init__(self, double: bool) -> None:
            self._double = double

        def double(self) -> bool:
            return self._double

        def scenePos(self) -> QPointF:
            return study.ridges._plot.plotItem.vb.mapViewToScene(QPointF(300.0, 3.3))

    study.ridges._on_click(Click(double=False))
    assert study.model.entry is not None
    assert study.model.entry.name == "starved-1"
    settle()
    view = study.ridges._plot.plotItem.vb
    whole = view.viewRange()[0]
    view.scaleBy((0.2, 1.0))
    assert view.viewRange()[0] != whole
    study.ridges._on_click(Click(double=True))
    assert view.viewRange()[0] == pytest.approx(whole)


def test_linear_height_and_back(study: Window, settle: Callable[[], None]) -> None:
    settle()
    before = study.ridges._curves[0].getData()[1].copy()
    study.ridges._height_button.click()
    settle()
    assert study.ridges._height_button.text() == "linear"
    assert not np.array_equal(study.ridges._curves[0].getData()[1], before)
    study.ridges._height_button.click()
    settle()
    np.testing.assert_allclose(study.ridges._curves[0].getData()[1], before)


def test_without_samples_there_is_a_hint(window: Window, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    assert window.ridges._empty.isVisible()
    assert not window.ridges._plot.isVisible()
    assert window._welcome.isVisible()


def test_tiles_by_keyboard_and_pointer(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    strip = study.drawer.strip
    strip.setFocus()
    first = study.model.sample_id
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert study.model.sample_id == strip.tiles[1].sample_id
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    assert study.model.sample_id == first
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=strip.tiles[7].box.center())
    assert study.model.sample_id == strip.tiles[7].sample_id
    settle()


def test_each_stage_keeps_its_drawer_height(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("measure")
    whole = sum(study._left.sizes())
    study._left.setSizes([whole - 333, 333])
    study.go_to("outline")
    assert study._left.sizes()[1] < 300
    study.go_to("measure")
    assert study._left.sizes()[1] == pytest.approx(333, abs=3)
    settle()


def test_a_note_goes_by_itself_and_a_warning_stays(window: Window) -> None:
    done = []
    window.notice.warn("something is wrong", "Mend it", lambda: done.append(1))
    assert window.notice.text == "something is wrong"
    assert not window.notice._timer.isActive()
    window.notice._do.click()
    assert done == [1]
    assert window.notice.text == ""
    window.notice.tell("saved")
    assert window.notice._timer.isActive()


def test_several_samples_are_chosen_and_grouped_together(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    strip = study.drawer.strip
    left, control = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier
    for k in (5, 9):
        qtbot.mouseClick(strip, left, control, pos=strip.tiles[k].box.center())
    names = [entry.name for entry in study.model.chosen]
    assert names == ["replete-1", "low-nitrogen-2", "starved-2"]
    qtbot.mouseClick(strip, left, control, pos=strip.tiles[9].box.center())
    assert len(study.model.chosen) == 2
    shift = Qt.KeyboardModifier.ShiftModifier
    qtbot.mouseClick(strip, left, shift, pos=strip.tiles[3].box.center())
    assert [entry.name for entry in study.model.chosen] == [f"replete-{n}" for n in (1, 2, 3, 4)]
    study.look_panel.sample.group.setCurrentText("Control")
    study.look_panel.sample._set_group()
    grouped = [entry.name for entry in study.model.state.samples if entry.group == "Control"]
    assert grouped == [f"replete-{n}" for n in (1, 2, 3, 4)]
    assert [e.replicate for e in study.model.chosen] == ["1", "2", "3", "4"]
    study.choosing.remove_sample()
    assert len(study.model.state.samples) == 8
    study.model.undo_stack.undo()
    study.model.undo_stack.undo()
    assert study.model.state.groups == ("Replete", "Low nitrogen", "Starved")
    # A plain click at the end: Qt remembers the keys of the last event for later tests.
    qtbot.mouseClick(strip, left, pos=strip.tiles[0].box.center())
    assert len(study.model.chosen) == 1
    settle()
