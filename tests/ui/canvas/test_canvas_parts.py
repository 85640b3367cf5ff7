"""Parts of the canvas by themselves: places, rulers, navigator, tools, the layout of the Sheet."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter

from rilievo.core.image.image import Calibration, Sample, plane_from_native
from rilievo.core.image.line_profile import Line
from rilievo.core.image.number_scale import NumberScale
from rilievo.core.method.method import Method, step_use
from rilievo.core.method.picks import Pick
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.pyramids import pyramid_of
from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas import overlays
from rilievo.ui.canvas.canvas_geometry import Geometry, fit_zoom, fitted, panned, zoomed
from rilievo.ui.canvas.rulers import THICK, _ticks, paint_rulers
from rilievo.ui.canvas.sheet_layout import (
    CAPTION,
    GAP,
    HEAD,
    LEAST_CELL,
    SheetLayout,
    best_columns,
)
from rilievo.ui.canvas.tools import _beside, _straightened
from rilievo.ui.compute.scene import Scene
from rilievo.ui.shell.window import Window
from rilievo.ui.theme.roles import NIGHT, Theme
from rilievo.ui.widgets.live_plot import ScaledAxis

GRAY = QColor(128, 128, 128)


def canvas(width: int = 200, height: int = 120) -> tuple[QImage, QPainter]:
    image = QImage(width, height, QImage.Format.Format_RGB32)
    image.fill(GRAY)
    return image, QPainter(image)


def touched(image: QImage, box: QRectF) -> bool:
    return any(
        image.pixelColor(x, y) != GRAY
        for x in range(int(box.left()), int(box.right()))
        for y in range(int(box.top()), int(box.bottom()))
    )


@given(
    st.floats(-50, 250),
    st.floats(-50, 150),
    st.floats(0.05, 40),
    st.booleans(),
    st.sampled_from([1.0, 2.0]),
)
def test_there_and_back(x: float, y: float, zoom: float, bottom_up: bool, ratio: float) -> None:
    view = Viewport(12.5, -7.25, zoom, 400, 300, bottom_up)
    geometry = Geometry(view, (100, 200), ratio)
    again = geometry.to_image(geometry.to_widget(x, y))
    assert (again.x(), again.y()) == pytest.approx((x, y), abs=1e-6)


def test_an_old_frame_is_put_where_it_belongs_now() -> None:
    drawn = Viewport(0, 0, 2.0, 200, 120)
    now = Geometry(Viewport(10, 5, 4.0, 200, 120), (60, 100), 1.0)
    image = QImage(200, 120, QImage.Format.Format_RGB32)
    position = now.position_of(image, drawn)
    # Its first pixel was image position 0, 0; it is 10 and 5 pixels outside now, at 4 a pixel.
    assert (position.left(), position.top()) == (-40, -20)
    assert (position.width(), position.height()) == (400, 240)


@pytest.mark.parametrize("bottom_up", [False, True])
def test_ticks_are_round_and_inside(bottom_up: bool) -> None:
    geometry = Geometry(Viewport(-20, 0, 0.9, 400, 300, bottom_up), (256, 320), 1.0)
    for along in (True, False):
        ticks = _ticks(geometry, 0.5, 20.0, along=along)
        assert len(ticks) >= 4
        assert all(tick % 20 == 0 for tick in ticks)
        assert 0 <= min(ticks) <= max(ticks) <= (320 if along else 256) * 0.5


def test_rulers_keep_to_their_edges_and_show_the_pointer(window: Window) -> None:
    image, painter = canvas()
    geometry = Geometry(Viewport(0, 0, 1.0, 200, 120), (120, 200), 1.0)
    paint_rulers(painter, geometry, Calibration(), (100, 60), Theme(NIGHT))
    painter.end()
    assert not touched(image, QRectF(THICK + 1, THICK + 1, 170, 90))
    assert image.pixelColor(40, 2) == QColor(NIGHT.ruler)
    assert image.pixelColor(100, 4) == QColor(255, 190, 120)
    assert image.pixelColor(4, 60) == QColor(255, 190, 120)


def test_the_navigator_frames_what_is_shown(window: Window) -> None:
    navigator = window.views.area.picture.navigator
    geometry = Geometry(Viewport(100, 50, 4.0, 200, 120), (300, 600), 1.0)
    assert navigator.is_wanted(geometry)
    box = navigator.box(geometry, 40)
    assert box.width() / box.height() == pytest.approx(2)
    middle = navigator.centred(geometry, box, box.center())
    assert middle.left + middle.width / middle.zoom / 2 == pytest.approx(300)
    assert middle.top + middle.height / middle.zoom / 2 == pytest.approx(150)
    whole = Geometry(Viewport(0, 0, 0.3, 200, 120), (300, 600), 1.0)
    assert not navigator.is_wanted(whole)


@given(st.floats(-100, 100), st.floats(-100, 100))
def test_shift_takes_the_nearest_of_eight_directions(dx: float, dy: float) -> None:
    end = _straightened(QPointF(0, 0), QPointF(dx, dy))
    turned = np.degrees(np.arctan2(end.y(), end.x())) / 45
    length = np.hypot(end.x(), end.y())
    if length > 1e-6:
        assert turned == pytest.approx(round(turned), abs=1e-6)
        # It is the foot of the perpendicular, never further than the pointer.
        assert length <= np.hypot(dx, dy) + 1e-9


def test_how_near_a_line_is() -> None:
    geometry = Geometry(Viewport(0, 0, 2.0, 400, 300), (100, 200), 1.0)
    line = Line(x0=10, y0=10, x1=50, y1=10)
    assert _beside(geometry, line, geometry.to_widget(30, 14)) == pytest.approx(8)
    assert _beside(geometry, line, geometry.to_widget(53, 14)) == pytest.approx(10)
    point = Line(x0=10, y0=10, x1=10, y1=10)
    assert _beside(geometry, point, geometry.to_widget(10, 13)) == pytest.approx(6)


def test_marks_lie_on_the_pixels_they_speak_of(window: Window) -> None:
    geometry = Geometry(Viewport(0, 0, 10.0, 200, 120), (12, 20), 1.0)
    image, painter = canvas()
    picks = [Pick(number=1, x=5, y=5, size=3), Pick(number=2, x=500, y=5)]
    overlays.paint_picks(painter, geometry, picks, {1})
    painter.end()
    # The outline runs round pixels 4 to 6, whose corners lie at 40 and 70.
    assert touched(image, QRectF(38, 38, 5, 34))
    assert not touched(image, QRectF(46, 46, 18, 18))
    image, painter = canvas()
    inside = np.array([[0, 1, 0], [1, 1, 1], [0, 1, 0]], bool)
    from_disc = overlays.Rectangle(x=4, y=4, width=3, height=3)
    overlays.paint_neighbourhood(painter, geometry, from_disc, inside)
    painter.end()
    assert not touched(image, QRectF(41, 41, 6, 6))
    assert touched(image, QRectF(48, 38, 4, 6))


@given(st.integers(1, 40), st.integers(300, 1500), st.integers(200, 900))
def test_the_sheet_takes_the_largest_cells(count: int, width: int, height: int) -> None:
    def side(columns: int) -> float:
        return min(width / columns, height / -(-count // columns) - CAPTION)

    best = max(side(columns) for columns in range(1, count + 1))
    if count > 1 and best > 0:
        assert side(best_columns(count, width, height)) >= best * 0.998
    assert 1 <= best_columns(count, width, height) <= count


@given(
    st.integers(1, 5000),
    st.integers(300, 2000),
    st.integers(200, 1200),
    st.floats(0.4, 2.5),
    st.integers(0, 5000),
)
def test_the_sheet_scrolls_rather_than_making_cells_too_small(
    count: int, width: int, height: int, aspect: float, row: int
) -> None:
    layout = SheetLayout.of(count, width, height, aspect)
    first = min(row, layout.scrolls)
    seen = layout.seen(first)
    boxes = [layout.box(position, first) for position in seen]
    for box in boxes:
        assert box.left() >= 0 and box.right() <= layout.width
        assert (box.top() - CAPTION > 0 and box.bottom() <= height + 1e-6) or height < HEAD + 80
    assert not any(a.intersects(b) for a, b in itertools.pairwise(boxes))
    if layout.scrolls:
        assert boxes[0].width() >= min(LEAST_CELL, layout.width - 2 * GAP) - GAP
        # Each cell is seen from some row.
        assert layout.seen(layout.scrolls)[-1] == count - 1
    else:
        assert len(seen) == count


def test_ticks_of_a_plot_are_round_on_the_scale_in_force(window: Window) -> None:
    axis = ScaledAxis("bottom")
    axis.set_number_scale(NumberScale("8-bit", 0.0, 65535.0))
    _, values = axis.tickValues(0.0, 65535.0, 400.0)[0]
    printed = axis.tickStrings(values, 1.0, 1.0)
    for value, text in zip(values, printed, strict=True):
        assert float(text) == pytest.approx(value / 257, abs=0.01)
        assert float(text) == pytest.approx(round(float(text)), abs=1e-6)


def test_only_what_changed_is_said(window: Window) -> None:
    said: list[str] = []
    viewing = window.session.view
    viewing.changed.connect(lambda: said.append("changed"))
    viewing.line_changed.connect(lambda: said.append("line"))
    viewing.tool_changed.connect(said.append)
    viewing.choose(scale="native")
    assert said == []
    viewing.choose(line=Line(x0=0, y0=0, x1=3, y1=0))
    assert said == ["line"]
    viewing.use("pick")
    assert said == ["line", "pick", "changed"]
    viewing.use("pick")
    assert viewing.tool == "point"


def test_the_cursor_says_what_a_click_does(window: Window) -> None:
    picture = window.views.area.picture
    assert picture.cursor().shape() == Qt.CursorShape.ArrowCursor
    window.session.view.use("line")
    assert picture.cursor().shape() == Qt.CursorShape.CrossCursor
    window.session.view.use("line")
    assert picture.cursor().shape() == Qt.CursorShape.ArrowCursor


def test_no_numbers_are_printed_while_only_coarser_ones_are_known() -> None:
    pixels = np.random.default_rng(0).integers(100, 200, (700, 800), dtype=np.uint16)
    sample = Sample("s", {"gray": plane_from_native(pixels)})
    method = Method(steps=(step_use("l", "background.level", level=30),))
    scene = Scene(sample, "gray", method, (0.0, 100.0))
    cache = AnalysisCache()
    assert scene.is_sketch(cache)
    assert scene.values(cache) is None
    pyramid_of(Analysis(sample, method, cache), "gray")
    values = scene.values(cache)
    assert values is not None
    np.testing.assert_array_equal(values, pixels - 30.0)


@given(st.floats(0.1, 50), st.floats(-300, 300), st.floats(-300, 300), st.floats(0, 800))
def test_zooming_keeps_the_point_and_panning_moves_it(
    zoom: float, left: float, top: float, at: float
) -> None:
    view = Viewport(left, top, 2.0, 800, 600)
    point = QPointF(at, at / 2)
    before = Geometry(view, (400, 500), 1.0).to_image(point)
    after = Geometry(zoomed(view, zoom, point), (400, 500), 1.0).to_image(point)
    assert (after.x(), after.y()) == pytest.approx((before.x(), before.y()), abs=1e-6)
    moved = Geometry(panned(view, 30, -20), (400, 500), 1.0).to_image(point + QPointF(30, -20))
    assert (moved.x(), moved.y()) == pytest.approx((before.x(), before.y()), abs=1e-6)


@given(st.integers(1, 4000), st.integers(1, 4000), st.sampled_from([0.0, 22.0]))
def test_a_whole_image_fits_beside_the_rulers(height: int, width: int, taken: float) -> None:
    size = (900, 600)
    geometry = Geometry(fitted(size, (height, width), taken, bottom_up=False), (height, width), 1.0)
    first = geometry.to_widget(-0.5, -0.5)
    last = geometry.to_widget(width - 0.5, height - 0.5)
    assert min(first.x(), first.y()) >= taken - 1e-6
    assert last.x() <= size[0] + 1e-6
    assert last.y() <= size[1] + 1e-6
    assert fit_zoom(size, (height, width), taken) <= 32
