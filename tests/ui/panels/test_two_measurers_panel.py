"""Two measurers through the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT

pytestmark = pytest.mark.slow


def test_another_method_is_chosen_and_compared(
    measured: Window,
    tmp_path: Path,
    qtbot: QtBot,
    settle: Callable[[], None],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    method = measured.session.state.method
    other = tmp_path / "other.json"
    method.changed(outlines=(method.outlines[0].model_copy(update={"connectivity": 4}),)).save(
        other
    )
    monkeypatch.setattr(measured.commands.context.dialogs, "ask_file", lambda *_: other)
    measured.menus.actions["compare.twice"].trigger()
    page = measured.views.comparison.twice
    assert measured.views.comparison.view == "twice"
    qtbot.waitUntil(lambda: page.found is not None, timeout=WAIT)
    settle()
    assert page.plot.is_drawn
    assert "of them are the same" in page.said.text()
    assert page.found is not None
    assert len(page.found.samples) == len(measured.session.state.samples)
    folder = tmp_path / "out"
    monkeypatch.setattr(measured.commands.context.dialogs, "ask_folder", lambda *_: folder)
    page.save.click()
    qtbot.waitUntil((folder / "agreement.svg").is_file, timeout=WAIT)
    other.write_text("{")
    measured.commands.compare.measure_twice(other)
    qtbot.waitUntil(lambda: page.found is None, timeout=WAIT)
    assert "other.json" in page.said.text() or "JSON" in page.said.text()
