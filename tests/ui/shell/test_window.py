"""Actions, search, jobs, messages, closing."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QMenu, QMessageBox, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from rilievo.core.errors import StudyError
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import save_study
from rilievo.core.wording.numbers import duration, parsed, rounded, shown, typed
from rilievo.ui.canvas.canvas_geometry import nice_length
from rilievo.ui.canvas.number_positions import put_numbers
from rilievo.ui.commands.actions import MENUS
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.panels.table.rows_model import decimals_for
from rilievo.ui.shell.window import Window
from rilievo.ui.widgets.search_list import matches
from tests.outlines import clean_up
from tests.ui.conftest import WAIT
from tests.ui.opening import open_study


def test_every_action_is_told_apart_and_in_a_menu(window: Window) -> None:
    actions = window.menus.entries
    assert len({action.id for action in actions}) == len(actions)
    shortcuts = [action.shortcut for action in actions if action.shortcut]
    assert len(set(shortcuts)) == len(shortcuts)
    assert {action.menu for action in actions} == set(MENUS)
    assert all(action.tip for action in actions)


def test_search_finds_and_runs_an_action(study: Window, qtbot: QtBot) -> None:
    study.menus.actions["edit.find"].trigger()
    assert study.search.isVisible()
    qtbot.keyClicks(study.search.field, "compare")
    texts = [study.search.list.item(i).text() for i in range(study.search.list.count())]
    assert any(text.startswith("Compare") for text in texts)
    row = next(i for i, text in enumerate(texts) if text.startswith("Compare"))
    study.search.list.setCurrentRow(row)
    qtbot.keyClick(study.search.field, Qt.Key.Key_Return)
    assert study.session.stage == "compare"
    assert not study.search.isVisible()
    assert matches("by fold", "Sample Group by folder")
    assert not matches("by xyz", "Sample Group by folder")


@pytest.mark.slow
def test_undo_reaches_back_to_the_beginning(study: Window, settle: Callable[[], None]) -> None:
    start = study.session.state
    study.session.go_to("outline")
    study.views.outline.clean.switch(0, False)
    study.views.outline.keep.setCurrentIndex(1)
    study.views.outline.keep.activated.emit(1)
    study.views.outline.classes.name.setText("droplet")
    study.views.outline.classes.take_name()
    study.commands.selection.group_by("folder")
    study.views.look.display.set_range(1, 2)
    assert study.session.undo_stack.count() == 5
    last = study.session.state
    while study.session.undo_stack.canUndo():
        study.session.undo_stack.undo()
    assert study.session.state == start
    while study.session.undo_stack.canRedo():
        study.session.undo_stack.redo()
    assert study.session.state == last
    settle()


@pytest.mark.slow
def test_every_control_can_be_reached_and_has_a_name(study: Window) -> None:
    nameless = []
    for stage in ("look", "correct", "outline", "measure", "compare"):
        study.session.go_to(stage)
        for button in study.findChildren(QPushButton):
            if button.isVisible() and not (button.text() or button.accessibleName()):
                nameless.append((stage, button.objectName()))
            if button.isVisible():
                assert button.focusPolicy() != Qt.FocusPolicy.NoFocus
    assert nameless == []


@pytest.mark.parametrize("dressed", [True])
@pytest.mark.slow
@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (1920, 1080)])
def test_nothing_is_wider_than_its_panel(
    study: Window, size: tuple[int, int], settle: Callable[[], None]
) -> None:
    study.resize(*size)
    for stage in ("look", "correct", "outline", "measure", "compare"):
        study.session.go_to(stage)
        settle()
        panel = study.pages.panel
        assert isinstance(panel, QWidget)
        body = panel.widget()  # type: ignore[attr-defined]
        assert body.minimumSizeHint().width() <= panel.viewport().width()  # type: ignore[attr-defined]
        for button in study.findChildren(QPushButton):
            if button.isVisible() and button.text():
                assert button.width() >= button.fontMetrics().horizontalAdvance(button.text())


def test_errors_are_shown_in_place(window: Window, tmp_path: Path) -> None:
    (tmp_path / "bad.rilievo").write_text("x")
    open_study(window, tmp_path / "bad.rilievo")
    assert "bad.rilievo" in window.views.notice.text
    (tmp_path / "bad.json").write_text("{}")
    window.commands.method_file.load_method(tmp_path / "bad.json")
    assert "bad.json" in window.views.notice.text
    assert not window.commands.study.save_to(tmp_path / "no folder" / "x.rilievo")
    assert "x.rilievo" in window.views.notice.text


@pytest.fixture
def left(
    window: Window,
    add: Callable[..., Window],
    write_tiff: Callable[..., Path],
    blobs: np.ndarray,
    tmp_path: Path,
) -> list[Path]:
    """Two images of a study that was saved as s.rilievo and left."""
    paths = [write_tiff(f"a-{n}.tif", blobs) for n in (1, 2)]
    add(*paths)
    window.commands.study.save_to(tmp_path / "s.rilievo")
    window.session.clear()
    return paths


def test_a_study_whose_image_is_gone_says_so_and_shows_the_rest(
    window: Window, left: list[Path], tmp_path: Path, settle: Callable[[], None]
) -> None:
    left[0].unlink()
    open_study(window, tmp_path / "s.rilievo")
    settle()
    assert "a-1.tif" in window.views.notice.text
    assert len(window.compute.store.samples) == 1


def test_a_changed_image_is_pointed_out(
    window: Window,
    left: list[Path],
    write_tiff: Callable[..., Path],
    blobs: np.ndarray,
    tmp_path: Path,
    settle: Callable[[], None],
) -> None:
    write_tiff("a-1.tif", blobs + 1)
    open_study(window, tmp_path / "s.rilievo")
    settle()
    found = [(c.sample, c.kind) for c in window.compute.checks.all() if c.kind != "few levels"]
    assert found == [("a-1", "changed file")]


def test_opening_another_study_shows_nothing_of_the_first(
    study: Window, lipid: Path, settle: Callable[[], None], write_tiff: Callable[..., Path],
    blobs: np.ndarray, tmp_path: Path, qtbot: QtBot,
) -> None:  # fmt: skip
    study.session.go_to("outline")
    study.compute.queue.refresh()
    save_study(StudyState().with_files([write_tiff("x.tif", blobs)]), tmp_path / "x.rilievo")
    open_study(study, tmp_path / "x.rilievo")
    settle()
    assert len(study.views.drawer.tiles) == 1
    facts = study.compute.queue.focused
    assert facts is not None
    assert facts.regions
    assert facts.regions[0].labels.shape == blobs.shape
    assert list(study.compute.store.samples) == [1]


def test_recent_studies_and_layout_are_remembered(
    study: Window, tmp_path: Path, lipid: Path
) -> None:
    assert study.commands.study.recent() == [lipid.absolute()]
    study.commands.study.save_to(tmp_path / "b.rilievo")
    assert study.commands.study.recent()[0] == (tmp_path / "b.rilievo").absolute()
    titles = {menu.title(): menu for menu in study.findChildren(QMenu)}
    titles["Recent studies"].aboutToShow.emit()
    listed = [action.text() for action in titles["Recent studies"].actions()]
    assert listed == [f"b – {tmp_path}", f"lipid – {lipid.parent}"]


@pytest.mark.slow
@pytest.mark.parametrize(
    ("answer", "closed", "saved"),
    [("Cancel", False, False), ("Discard", True, False), ("Save", True, True)],
)
def test_unsaved_changes_are_asked_about(
    study: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
    answer: str, closed: bool, saved: bool,
) -> None:  # fmt: skip
    path = tmp_path / "mine.rilievo"
    study.commands.study.save_to(path)
    before = path.read_bytes()
    study.compute.session.change_class("change", clean=clean_up(True, 5.0))
    study.commands.study.asks_before_leaving = True
    monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton[answer])
    assert study.close() is closed
    assert (path.read_bytes() != before) is saved
    study.commands.study.asks_before_leaving = False


def test_a_newer_request_replaces_one_that_waits(qtbot: QtBot) -> None:
    jobs, gate, done = Jobs(), threading.Event(), []
    jobs.run("slot", lambda: (gate.wait(5), 1)[1], done.append)
    for number in (2, 3, 4):
        jobs.run("slot", lambda number=number: number, done.append)
    gate.set()
    qtbot.waitUntil(lambda: jobs.idle, timeout=WAIT)
    assert done == [4]
    jobs.run("slot", lambda: (gate.wait(5), 1)[1], done.append, every=True)
    jobs.run("slot", lambda: 2, done.append, every=True)
    qtbot.waitUntil(lambda: jobs.idle, timeout=WAIT)
    assert done == [4, 1, 2]
    jobs.close()
    jobs.run("slot", lambda: 9, done.append)
    assert done == [4, 1, 2]


def test_files_that_were_asked_for_are_written_before_jobs_are_closed(
    qtbot: QtBot, caplog: pytest.LogCaptureFixture
) -> None:
    jobs, gate, done = Jobs(threads=1), threading.Event(), []

    def fail() -> None:
        raise StudyError("no room on the drive")

    jobs.run("slow", lambda: gate.wait(60), done.append)
    # None of these can begin before the first one ends.
    jobs.run("other", lambda: done.append("other"), done.append)
    jobs.run("write a", lambda: done.append("a"), done.append, every=True)
    jobs.run("write a", lambda: done.append("a again"), done.append, every=True)
    jobs.run("write b", fail, done.append, done.append)
    threading.Timer(0.2, gate.set).start()
    with caplog.at_level(logging.ERROR, logger="rilievo"):
        jobs.close()
    assert done == ["a", "a again"]
    assert "no room on the drive" in caplog.text


def test_errors_of_jobs_reach_their_asker(qtbot: QtBot) -> None:
    jobs, heard = Jobs(), []

    def fail() -> None:
        raise StudyError("a sentence")

    jobs.run("slot", fail, heard.append, heard.append)
    qtbot.waitUntil(lambda: bool(heard), timeout=WAIT)
    assert str(heard[0]) == "a sentence"
    jobs.close()


@given(
    st.lists(
        st.tuples(st.floats(0, 700), st.floats(0, 500), st.floats(1, 80), st.floats(1, 80)),
        max_size=25,
    )
)
def test_numbers_never_stand_on_a_region_or_each_other(
    boxes: list[tuple[float, float, float, float]],
) -> None:
    ids = list(range(1, len(boxes) + 1))
    found = put_numbers(
        ids, np.array(boxes).reshape(-1, 4), [(20.0, 14.0)] * len(ids), (0.0, 0.0, 800.0, 600.0)
    )
    rectangles = [(p.left, p.top, p.width, p.height) for p in found]
    for i, a in enumerate(rectangles):
        assert a[0] >= 0
        assert a[1] >= 0
        assert a[0] + a[2] <= 800
        for b in [*boxes, *rectangles[:i]]:
            apart = (
                a[0] >= b[0] + b[2] or b[0] >= a[0] + a[2]
                or a[1] >= b[1] + b[3] or b[1] >= a[1] + a[3]
            )  # fmt: skip
            assert apart
    if len(boxes) == 1:
        assert len(found) == 1


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (1234567.0, "1\u202f234\u202f567"),
        (0.0, "0"),
        (-3.25, "\u22123.250"),
        (12.345678, "12.35"),
        (float("nan"), "–"),
        (float("inf"), "∞"),
        (1.25e-7, "1.250e\u221207"),
        (1204, "1\u202f204"),
    ],
)
def test_numbers_are_shown_with_sensible_digits(value: float, text: str) -> None:
    assert shown(value) == text


@given(st.floats(-1e9, 1e9))
def test_what_is_shown_in_a_field_can_be_typed_again(value: float) -> None:
    again = parsed(typed(value))
    assert again == pytest.approx(value, rel=1e-6, abs=1e-9)


def test_digits_follow_the_span_and_not_the_size() -> None:
    assert rounded(10_000_123.456, 900.0) == 10_000_123.46
    assert rounded(344.661234, 1200.0) == 344.7
    assert rounded(0.123456789, 1.0) == 0.1235
    assert rounded(5.5, 0.0) == 5.5
    assert parsed(typed(10_000_123.46)) == 10_000_123.46


def test_large_offsets_keep_their_levels(
    add: Callable[..., Window], write_tiff: Callable[..., Path], settle: Callable[[], None]
) -> None:
    rng = np.random.default_rng(0)
    pixels = np.where(rng.random((40, 40)) < 0.2, 400, 100) + rng.integers(0, 20, (40, 40))
    window = add(write_tiff("far.tif", (pixels + 10_000_000).astype(np.uint32)))
    low, high = (
        field.value for field in (window.views.look.display.low, window.views.look.display.high)
    )
    assert low is not None
    assert high is not None
    assert 200 < high - low < 400
    window.session.go_to("outline")
    settle()
    found = window.compute.queue.focused
    assert found is not None
    assert found.regions
    window.views.outline.level.take_way("hand")
    settle()
    by_hand = window.compute.queue.focused
    assert by_hand is not None
    assert by_hand.regions
    np.testing.assert_array_equal(by_hand.regions[0].labels, found.regions[0].labels)


def test_limits_in_units_can_be_left_without_a_pixel_size(
    add: Callable[..., Window], write_tiff: Callable[..., Path], blobs: np.ndarray,
    settle: Callable[[], None],
) -> None:  # fmt: skip
    window = add(write_tiff("a.tif", blobs))
    window.compute.session.change_class("units", clean=clean_up(True, 5.0, None, "unit"))
    window.session.go_to("outline")
    settle()
    assert "give the limits in pixels" in window.views.outline.say.text()
    window.views.outline.clean.change(1, "quantity", "area")
    settle()
    facts = window.compute.queue.focused
    assert facts is not None
    assert facts.error is None
    assert window.session.focus.outline.clean[1].parameters.model_dump()["quantity"] == "area"


def test_the_next_study_begins_with_nothing_chosen(
    study: Window, settle: Callable[[], None], lipid: Path
) -> None:
    study.session.focus.choose_also([2, 3])
    assert len(study.session.focus.chosen) == 3
    checks = study.views.status.checks.text()
    open_study(study, lipid)
    settle()
    assert len(study.session.focus.chosen) == 1
    study.session.focus.choose_also([entry.id for entry in study.session.state.samples][1:])
    study.commands.selection.remove_samples()
    settle()
    assert study.views.status.checks.isHidden()
    study.session.undo_stack.undo()
    settle()
    assert study.views.status.checks.text() == checks


def test_typed_numbers() -> None:
    assert parsed("1 204,5") == 1204.5
    assert parsed("\u22123") == -3
    assert parsed("many") is None
    assert parsed("inf") is None
    assert parsed("nan") is None
    assert [duration(s) for s in (0.2, 59, 61, 600)] == ["1 s", "59 s", "1 min", "10 min"]
    assert [nice_length(v) for v in (110, 0.07, 5, 49.9)] == pytest.approx([100, 0.05, 5, 20])
    assert decimals_for(np.array([1.0, 2.0, np.nan])) == 0
    assert decimals_for(np.array([1000.5])) == 1
