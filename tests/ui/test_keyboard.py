"""Everything has a name and can be worked by keys; a whole measurement without a mouse."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QLabel,
    QMenuBar,
    QScrollBar,
    QSplitterHandle,
    QWidget,
)
from pytestqt.qtbot import QtBot

from rilievo.ui.session.study_session import STAGES
from rilievo.ui.shell.window import Window
from rilievo.ui.widgets.card import Card
from tests.ui.conftest import WAIT

Key = Qt.Key


def nameless(window: Window) -> set[str]:
    """Controls that keys reach and that nobody who does not see them could tell apart."""
    found = set()
    for widget in window.findChildren(QWidget):
        if not widget.isVisible() or isinstance(widget, QScrollBar | QMenuBar | QSplitterHandle):
            continue
        texts = isinstance(widget, QAbstractButton | QLabel) and widget.text()
        if widget.focusPolicy() & Qt.FocusPolicy.TabFocus and not (
            widget.accessibleName() or texts
        ):
            parent = widget.parentWidget()
            place = parent.objectName() if parent is not None else ""
            found.add(f"{type(widget).__name__} in {type(parent).__name__} {place}")
        if isinstance(widget, QAbstractButton) and not widget.text() and not widget.toolTip():
            found.add(f"no tooltip: {widget.accessibleName()}")
    return found


@pytest.mark.slow
def test_every_control_has_a_name(measured: Window, settle: Callable[[], None]) -> None:
    found: set[str] = set()
    for stage in STAGES:
        measured.session.go_to(stage)
        settle()
        panel = measured.pages.panel
        assert panel is not None
        for card in panel.findChildren(Card):
            if card.can_fold and card.isVisible():
                card.open()
            found |= nameless(measured)
        tabs = measured.views.drawer.tabs
        for k in range(tabs.count()):
            if tabs.isTabVisible(k):
                tabs.setCurrentIndex(k)
                found |= nameless(measured)
    measured.session.go_to("correct")
    for step_id in list(measured.views.correct.cards):
        measured.views.correct.open_card(step_id)
        settle()
        found |= nameless(measured)
    assert found == set()


def test_flags_are_moved_by_keys_and_told(
    study: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    study.session.go_to("outline")
    settle()
    flags = study.views.ridges.flags
    level = study.compute.regions.level(study.session.focus.sample_id)
    assert level is not None
    flags.setFocus()
    qtbot.keyClick(flags, Key.Key_Right)
    settle()
    moved = study.compute.regions.level(study.session.focus.sample_id)
    assert moved is not None and level < moved < level + 40
    qtbot.keyClick(flags, Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    settle()
    farther = study.compute.regions.level(study.session.focus.sample_id)
    assert farther is not None
    assert farther - moved == pytest.approx(10 * (moved - level), rel=0.2)
    assert flags.accessibleDescription().startswith("threshold at ")
    # Of the two ends of the display range, Down chooses the other.
    study.session.go_to("look")
    settle()
    qtbot.keyClick(flags, Key.Key_Down)
    first = flags.accessibleDescription()
    qtbot.keyClick(flags, Key.Key_Down)
    assert flags.accessibleDescription() != first


def test_dots_of_a_comparison_are_walked_and_looked_at(measured: Window, qtbot: QtBot) -> None:
    measured.session.go_to("compare")
    plot = measured.views.comparison.plot
    qtbot.waitUntil(lambda: bool(plot.dots), timeout=WAIT)
    plot.setFocus()
    chosen = []
    plot.dot_chosen.connect(chosen.append)
    qtbot.keyClick(plot, Key.Key_Right)
    first = plot.accessibleDescription()
    qtbot.keyClick(plot, Key.Key_Right)
    assert plot.accessibleDescription() != first and "region" not in first
    qtbot.keyClick(plot, Key.Key_Left)
    assert plot.accessibleDescription() == first
    qtbot.keyClick(plot, Key.Key_Return)
    assert [dot.region for dot in chosen] == [0] and first.startswith(chosen[0].sample)


def test_a_step_is_moved_by_its_handle(study: Window, qtbot: QtBot) -> None:
    study.session.go_to("correct")
    study.views.correct.add_step("smooth.gaussian")
    before = [use.id for use in study.session.state.method.steps]
    qtbot.waitUntil(lambda: list(study.views.correct.cards) == before, timeout=WAIT)
    handle = study.views.correct.cards[before[-1]].handle
    handle.setFocus()
    qtbot.keyClick(handle, Key.Key_Up)
    after = [use.id for use in study.session.state.method.steps]
    assert after == [*before[:-2], before[-1], before[-2]]


def test_prints_are_walked_chosen_and_explained(
    measured: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    measured.views.drawer.show_tab("Prints")
    settle()
    prints = measured.views.drawer.prints
    qtbot.waitUntil(lambda: len(prints.cells) > 3, timeout=WAIT)
    grid, numbers = prints.grid, []
    prints.number_chosen.connect(lambda *number: numbers.append(number))
    grid.setFocus()
    qtbot.keyClick(grid, Key.Key_Right)
    cell = prints.cells[1]
    assert grid.accessibleDescription() == f"{cell.label}: {cell.value}"
    qtbot.keyClick(grid, Key.Key_Space)
    assert cell.region in measured.session.focus.chosen_by_name()[cell.sample]
    qtbot.keyClick(grid, Key.Key_Return)
    assert numbers[-1][:2] == (cell.sample, cell.region)
    qtbot.keyClick(grid, Key.Key_Down)
    qtbot.keyClick(grid, Key.Key_Up)
    assert prints._walked == 1


@pytest.mark.slow
def test_a_whole_measurement_by_keys(
    window: Window,
    write_tiff: Callable[..., Path],
    blobs: np.ndarray,
    qtbot: QtBot,
    settle: Callable[[], None],
    tmp_path: Path,
) -> None:
    """From files to a saved table; only what a dialog of the desktop asks is answered for it."""
    paths = [write_tiff(f"{g}_{k}.tif", blobs + 5 * k) for g in ("a", "b") for k in (1, 2)]
    dialogs = window.commands.images._context.dialogs
    qtbot.waitExposed(window)

    def press(key: Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        target = QApplication.focusWidget() or window
        qtbot.keyClick(target, key, modifier)

    control = Qt.KeyboardModifier.ControlModifier
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(type(dialogs), "ask_files", lambda *_: paths)
        press(Key.Key_O, control)
        qtbot.waitUntil(lambda: window.views.intake.isVisible() and window.jobs.idle, timeout=WAIT)
        press(Key.Key_Return)
    qtbot.waitUntil(lambda: len(window.session.state.samples) == 4, timeout=WAIT)
    settle()
    press(Key.Key_3, control)
    assert window.session.stage == "outline"
    starters = window.views.outline.starters
    qtbot.waitUntil(
        lambda: bool(starters.buttons) and all("\n" in b.text() for b in starters.buttons.values()),
        timeout=WAIT,
    )
    for _ in range(200):
        if QApplication.focusWidget() is starters.buttons["bright"]:
            break
        press(Key.Key_Tab)
    assert QApplication.focusWidget() is starters.buttons["bright"]
    press(Key.Key_Space)
    assert window.session.state.method.name == "Bright things on dark"
    settle()

    def tables() -> list[int]:
        return list(window.session.measurements.tables)

    press(Key.Key_M, control)
    qtbot.waitUntil(
        lambda: (
            len(window.session.measurements.tables) == 4 and not window.compute.batch.is_running
        ),
        timeout=WAIT,
    )
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(
            type(dialogs), "ask_name_of", lambda *a: (tmp_path / "t.csv", next(iter(a[3].values())))
        )
        press(Key.Key_E, control)
        qtbot.waitUntil((tmp_path / "t.csv").exists, timeout=WAIT)
    assert (tmp_path / "t.csv").read_text().count("\n") == 1 + 4 * 2
    press(Key.Key_5, control)
    qtbot.waitUntil(lambda: bool(window.views.comparison.plot.dots), timeout=WAIT)
