"""What would change the answer, through the window."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtGui import QGuiApplication
from pytestqt.qtbot import QtBot

from rilievo.core.method.method import checked_copy
from rilievo.core.report.sensitivity import alternatives
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT

pytestmark = pytest.mark.slow

_TRIED = ("As it is", "Threshold +10 %", "Threshold −10 %")


def test_choices_are_tried_shown_and_become_stale(
    measured: Window,
    qtbot: QtBot,
    settle: Callable[[], None],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    # All of them are tried in the tests of the core; each measures every sample anew.
    monkeypatch.setattr(
        "rilievo.core.report.sensitivity.alternatives",
        lambda method, question: [
            one for one in alternatives(method, question) if one.title in _TRIED
        ],
    )
    measured.session.go_to("compare")
    settle()
    page = measured.views.comparison.choices
    measured.menus.actions["compare.choices"].trigger()
    assert measured.views.comparison.view == "choices"
    qtbot.waitUntil(lambda: bool(page.results), timeout=WAIT)
    settle()
    rows = [page.table.item(row, 0).text() for row in range(page.table.rowCount())]
    assert "As it is" in rows
    assert "Threshold +10 %" in rows
    differences = [one.difference for one in page.results if one.second == "low-nitrogen"]
    shown = [page.table.item(row, 2).text() for row in range(page.table.rowCount())]
    assert len(shown) == len(differences)
    assert page.pair.count() == 2
    page.pair.setCurrentIndex(1)
    page.pair.activated.emit(1)
    assert "starved − replete" in page.said.text()
    page.copy.click()
    board = QGuiApplication.clipboard()
    assert board is not None
    assert board.text().startswith("quantity\tchannel\tclass\tkind\tchoice\t")
    assert page.stale.isHidden()
    method = measured.session.state.method
    first = method.outlines[0]
    measured.session.change_method(
        "other", method.changed(outlines=(checked_copy(first, connectivity=4),))
    )
    settle()
    assert "try again" in page.stale.text()
