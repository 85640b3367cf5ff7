"""Names in coloured pieces, through the window."""

from __future__ import annotations

from collections.abc import Callable
from itertools import product
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtWidgets import QInputDialog
from pytestqt.qtbot import QtBot

from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT


@pytest.fixture
def bring(
    window: Window, write_tiff: Callable[..., Path], blobs: np.ndarray, qtbot: QtBot
) -> Callable[..., Window]:
    def bring(*names: str) -> Window:
        paths = [write_tiff(name, blobs) for name in names]
        window.commands.images.open_any(paths, ask=True)
        qtbot.waitUntil(lambda: window.jobs.idle and window.views.intake.isVisible(), timeout=WAIT)
        return window

    return bring


NAMES = [f"{g}_{n}_{c}.tif" for g, n, c in product(("ctrl", "salt"), (1, 2), ("dapi", "gfp"))]


def menu_of(window: Window, position: int) -> list[str]:
    menu = window.views.intake.names.buttons[position].menu()
    assert menu is not None
    return [action.text() for action in menu.actions() if action.text()]


def test_files_become_samples_without_a_typed_pattern(bring: Callable[..., Window]) -> None:
    window = bring(*NAMES)
    intake = window.views.intake
    assert intake.pattern.text() == "{group}_{replicate#}_{channel}"
    assert [button.text() for button in intake.names.buttons.values()] == [
        "group", "replicate", "channel",
    ]  # fmt: skip
    assert intake.add_button.text() == "Add 4 samples"
    intake.accept()
    samples = window.session.state.samples
    assert (samples[0].name, samples[0].group, samples[0].replicate) == ("ctrl-1", "ctrl", "1")
    assert [part.channel for part in samples[0].parts] == ["dapi", "gfp"]


def test_a_piece_is_given_another_meaning(
    bring: Callable[..., Window], monkeypatch: pytest.MonkeyPatch
) -> None:
    window = bring(*NAMES)
    intake = window.views.intake
    position = next(k for k, b in intake.names.buttons.items() if b.text() == "replicate")
    assert {"Sample", "Group", "Attribute: day", "Nothing"} <= set(menu_of(window, position))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("Dish #{1}", True))
    menu = intake.names.buttons[position].menu()
    assert menu is not None
    next(a for a in menu.actions() if a.text().startswith("Another")).trigger()
    assert intake.pattern.text() == "{group}_{dish 1#}_{channel}"
    assert dict(intake.proposals[0].attributes) == {"dish 1": "1"}
    # The same meaning is taken away from another piece.
    intake.names.set_meaning(position, "group")
    assert intake.pattern.text() == "*_{group#}_{channel}"


def test_a_typed_pattern_has_the_last_word(bring: Callable[..., Window]) -> None:
    window = bring(*NAMES)
    intake = window.views.intake
    intake.pattern.setText("{sample}")
    assert intake.add_button.text() == "Add 8 samples"
    assert "Not in force" in intake.names._about.text()
    intake.names.set_meaning(0, "group")
    assert intake.add_button.text() == "Add 4 samples"


def test_names_of_several_shapes_are_shown_and_not_taken_as_read(
    bring: Callable[..., Window],
) -> None:
    window = bring(*NAMES, "overview.tif")
    intake = window.views.intake
    assert intake.pattern.text() == ""
    assert intake.names.isVisible() and "Not in force" in intake.names._about.text()
    assert intake.add_button.text() == "Add 9 samples"


def test_names_that_say_nothing_show_no_pieces(bring: Callable[..., Window]) -> None:
    window = bring("a.tif", "b-c.tif")
    assert not window.views.intake.names.isVisible()
    assert window.views.intake.pattern.text() == ""
