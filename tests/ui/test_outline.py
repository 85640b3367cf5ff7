"""Thresholds and regions through the window."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from pytestqt.qtbot import QtBot

from rilievo.ui.window import Window
from tests.ui.conftest import WAIT


def frame(window: Window) -> np.ndarray:
    image = window.area.picture.image
    assert image is not None
    image = image.convertToFormat(QImage.Format.Format_RGB888)
    bits = image.constBits()
    assert bits is not None
    data = np.frombuffer(bits.asarray(image.sizeInBytes()), np.uint8)
    rows = data.reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).copy()


def test_threshold_moves_every_tile(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("outline")
    settle()
    before = [tile.region_count for tile in study.drawer.tiles]
    study.ridges.drag_marker("threshold", to=900)
    settle()
    after = [tile.region_count for tile in study.drawer.tiles]
    assert after != before
    assert sum(c or 0 for c in after) < sum(c or 0 for c in before)


def test_while_dragging_the_picture_follows_before_the_regions(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.go_to("outline")
    settle()
    method, still = study.model.state.method, frame(study)
    study.bench.drag.begin()
    study.bench.drag.preview(900.0)
    qtbot.waitUntil(lambda: bool((frame(study) != still).any()), timeout=WAIT)
    assert study.model.state.method == method, "nothing is decided while the marker moves"
    settle()
    assert study.model.state.method.outline.threshold.parameters.model_dump() == {"level": 900.0}


def test_outlines_follow_on_the_other_channel_too(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.go_to("outline")
    study.model.focus(channel="lipid dye")
    settle()
    still = frame(study)
    tiles = [tile.image for tile in study.drawer.tiles]
    study.bench.drag.begin()
    study.bench.drag.rest.setInterval(100_000)
    study.bench.drag.preview(900.0)
    qtbot.waitUntil(lambda: study.jobs.idle, timeout=WAIT)
    assert (frame(study) != still).any()
    assert all(a != b.image for a, b in zip(tiles, study.drawer.tiles, strict=True))
    study.bench.drag.commit()
    settle()


def test_one_drag_is_one_entry_to_undo(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("outline")
    start = study.model.state.method
    stack = study.model.undo_stack
    study.bench.drag.begin()
    for level in (300.0, 310.0, 320.0):
        study.bench.drag.preview(level)
        study.bench.drag.commit()
    study.bench.drag.begin()
    study.bench.drag.preview(500.0)
    study.bench.drag.commit()
    assert stack.count() == 2
    stack.undo()
    assert study.model.state.method.outline.threshold.parameters.model_dump() == {"level": 320.0}
    stack.undo()
    assert study.model.state.method == start
    stack.redo()
    assert study.bench.model.state.method != start
    settle()


def test_number_field_sets_the_threshold_and_refuses_words(
    study: Window, settle: Callable[[], None]
) -> None:
    study.go_to("outline")
    settle()
    field = study.outline_panel.level.threshold
    field.enter("412,5")
    settle()
    assert study.bench.level(study.model.sample_id) == 412.5
    field.enter("many")
    assert field.property("wrong")
    assert study.bench.level(study.model.sample_id) == 412.5


def test_automatic_differs_by_sample_and_by_hand_does_not(
    study: Window, settle: Callable[[], None]
) -> None:
    study.go_to("outline")
    settle()
    ids = [entry.id for entry in study.model.state.samples]
    assert len({study.bench.level(i) for i in ids}) > 6
    study.outline_panel.level.take_way("hand")
    settle()
    assert len({study.bench.level(i) for i in ids}) == 1
    study.outline_panel.level.take_way("between_class_variance")
    settle()
    assert len({study.bench.level(i) for i in ids}) > 6


def test_click_selects_delete_rejects_undo_restores(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.go_to("outline")
    settle()
    regions = study.bench.focused_regions
    assert regions is not None
    ids = regions.ids.tolist()
    x, y = (round(v) for v in regions.centres[2])
    place = study.area.picture.to_widget(x, y).toPoint()
    qtbot.mouseClick(study.area.picture, Qt.MouseButton.LeftButton, pos=place)
    assert study.model.regions == {ids[2]}
    study.actions_by_id["regions.reject"].trigger()
    settle()
    after = study.bench.focused_regions
    assert after is not None
    assert after.ids.tolist() == [i for i in ids if i != ids[2]]
    study.model.undo_stack.undo()
    settle()
    again = study.bench.focused_regions
    assert again is not None
    assert again.ids.tolist() == ids


def test_restoring_takes_back_all_rejections(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("outline")
    settle()
    for _ in range(2):
        study.choosing.step_region(1)
        study.outlining.edit_selected("reject")
        settle()
    assert study.outline_panel.hand.restore.text() == "Take back 2 edits by hand"
    study.outline_panel.hand.restore.click()
    settle()
    assert study.model.state.method.exceptions.keys() <= {"starved-3"}


def test_keys_step_through_the_regions(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("outline")
    settle()
    regions = study.bench.focused_regions
    assert regions is not None
    ids = regions.ids.tolist()
    study.choosing.step_region(1)
    assert study.model.regions == {ids[0]}
    study.choosing.step_region(1)
    assert study.model.regions == {ids[1]}
    study.choosing.step_region(-1)
    study.choosing.step_region(-1)
    assert study.model.regions == {ids[-1]}


def test_nothing_found_says_where_something_is(study: Window, settle: Callable[[], None]) -> None:
    study.go_to("outline")
    panel = study.outline_panel
    panel.level.threshold.enter("60000")
    settle()
    assert "something is found between" in panel.say.text()
    panel.level.threshold.enter("-60000")
    settle()
    assert "Everything is kept" in panel.say.text()
    panel.level.threshold.enter("300")
    form = panel.clean.rows[2].form
    assert form is not None
    form.fields["lower"].entered.emit(399.0)
    settle()
    assert "left out by the clean-up" in panel.say.text()
    form.fields["upper"].entered.emit(10.0)
    assert "upper limit below" in panel.say.text()


def test_areas_keep_their_meaning_when_the_unit_changes(
    study: Window, settle: Callable[[], None]
) -> None:
    study.go_to("outline")
    settle()
    before = [tile.region_count for tile in study.drawer.tiles]
    study.outline_panel.clean.change(2, "quantity", "area")
    settle()
    limits = study.model.outline.clean[2].parameters.model_dump()
    assert limits["quantity"] == "area"
    assert limits["lower"] == pytest.approx(20 / 0.32**2, rel=1e-3)
    assert [tile.region_count for tile in study.drawer.tiles] == before


def test_the_window_stays_usable_while_all_is_measured(
    study: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    original = type(study.bench.evaluator).measure

    def slow(*args: object) -> object:
        time.sleep(0.05)
        return original(*args)  # type: ignore[arg-type]

    monkeypatch.setattr(type(study.bench.evaluator), "measure", slow)
    heard: list[tuple[int, int, float]] = []
    study.bench.measuring.connect(lambda *a: heard.append(a))
    with qtbot.waitSignal(study.bench.measured, timeout=WAIT):
        study.measure_all()
        qtbot.waitUntil(lambda: len(heard) >= 4, timeout=WAIT)
        study.go_to("look")
        study.choosing.step_sample(1)
        assert study.status._progress.isVisible()
        assert "left" in study.status._progress_text.text()
    assert [done for done, _, _ in heard] == list(range(13))
    assert heard[3][2] > 0


def test_cancel_stops_and_keeps_what_is_done(study: Window, qtbot: QtBot) -> None:
    def stop_after_three(done: int, *_: object) -> None:
        if done == 3:
            study.bench.cancel_measuring()

    study.bench.measuring.connect(stop_after_three)
    with qtbot.waitSignal(study.bench.measured, timeout=WAIT) as caught:
        study.measure_all()
    assert caught.args == [False]
    assert len(study.model.tables) == 3
    assert "cancelled" in study.notice.text
