"""Geometry, the key, what is drawn over the picture, drawing on it."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QPainter, QWheelEvent
from pytestqt.qtbot import QtBot

from rilievo.core.image.image import Calibration
from rilievo.core.image.number_scale import NumberScale
from rilievo.core.parameters import Rectangle
from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas import overlays, rendering
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.key import Key
from rilievo.ui.canvas.overlays import paint_patch, paint_scale_bar
from rilievo.ui.shell.window import Window
from rilievo.ui.theme.roles import Theme
from tests.outlines import find_regions

GEOMETRIES = st.builds(
    lambda left, top, zoom, ratio, flip: Geometry(
        Viewport(left, top, zoom, 640, 480, bottom_up=flip), (300, 400), ratio
    ),
    st.floats(-200, 200),
    st.floats(-200, 200),
    st.floats(0.05, 40),
    st.sampled_from([1.0, 1.5, 2.0]),
    st.booleans(),
)


@given(GEOMETRIES, st.integers(0, 399), st.integers(0, 299))
def test_there_and_back(geometry: Geometry, x: int, y: int) -> None:
    assert geometry.to_pixel(geometry.to_widget(x, y)) == (x, y)
    assert geometry.nearest_pixel(geometry.to_widget(x, y)) == (x, y)


@given(GEOMETRIES)
def test_outside_is_outside_and_the_nearest_is_at_the_border(geometry: Geometry) -> None:
    assert geometry.to_pixel(geometry.to_widget(-5, 10)) is None
    assert geometry.to_pixel(geometry.to_widget(10, 305)) is None
    assert geometry.nearest_pixel(geometry.to_widget(-5, 305)) == (0, 299)


@given(GEOMETRIES, st.integers(0, 390), st.integers(0, 290))
def test_the_patch_is_drawn_around_its_pixels(geometry: Geometry, x: int, y: int) -> None:
    box = geometry.box_of(Rectangle(x=x, y=y, width=4, height=3))
    assert box.width() == pytest.approx(4 * geometry.scale, rel=1e-6, abs=1e-6)
    for dx in range(4):
        for dy in range(3):
            assert box.contains(geometry.to_widget(x + dx, y + dy))
    assert not box.contains(geometry.to_widget(x + 4, y))
    assert not box.contains(geometry.to_widget(x, y + 3))


@pytest.mark.parametrize("flip", [False, True])
def test_boxes_of_regions_in_view(blobs: np.ndarray, flip: bool) -> None:
    regions = find_regions(blobs.astype(np.float32), 200)
    geometry = Geometry(Viewport(0, 0, 2.0, 70, 120, bottom_up=flip), (60, 80), 1.0)
    ids, boxes = geometry.boxes_of(regions)
    # 35 columns are in view: the first region is, the others begin further right.
    assert ids.tolist() == [1]
    top = (60 - 15) * 2 if flip else 10
    assert boxes[0].tolist() == [20, top, 40, 20]


@pytest.mark.parametrize(
    ("zoom", "size", "unit", "expected"), [(1.0, None, "px", 100), (1.0, 0.5, "µm", 50)]
)
def test_the_scale_bar_is_as_long_as_it_says(
    zoom: float, size: float | None, unit: str, expected: float, window: Window
) -> None:
    image = QImage(300, 100, QImage.Format.Format_RGB32)
    image.fill(QColor(90, 90, 90))
    painter = QPainter(image)
    geometry = Geometry(Viewport(0, 0, zoom, 300, 100), (100, 300), 1.0)
    paint_scale_bar(painter, geometry, Calibration(size, unit))
    painter.end()
    row = [image.pixelColor(x, 100 - 17).lightness() for x in range(300)]
    length = sum(value > 240 for value in row)
    assert length * (size or 1.0) == pytest.approx(expected, abs=2 * (size or 1.0))


def test_the_patch_leaves_its_middle_visible(window: Window) -> None:
    image = QImage(100, 100, QImage.Format.Format_RGB32)
    image.fill(QColor(90, 90, 90))
    painter = QPainter(image)
    geometry = Geometry(Viewport(0, 0, 1.0, 100, 100), (100, 100), 1.0)
    paint_patch(painter, geometry, Rectangle(x=30, y=30, width=40, height=40), Theme())
    assert painter.brush().style() == Qt.BrushStyle.NoBrush, "the next shape is not filled"
    painter.end()
    assert image.pixelColor(10, 90) == QColor(90, 90, 90)
    assert image.pixelColor(50, 50) != QColor(90, 90, 90)


@pytest.fixture
def key(qtbot: QtBot, window: Window) -> Key:
    made = Key(Theme())
    qtbot.addWidget(made)
    made.resize(92, 400)
    made.set_range(100.0, 500.0)
    made.range_dragged.connect(made.set_range)
    made.show()
    return made


def test_an_end_of_the_key_is_dragged(key: Key, qtbot: QtBot) -> None:
    begun = []
    key.drag_begun.connect(lambda: begun.append(1))
    low = QPoint(60, round(key.position(100.0)))
    qtbot.mousePress(key, Qt.MouseButton.LeftButton, pos=low)
    qtbot.mouseMove(key, QPoint(60, round(key.position(200.0))))
    assert key.range == pytest.approx((200.0, 500.0), abs=3)
    qtbot.mouseRelease(key, Qt.MouseButton.LeftButton)
    assert begun == [1]
    # At rest there is room again to drag it further out.
    assert key.position(key.range[0]) < key.height() - 20


def test_the_ends_of_the_key_never_cross(key: Key, qtbot: QtBot) -> None:
    qtbot.mousePress(key, Qt.MouseButton.LeftButton, pos=QPoint(60, round(key.position(100.0))))
    qtbot.mouseMove(key, QPoint(60, 0))
    low, high = key.range
    assert low < high == 500.0
    qtbot.mouseRelease(key, Qt.MouseButton.LeftButton)


def test_the_key_by_keyboard(key: Key, qtbot: QtBot) -> None:
    qtbot.keyClick(key, Qt.Key.Key_Up)
    assert key.range == pytest.approx((100.0, 508.0))
    qtbot.keyClick(key, Qt.Key.Key_Left)
    qtbot.keyClick(key, Qt.Key.Key_Down)
    low, high = key.range
    assert low < 100.0
    assert high == pytest.approx(508.0)


def test_space_drag_wheel_and_keys_move_the_picture(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    picture = study.views.area.picture
    picture.fit()
    fitted = picture.viewport
    assert fitted is not None
    wheel = QWheelEvent(
        QPointF(300, 200),
        QPointF(300, 200),
        QPoint(),
        QPoint(0, 240),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    under = picture.to_pixel(QPointF(300, 200))
    picture.wheelEvent(wheel)
    assert picture.zoom == pytest.approx(fitted.zoom * 1.25**2)
    assert picture.to_pixel(QPointF(300, 200)) == under
    picture.setFocus()
    qtbot.keyPress(picture, Qt.Key.Key_Space)
    before = picture.viewport
    assert before is not None
    qtbot.mousePress(picture, Qt.MouseButton.LeftButton, pos=QPoint(300, 200))
    qtbot.mouseMove(picture, QPoint(340, 170))
    qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=QPoint(340, 170))
    qtbot.keyRelease(picture, Qt.Key.Key_Space)
    after = picture.viewport
    assert after is not None
    assert after.left == pytest.approx(before.left - 40 / before.zoom)
    assert after.top == pytest.approx(before.top + 30 / before.zoom)
    qtbot.keyClick(picture, Qt.Key.Key_Left)
    moved = picture.viewport
    assert moved is not None
    assert moved.left < after.left
    qtbot.mouseDClick(picture, Qt.MouseButton.LeftButton, pos=QPoint(300, 200))
    assert picture.viewport == fitted
    settle()


def test_leaving_the_picture_ends_before(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("correct")
    settle()
    picture = study.views.area.picture
    shown = study.views.area.key.range
    press = QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_B, Qt.KeyboardModifier.NoModifier, "b")
    picture.keyPressEvent(press)
    assert picture.shows_before
    assert study.views.area.key.range != shown, "the key speaks of the picture that is shown"
    picture.focusOutEvent(QEvent(QEvent.Type.FocusOut))
    assert not picture.shows_before
    assert study.views.area.key.range == shown
    settle()


def test_a_selected_region_outside_is_brought_into_view(
    study: Window, settle: Callable[[], None]
) -> None:
    study.session.go_to("outline")
    settle()
    picture = study.views.area.picture
    facts = study.compute.queue.focused
    assert facts is not None
    assert facts.regions
    x, y = facts.regions[0].centres[-1]
    picture.zoom_by(10.0, picture.to_widget(10, 10))
    assert not picture.rect().contains(picture.to_widget(float(x), float(y)).toPoint())
    study.session.focus.set(regions={int(facts.regions[0].ids[-1])})
    assert picture.rect().contains(picture.to_widget(float(x), float(y)).toPoint())
    settle()


def test_single_pixels_show_from_far_in(study: Window, settle: Callable[[], None]) -> None:
    picture = study.views.area.picture
    picture.zoom_to(16.0)
    settle()
    pixel = picture.to_pixel(QPointF(400, 250))
    assert pixel is not None
    inner = picture.to_widget(*pixel)
    edge = picture.to_widget(pixel[0] - 0.5, pixel[1])
    shot = picture.grab().toImage()
    at_edge = shot.pixelColor(math.floor(edge.x()), round(edge.y())).lightness()
    inside = shot.pixelColor(inner.toPoint()).lightness()
    assert at_edge != inside


def test_numbers_are_written_into_pixels_from_far_in(
    study: Window, settle: Callable[[], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[tuple[int, int]] = []
    original = overlays.paint_values

    def listen(image: QImage, geometry: Geometry, pixels: np.ndarray, *rest: Any) -> None:
        asked.append(pixels.shape)
        original(image, geometry, pixels, *rest)

    monkeypatch.setattr(rendering, "paint_values", listen)
    for zoom, expected in ((20.0, 0), (40.0, 1)):
        study.views.area.picture.zoom_by(zoom / study.views.area.picture.zoom, QPointF(300, 250))
        settle()
        assert len(asked) >= expected
        assert bool(asked) == bool(expected)
    assert asked[-1] == (768, 768)


def test_a_number_stands_in_its_pixel(window: Window) -> None:
    pixels = np.array([[1000.0, 0.0], [np.nan, 1000.0]])
    geometry = Geometry(Viewport(0, 0, 60.0, 120, 120), (2, 2), 1.0)
    image = QImage(120, 120, QImage.Format.Format_RGB32)
    image.fill(QColor(128, 128, 128))
    overlays.paint_values(image, geometry, pixels, (0.0, 1000.0), NumberScale())

    def differs(x: int, y: int) -> int:
        return sum(
            image.pixelColor(x + dx, y + dy) != QColor(128, 128, 128)
            for dx in range(60)
            for dy in range(60)
        )

    four_digits, one_digit, dash = differs(0, 0), differs(60, 0), differs(0, 60)
    assert four_digits > one_digit > dash > 0
    assert all(image.pixelColor(x, 2) == QColor(128, 128, 128) for x in range(120))


def test_the_middle_of_the_key_moves_both_ends(key: Key, qtbot: QtBot) -> None:
    middle = round(key.position(300.0))
    qtbot.mousePress(key, Qt.MouseButton.LeftButton, pos=QPoint(60, middle))
    assert key.range == (100.0, 500.0)
    qtbot.mouseMove(key, QPoint(60, round(key.position(380.0))))
    low, high = key.range
    assert high - low == pytest.approx(400.0)
    assert low == pytest.approx(180.0, abs=4)
    qtbot.mouseRelease(key, Qt.MouseButton.LeftButton)
    qtbot.keyClick(key, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert key.range[1] - key.range[0] == pytest.approx(400.0)
    assert key.range[0] == pytest.approx(low + 8, abs=1)
