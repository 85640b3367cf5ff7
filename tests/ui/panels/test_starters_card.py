"""Beginning with a job, through the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT


@pytest.fixture
def fresh(add: Callable[..., Window], write_tiff: Callable[..., Path], blobs: np.ndarray) -> Window:
    window = add(write_tiff("a.tif", blobs))
    window.session.go_to("outline")
    return window


def wait_for_previews(window: Window, qtbot: QtBot) -> None:
    card = window.views.outline.starters
    qtbot.waitUntil(
        lambda: bool(card.buttons) and all("\n" in b.text() for b in card.buttons.values()),
        timeout=WAIT,
    )


def test_pictures_show_what_each_would_find(fresh: Window, qtbot: QtBot) -> None:
    wait_for_previews(fresh, qtbot)
    buttons = fresh.views.outline.starters.buttons
    assert buttons["bright"].text().endswith("\n2 regions here")
    assert buttons["whole"].text().endswith("\n1 region here")
    icons = {key: button.icon().pixmap(90, 90).toImage() for key, button in buttons.items()}
    assert icons["bright"] != icons["whole"]


def test_choosing_one_sets_a_method_that_is_undone_in_one(fresh: Window, qtbot: QtBot) -> None:
    wait_for_previews(fresh, qtbot)
    before = fresh.session.state.method
    fresh.views.outline.starters.buttons["inside_and_rest"].click()
    assert fresh.session.state.method.class_names == ("inside", "rest of the cell", "outside")
    qtbot.waitUntil(lambda: not fresh.views.outline.starters.isVisible(), timeout=WAIT)
    assert fresh.session.undo_stack.undoText() == "Begin with inside and rest of the cell"
    fresh.session.undo_stack.undo()
    assert fresh.session.state.method == before
    qtbot.waitUntil(fresh.views.outline.starters.isVisible, timeout=WAIT)


def test_a_method_that_was_begun_hides_them(fresh: Window, qtbot: QtBot) -> None:
    fresh.session.go_to("correct")
    assert fresh.views.correct.starters.isVisible()
    fresh.views.correct.add_step("smooth.gaussian")
    qtbot.waitUntil(lambda: not fresh.views.correct.starters.isVisible(), timeout=WAIT)
