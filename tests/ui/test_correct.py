"""The background through the window."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from rilievo.core.parameters import Rectangle
from rilievo.ui.window import Window
from tests.ui.conftest import WAIT
from tests.ui.test_outline import frame


def test_no_background_then_levels_then_patch(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("correct")
    panel = study.correct_panel
    panel.kind.button("none").click()
    settle()
    assert study.model.state.method.steps == ()
    panel.kind.button("background.level").click()
    settle()
    steps = study.model.state.method.steps
    assert [use.channels for use in steps] == [("chlorophyll",), ("lipid dye",)]
    facts = study.bench.focused_facts
    assert facts is not None
    # A first level stands where most pixels are.
    level = steps[0].parameters.model_dump()["level"]
    assert abs(level - facts.native["chlorophyll"].quantile(0.5)) < 5
    panel.level.enter("240")
    settle()
    facts = study.bench.focused_facts
    assert facts is not None
    assert facts.reports["level of chlorophyll"]["chlorophyll"]["level"] == 240
    for _ in range(3):
        study.model.undo_stack.undo()
    settle()
    assert panel.current_kind == "background.patch"


def test_the_level_marker_is_dragged_in_the_ridges(
    study: Window, settle: Callable[[], None]
) -> None:
    study.go_to("correct")
    study.correct_panel.choose_kind("background.level")
    settle()
    study.ridges.drag_marker("background level of chlorophyll", to=262.0)
    settle()
    assert study.correct_panel.level.value == 262.0
    assert study.ridges.markers()[0].value == 262.0


def test_a_patch_for_one_sample_is_marked_and_can_be_cleared(
    study: Window, settle: Callable[[], None]
) -> None:
    study.go_to("correct")
    settle()
    panel = study.correct_panel
    common = panel.common_patch
    panel.scope.setCurrentText("this sample")
    panel.set_patch(Rectangle(x=5, y=6, width=30, height=30))
    settle()
    assert panel.patch == Rectangle(x=5, y=6, width=30, height=30)
    assert panel.common_patch == common
    assert "this sample's own" in panel._patch_text.text()
    assert panel.clear_exception.isVisible()
    panel.clear_exception.click()
    settle()
    assert panel.patch == common


def test_before_is_shown_while_the_key_is_held(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.go_to("correct")
    study.look_panel.display.set_range(-50, 900)
    settle()
    picture = study.area.picture
    picture.setFocus()
    after = frame(study)
    qtbot.keyPress(picture, Qt.Key.Key_B)
    settle()
    before = frame(study)
    qtbot.keyRelease(picture, Qt.Key.Key_B)
    settle()
    np.testing.assert_array_equal(frame(study), after)
    assert (before != after).any()


def test_a_missing_patch_is_said_where_it_belongs(
    study: Window, settle: Callable[[], None]
) -> None:
    study.go_to("correct")
    study.correct_panel.choose_kind("none")
    study.correct_panel.choose_kind("background.patch")
    settle()
    assert "drag a rectangle" in study.correct_panel._numbers.text()
    study.go_to("outline")
    settle()
    assert "drag a rectangle" in study.outline_panel._say.text()


def test_median_instead_of_mean(study: Window, settle: Callable[[], None], qtbot: QtBot) -> None:
    study.go_to("correct")
    settle()
    study.correct_panel.statistic.setCurrentText("median")
    study.correct_panel.statistic.activated.emit(1)
    settle()
    use = study.model.state.method.steps[0]
    assert use.parameters.model_dump()["statistic"] == "median"
    qtbot.waitUntil(lambda: study.jobs.idle, timeout=WAIT)
