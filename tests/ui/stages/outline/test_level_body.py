"""Thresholds and regions through the window."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from pytestqt.qtbot import QtBot

from rilievo.core.pipeline.analysis import Analysis
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT

pytestmark = pytest.mark.slow


def frame(window: Window) -> np.ndarray:
    image = window.views.area.picture.image
    assert image is not None
    image = image.convertToFormat(QImage.Format.Format_RGB888)
    bits = image.constBits()
    assert bits is not None
    data = np.frombuffer(bits.asarray(image.sizeInBytes()), np.uint8)
    rows = data.reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).copy()


def test_threshold_moves_every_tile(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    settle()
    before = [tile.region_count for tile in study.views.drawer.tiles]
    study.views.ridges.drag_marker("threshold", to=900)
    settle()
    after = [tile.region_count for tile in study.views.drawer.tiles]
    assert after != before
    assert sum(c or 0 for c in after) < sum(c or 0 for c in before)


def test_while_dragging_the_picture_follows_before_the_regions(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    settle()
    method, still = study.session.state.method, frame(study)
    # On a busy machine the marker would come to rest before the picture is there.
    study.compute.drag.rest.setInterval(10 * WAIT)
    study.compute.drag.begin()
    study.compute.drag.preview(900.0)
    qtbot.waitUntil(lambda: bool((frame(study) != still).any()), timeout=WAIT)
    assert study.session.state.method == method, "nothing is decided while the marker moves"
    study.compute.drag.rest.start(0)
    settle()
    assert study.session.state.method.outline.threshold.parameters.model_dump() == {"level": 900.0}


def test_outlines_follow_on_the_other_channel_too(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    study.session.focus.set(channel="lipid dye")
    settle()
    still = frame(study)
    tiles = [tile.image for tile in study.views.drawer.tiles]
    study.compute.drag.begin()
    study.compute.drag.rest.setInterval(100_000)
    study.compute.drag.preview(900.0)
    qtbot.waitUntil(lambda: study.jobs.idle, timeout=WAIT)
    assert (frame(study) != still).any()
    assert all(a != b.image for a, b in zip(tiles, study.views.drawer.tiles, strict=True))
    study.compute.drag.commit()
    settle()


def test_one_drag_is_one_entry_to_undo(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    start = study.session.state.method
    stack = study.session.undo_stack
    study.compute.drag.begin()
    for level in (300.0, 310.0, 320.0):
        study.compute.drag.preview(level)
        study.compute.drag.commit()
    study.compute.drag.begin()
    study.compute.drag.preview(500.0)
    study.compute.drag.commit()
    assert stack.count() == 2
    stack.undo()
    assert study.session.state.method.outline.threshold.parameters.model_dump() == {"level": 320.0}
    stack.undo()
    assert study.session.state.method == start
    stack.redo()
    assert study.compute.session.state.method != start
    settle()


def test_number_field_sets_the_threshold_and_refuses_words(
    study: Window, settle: Callable[[], None]
) -> None:
    study.session.go_to("outline")
    settle()
    field = study.views.outline.level.threshold
    field.enter("412,5")
    settle()
    assert study.compute.regions.level(study.session.focus.sample_id) == 412.5
    field.enter("many")
    assert field.property("wrong")
    assert study.compute.regions.level(study.session.focus.sample_id) == 412.5


def test_automatic_differs_by_sample_and_by_hand_does_not(
    study: Window, settle: Callable[[], None]
) -> None:
    study.session.go_to("outline")
    settle()
    ids = [entry.id for entry in study.session.state.samples]
    assert len({study.compute.regions.level(i) for i in ids}) > 6
    study.views.outline.level.take_way("hand")
    settle()
    assert len({study.compute.regions.level(i) for i in ids}) == 1
    study.views.outline.level.take_way("between_class_variance")
    settle()
    assert len({study.compute.regions.level(i) for i in ids}) > 6


def test_click_selects_delete_rejects_undo_restores(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    settle()
    regions = study.compute.regions.focused
    assert regions is not None
    ids = regions.ids.tolist()
    x, y = (round(v) for v in regions.centres[2])
    index = study.views.area.picture.to_widget(x, y).toPoint()
    qtbot.mouseClick(study.views.area.picture, Qt.MouseButton.LeftButton, pos=index)
    assert study.session.focus.regions == {ids[2]}
    study.menus.actions["regions.reject"].trigger()
    settle()
    after = study.compute.regions.focused
    assert after is not None
    assert after.ids.tolist() == [i for i in ids if i != ids[2]]
    study.session.undo_stack.undo()
    settle()
    again = study.compute.regions.focused
    assert again is not None
    assert again.ids.tolist() == ids


def test_restoring_takes_back_all_rejections(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    settle()
    for _ in range(2):
        study.commands.selection.step_region(1)
        study.region_editor.by_hand.edit_selected("reject")
        settle()
    assert study.views.outline.hand.restore.text() == "Take back 2 edits by hand"
    study.views.outline.hand.restore.click()
    settle()
    assert study.session.state.method.exceptions.keys() <= {"starved-3"}


def test_keys_step_through_the_regions(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    settle()
    regions = study.compute.regions.focused
    assert regions is not None
    ids = regions.ids.tolist()
    study.commands.selection.step_region(1)
    assert study.session.focus.regions == {ids[0]}
    study.commands.selection.step_region(1)
    assert study.session.focus.regions == {ids[1]}
    study.commands.selection.step_region(-1)
    study.commands.selection.step_region(-1)
    assert study.session.focus.regions == {ids[-1]}


def test_nothing_found_says_where_something_is(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    panel = study.views.outline
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
    study.session.go_to("outline")
    settle()
    before = [tile.region_count for tile in study.views.drawer.tiles]
    study.views.outline.clean.change(2, "quantity", "area")
    settle()
    limits = study.session.focus.outline.clean[2].parameters.model_dump()
    assert limits["quantity"] == "area"
    assert limits["lower"] == pytest.approx(20 / 0.32**2, rel=1e-3)
    assert [tile.region_count for tile in study.views.drawer.tiles] == before


def test_the_window_stays_usable_while_all_is_measured(
    study: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    original = Analysis.table

    def slow(*args: object) -> object:
        time.sleep(0.05)
        return original(*args)  # type: ignore[arg-type]

    monkeypatch.setattr(Analysis, "table", slow)
    heard: list[tuple[int, int, float]] = []
    study.compute.batch.progressed.connect(lambda *a: heard.append(a))
    with qtbot.waitSignal(study.compute.batch.measured, timeout=WAIT):
        study.commands.measure.measure_all()
        qtbot.waitUntil(lambda: len(heard) >= 4, timeout=WAIT)
        study.session.go_to("look")
        study.commands.selection.step_sample(1)
        assert study.views.status.progress.isVisible()
        assert "left" in study.views.status.progress_text.text()
    assert [done for done, _, _ in heard] == list(range(13))
    assert heard[3][2] > 0


def test_cancel_stops_and_keeps_what_is_done(study: Window, qtbot: QtBot) -> None:
    def stop_after_three(done: int, *_: object) -> None:
        if done == 3:
            study.compute.batch.cancel()

    study.compute.batch.progressed.connect(stop_after_three)
    with qtbot.waitSignal(study.compute.batch.measured, timeout=WAIT) as caught:
        study.commands.measure.measure_all()
    assert caught.args == [False]
    assert len(study.session.measurements.tables) == 3
    assert "cancelled" in study.views.notice.text
