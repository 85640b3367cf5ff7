"""The Ridges: hills, markers, flags, reading."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from pytestqt.qtbot import QtBot

from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import plane_from_native
from rilievo.ui.panels.ridge_plot import hills
from rilievo.ui.shell.window import Window
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
    names = [row.name for row in study.views.ridges.rows]
    assert names == [entry.name for entry in study.session.state.samples]
    assert len(study.views.ridges.curves) == 12
    study.commands.selection.remove_samples()
    settle()
    assert len(study.views.ridges.curves) == 11


@pytest.mark.slow
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
    study.session.go_to(stage)
    if stage == "correct":
        # What is estimated stands on its card; a level that is typed can be dragged.
        study.views.correct.add_step("background.level")
    settle()
    assert [marker.key for marker in study.views.ridges.markers] == keys
    assert list(study.views.ridges.lines) == keys


@pytest.mark.slow
def test_a_flag_is_dragged_like_its_line(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    settle()
    flags = study.views.ridges.flags
    marker, tip, box = flags.boxes()[0]
    start = box.center().toPoint()
    qtbot.mousePress(flags, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(flags, start + QPoint(40, 0))
    assert study.compute.drag.level is not None
    assert study.compute.drag.level > marker.value
    qtbot.mouseRelease(flags, Qt.MouseButton.LeftButton, pos=start + QPoint(40, 0))
    settle()
    assert study.session.state.method.outline.threshold.way == "hand"
    moved = flags.boxes()[0]
    assert moved[1] > tip


@pytest.mark.slow
def test_flags_stay_inside_the_panel(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    settle()
    for level in (-20.0, 1200.0):
        study.views.ridges.drag_marker("threshold", to=level)
        settle()
        for _, _, box in study.views.ridges.flags.boxes():
            assert box.left() >= study.views.ridges.plot.plot_left() - 1
            assert box.right() <= study.views.ridges.flags.width()


def test_hovering_reads_a_row(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("look")
    settle()
    study.views.ridges.plot.hovered.emit((260.0, 10.2))
    text = study.views.ridges.reading.text()
    assert "replete-2" in text
    assert "at or below" in text
    study.views.ridges.plot.hovered.emit(None)
    assert study.views.ridges.reading.text().strip() == ""


def test_clicking_a_hill_focuses_its_sample(study: Window, settle: Callable[[], None]) -> None:
    settle()

    class Click:
        def __init__(self, double: bool) -> None:
            self._double = double

        def double(self) -> bool:
            return self._double

        def scenePos(self) -> QPointF:
            return study.views.ridges.plot.plotItem.vb.mapViewToScene(QPointF(300.0, 3.3))

    study.views.ridges.plot.scene().sigMouseClicked.emit(Click(double=False))
    assert study.session.focus.entry is not None
    assert study.session.focus.entry.name == "starved-1"
    settle()
    view = study.views.ridges.plot.plotItem.vb
    whole = view.viewRange()[0]
    view.scaleBy((0.2, 1.0))
    assert view.viewRange()[0] != whole
    study.views.ridges.plot.scene().sigMouseClicked.emit(Click(double=True))
    assert view.viewRange()[0] == pytest.approx(whole)


def test_linear_height_and_back(study: Window, settle: Callable[[], None]) -> None:
    settle()
    before = study.views.ridges.curves[0].getData()[1].copy()
    study.views.ridges.height_button.click()
    settle()
    assert study.views.ridges.height_button.text() == "linear"
    assert not np.array_equal(study.views.ridges.curves[0].getData()[1], before)
    study.views.ridges.height_button.click()
    settle()
    np.testing.assert_allclose(study.views.ridges.curves[0].getData()[1], before)


def test_without_samples_there_is_a_hint(window: Window, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    assert window.views.ridges.empty.isVisible()
    assert not window.views.ridges.plot.isVisible()
    assert window.welcome.isVisible()


@pytest.mark.slow
def test_tiles_by_keyboard_and_pointer(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    strip = study.views.drawer.strip
    strip.setFocus()
    first = study.session.focus.sample_id
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert study.session.focus.sample_id == strip.tiles[1].sample_id
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    assert study.session.focus.sample_id == first
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=strip.tiles[7].box.center())
    assert study.session.focus.sample_id == strip.tiles[7].sample_id
    settle()


@pytest.mark.slow
def test_each_stage_keeps_its_drawer_height(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("measure")
    study.pages.drawer_height = 333
    study.session.go_to("outline")
    assert study.pages.drawer_height < 300
    study.session.go_to("measure")
    assert study.pages.drawer_height == pytest.approx(333, abs=3)
    settle()


def test_a_note_goes_by_itself_and_a_warning_stays(window: Window) -> None:
    done = []
    window.views.notice.warn("something is wrong", "Mend it", lambda: done.append(1))
    assert window.views.notice.text == "something is wrong"
    assert not window.views.notice.timer.isActive()
    window.views.notice.do_button.click()
    assert done == [1]
    assert window.views.notice.text == ""
    window.views.notice.tell("saved")
    assert window.views.notice.timer.isActive()


@pytest.mark.slow
def test_several_samples_are_chosen_and_grouped_together(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    strip = study.views.drawer.strip
    left, control = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier
    for k in (5, 9):
        qtbot.mouseClick(strip, left, control, pos=strip.tiles[k].box.center())
    names = [entry.name for entry in study.session.focus.chosen]
    assert names == ["replete-1", "low-nitrogen-2", "starved-2"]
    qtbot.mouseClick(strip, left, control, pos=strip.tiles[9].box.center())
    assert len(study.session.focus.chosen) == 2
    shift = Qt.KeyboardModifier.ShiftModifier
    qtbot.mouseClick(strip, left, shift, pos=strip.tiles[3].box.center())
    assert [entry.name for entry in study.session.focus.chosen] == [
        f"replete-{n}" for n in (1, 2, 3, 4)
    ]
    study.views.look.sample.group.setCurrentText("Control")
    study.views.look.sample.group.activated.emit(0)
    grouped = [entry.name for entry in study.session.state.samples if entry.group == "Control"]
    assert grouped == [f"replete-{n}" for n in (1, 2, 3, 4)]
    assert [e.replicate for e in study.session.focus.chosen] == ["1", "2", "3", "4"]
    study.commands.selection.remove_samples()
    assert len(study.session.state.samples) == 8
    study.session.undo_stack.undo()
    study.session.undo_stack.undo()
    assert study.session.state.groups == ("replete", "low-nitrogen", "starved")
    # A plain click at the end: Qt remembers the keys of the last event for later tests.
    qtbot.mouseClick(strip, left, pos=strip.tiles[0].box.center())
    assert len(study.session.focus.chosen) == 1
    settle()
