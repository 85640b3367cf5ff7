"""The light of all samples through the window: a frame, and steps that use it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from rilievo.core.pipeline.analysis import Analysis
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT


def test_the_light_is_saved_and_divided_by(
    window: Window, write_tiff: Callable[..., Path], add: Callable[..., Window], tmp_path: Path,
    qtbot: QtBot, settle: Callable[[], None], monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    rng = np.random.default_rng(1)
    light = np.broadcast_to(1 - 0.4 * np.linspace(-1, 1, 80) ** 2, (60, 80))
    pictures = [100 + light * 500 + rng.normal(0, 2, light.shape) for _ in range(6)]
    add(*(write_tiff(f"{k}.tif", p.astype(np.uint16)) for k, p in enumerate(pictures)))
    frame = tmp_path / "light.tif"
    dialogs = window.commands.context.dialogs
    monkeypatch.setattr(dialogs, "ask_text", lambda *_: "100")
    monkeypatch.setattr(dialogs, "ask_name", lambda *_: frame)
    # A notice goes after a while by itself.
    told: list[str] = []
    notices = window.commands.context.notices
    monkeypatch.setattr(notices, "tell", told.append)
    monkeypatch.setattr(notices, "warn", told.append)
    window.menus.actions["method.light"].trigger()
    qtbot.waitUntil(lambda: bool(told), timeout=WAIT)
    settle()
    assert frame.is_file()
    assert [use.step for use in window.session.state.method.steps] == [
        "arithmetic.number", "frames.flat",
    ]  # fmt: skip
    assert "From 6 pictures" in told[0]
    sample = window.compute.store.focused
    assert sample is not None
    plane = Analysis(sample, window.session.state.method, window.compute.cache).signal("gray")
    columns = np.asarray(plane.pixels).mean(axis=0)
    assert np.ptp(columns) / columns.mean() < 0.02
    window.session.undo_stack.undo()
    assert not window.session.state.method.steps
    monkeypatch.setattr(dialogs, "ask_text", lambda *_: "many")
    window.commands.correct.ask_light()
    assert "no number" in told[-1]
