"""A card of known patches in the real window: marked, moved, marked anew, read."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from rilievo.core.method.method import step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.signal.cards import CARDS, place_card
from rilievo.core.signal.steps.curve_card import Card
from rilievo.ui.shell.window import Window
from rilievo.ui.widgets.card_field import CardField

CORNERS = [(40.0, 30.0), (160.0, 36.0), (156.0, 66.0), (42.0, 62.0)]


def scene() -> np.ndarray:
    """Counts of a neutral card on a table that reflects a quarter."""
    card = place_card(CARDS["neutral_6"], CORNERS)
    y, x = np.mgrid[:100, :200].astype(float)
    u, v = card.to_card(x, y)
    found = np.full((100, 200), 0.25)
    inside = (u > 0) & (u < 1) & (v > 0) & (v < 1)
    patch = (u.clip(0, 0.999) * 6).astype(int)
    found[inside] = card.layout.known_for("gray")[patch][inside]
    return (4000 * found).round().astype(np.uint16)


@pytest.fixture
def marking(
    add: Callable[..., Window], write_tiff: Callable[..., Path], settle: Callable[[], None]
) -> Window:
    window = add(write_tiff("scene.tif", scene()))
    window.session.go_to("correct")
    window.views.correct.add_step("curve.card")
    settle()
    return window


def at(window: Window, x: float, y: float) -> QPoint:
    return window.views.area.picture.to_widget(x, y).toPoint()


def click_corners(window: Window) -> None:
    picture = window.views.area.picture
    for corner in CORNERS:
        QTest.mouseClick(
            picture,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
            at(window, *corner),
        )


def parameters(window: Window) -> Card:
    found = window.session.state.method.steps[0].parameters
    assert isinstance(found, Card)
    return found


def field(window: Window) -> CardField:
    (found,) = window.views.correct.findChildren(CardField)
    return found


def test_four_clicks_give_reflectance(marking: Window, settle: Callable[[], None]) -> None:
    assert "Click the four corners" in field(marking).text.text()
    click_corners(marking)
    settle()
    found = [(one.x, one.y) for one in parameters(marking).corners]
    np.testing.assert_allclose(found, CORNERS, atol=0.6)
    signal = Analysis(
        marking.compute.store.samples[1], marking.session.state.method, marking.compute.cache
    ).signal("gray")
    assert signal.pixels[10, 10] == pytest.approx(0.25, rel=0.01)
    table = field(marking).table
    assert table.rowCount() == 6
    texts = [table.item(0, column).text() for column in range(4)]
    assert texts[:2] == ["1", "0.8800"] and texts[3].endswith(" %")
    marking.session.undo_stack.undo()
    settle()
    assert parameters(marking).corners == ()


def test_a_corner_is_dragged_and_the_card_marked_anew(
    marking: Window, settle: Callable[[], None]
) -> None:
    click_corners(marking)
    settle()
    picture, start, end = (
        marking.views.area.picture, at(marking, *CORNERS[2]), at(marking, 150.0, 60.0)
    )  # fmt: skip
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    QTest.mouseMove(picture, end)
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)
    settle()
    corner = parameters(marking).corners[2]
    assert (corner.x, corner.y) == pytest.approx((150.0, 60.0), abs=0.6)
    field(marking).draw.click()
    settle()
    assert parameters(marking).corners == ()
    click_corners(marking)
    settle()
    assert len(parameters(marking).corners) == 4


def test_without_corners_the_step_says_what_to_do(
    marking: Window, settle: Callable[[], None]
) -> None:
    (card,) = marking.views.correct.cards.values()
    assert "click its four corners" in card.error.text()


def test_corners_are_typed_and_clicks_are_of_one_card_alone(
    marking: Window, settle: Callable[[], None]
) -> None:
    picture = marking.views.area.picture
    QTest.mouseClick(
        picture, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(marking, 10, 10)
    )
    (first,) = picture.tools.card.corners()
    assert first == pytest.approx((10.0, 10.0), abs=0.6)
    corners = field(marking)
    corners.typed.setText("40, 30; 160")
    corners.typed.editingFinished.emit()
    assert "Type four corners" in corners.text.text() and parameters(marking).corners == ()
    corners.typed.setText("40, 30; 160, 36; (156, 66); 42, 62")
    corners.typed.editingFinished.emit()
    settle()
    assert [(one.x, one.y) for one in parameters(marking).corners] == CORNERS
    assert field(marking).typed.text() == "40, 30; 160, 36; 156, 66; 42, 62"
    # Another step of the kind begins with no corner.
    marking.views.correct.add_step("curve.card")
    settle()
    assert picture.tools.card.corners() == ()


def test_what_a_card_marks_is_on_the_picture_as_soon_as_its_card_is_open(
    add: Callable[..., Window], write_tiff: Callable[..., Path], settle: Callable[[], None]
) -> None:
    """Where nothing was chosen yet, the card of the last step opens by itself."""
    window = add(write_tiff("scene.tif", scene()))
    corners = [{"x": x, "y": y} for x, y in CORNERS]
    card = step_use("card", "curve.card", corners=corners)
    window.session.go_to("correct")
    window.session.change_method("Card", window.session.state.method.changed(steps=(card,)))
    settle()
    assert window.views.correct.cards["card"].is_open
    marked = window.views.area.picture.card
    assert marked is not None and list(marked.corners) == CORNERS
