"""Which pixels shapes cover, pixel by pixel; how they are moved, grown, mirrored and dragged."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from pydantic import ValidationError

from rilievo.core.image.image import UNMOVED
from rilievo.core.regions.pixel_shapes import StencilShape
from rilievo.core.regions.shape import Shape, covered
from rilievo.core.regions.shapes import (
    EllipseShape,
    LineShape,
    PolygonShape,
    RectangleShape,
    RingShape,
)
from tests.core.helpers.shapes import SHAPES, SIZE, mask_of

POSITIONS = st.floats(-5, 45).map(lambda v: round(v * 4) / 4)


LENGTHS = st.floats(0.5, 30).map(lambda v: max(round(v * 4) / 4, 0.5))


ANGLES = st.sampled_from([0.0, 0.0, 30.0, 45.0, 90.0, -17.0])


def own(x: float, y: float, shape: RectangleShape | EllipseShape) -> tuple[float, float]:
    turn = math.radians(shape.angle)
    right, down = x - shape.x, y - shape.y
    return (
        right * math.cos(turn) - down * math.sin(turn),
        right * math.sin(turn) + down * math.cos(turn),
    )


@settings(max_examples=60)
@given(POSITIONS, POSITIONS, LENGTHS, LENGTHS, ANGLES)
def test_rectangles_and_ellipses_pixel_by_pixel(
    x: float, y: float, width: float, height: float, angle: float
) -> None:
    for kind in (RectangleShape, EllipseShape):
        shape = kind(x=x, y=y, width=width, height=height, angle=angle)
        found = mask_of(shape)
        for row in range(SIZE[0]):
            for column in range(SIZE[1]):
                u, v = own(column, row, shape)
                if kind is RectangleShape:
                    edge = min(abs(abs(u) - width / 2), abs(abs(v) - height / 2))
                    inside = abs(u) < width / 2 and abs(v) < height / 2
                else:
                    away = math.hypot(2 * u / width, 2 * v / height)
                    edge, inside = abs(away - 1), away < 1
                if edge > 1e-9:
                    assert found[row, column] == inside


@settings(max_examples=60)
@given(st.lists(st.tuples(POSITIONS, POSITIONS), min_size=3, max_size=8))
def test_polygons_by_the_winding_of_a_ray(points: list[tuple[float, float]]) -> None:
    found = mask_of(PolygonShape(points=tuple(points)))
    for row in range(0, SIZE[0], 3):
        for column in range(0, SIZE[1], 3):
            # A ray to the right, a little below the centre, so that it meets no corner.
            at, crossings, near = row + 1e-7, 0, False
            for k, (x0, y0) in enumerate(points):
                x1, y1 = points[(k + 1) % len(points)]
                if (y0 > at) != (y1 > at):
                    crossing = x0 + (at - y0) / (y1 - y0) * (x1 - x0)
                    near |= abs(crossing - column) < 1e-5
                    crossings += crossing > column
            if not near:
                assert found[row, column] == (crossings % 2 == 1)


def test_left_and_top_edges_are_inside() -> None:
    square = RectangleShape(x=10, y=10, width=4, height=4)
    inside = np.argwhere(mask_of(square))
    assert (inside.min(axis=0).tolist(), inside.max(axis=0).tolist()) == ([8, 8], [11, 11])
    same = PolygonShape(points=((8, 8), (12, 8), (12, 12), (8, 12)))
    np.testing.assert_array_equal(mask_of(same), mask_of(square))
    # Two rectangles side by side share no pixel and leave none out.
    right = RectangleShape(x=14, y=10, width=4, height=4)
    assert not (mask_of(square) & mask_of(right)).any()
    assert (mask_of(square) | mask_of(right)).sum() == 32


def test_lines_rings_and_points() -> None:
    line = LineShape(x0=3, y0=5, x1=9, y1=5, width=1)
    assert np.argwhere(mask_of(line)).tolist() == [[5, x] for x in range(3, 10)]
    ring = RingShape(x=20, y=20, inner=5, outer=9)
    y, x = np.mgrid[: SIZE[0], : SIZE[1]]
    away = np.hypot(x - 20, y - 20)
    np.testing.assert_array_equal(mask_of(ring), (away >= 5) & (away < 9))
    assert mask_of(RingShape(x=4, y=4, outer=0.6)).sum() == 1
    with pytest.raises(ValidationError, match="inner radius"):
        RingShape(x=1, y=1, inner=3, outer=3)


@settings(max_examples=60)
@given(arrays(np.bool_, (7, 9)), st.integers(-9, 9), st.integers(-9, 9))
def test_a_stencil_is_its_pixels(mask: np.ndarray, right: int, down: int) -> None:
    mask[3, 4] = True
    stencil = StencilShape.of(mask, 15, 12)
    whole = np.zeros(SIZE, bool)
    whole[12:19, 15:24] = mask
    np.testing.assert_array_equal(mask_of(stencil), whole)
    assert stencil.area == mask.sum()
    np.testing.assert_array_equal(
        mask_of(stencil.moved(right, down)), np.roll(whole, (down, right), (0, 1))
    )
    again = stencil.mirrored(19, "x").mirrored(19, "x")
    assert again == stencil.mirrored(3, "y").mirrored(3, "y") == stencil


@pytest.mark.parametrize("shape", SHAPES, ids=lambda s: s.kind)
def test_moving_growing_and_mirroring_do_what_they_say(shape: Shape) -> None:
    before = mask_of(shape)
    np.testing.assert_array_equal(
        mask_of(shape.moved(3, -2)), np.roll(before, (-2, 3), (0, 1)), err_msg="moved"
    )
    if not isinstance(shape, RingShape):
        grown = mask_of(shape.grown(2))
        assert (grown | before).sum() == grown.sum(), "what was covered stays covered"
        assert grown.sum() > before.sum()
    assert mask_of(shape.grown(-1)).sum() <= before.sum()
    flipped = mask_of(shape.mirrored(19.5, "x"))
    assert abs(int(flipped.sum()) - int(before.sum())) <= 0.08 * before.sum() + 2
    there = np.argwhere(flipped).mean(axis=0)[1]
    assert there == pytest.approx(39 - np.argwhere(before).mean(axis=0)[1], abs=0.3)
    left, top, right, bottom = shape.box()
    inside = np.argwhere(before)
    assert (inside[:, 1] >= left - 1e-9).all() and (inside[:, 1] <= right + 1e-9).all()
    assert (inside[:, 0] >= top - 1e-9).all() and (inside[:, 0] <= bottom + 1e-9).all()


def test_placement_takes_shapes_along() -> None:
    shape = RectangleShape(x=20, y=18, width=10, height=6)
    shifted = (1.0, 0.0, -5.0, 0.0, 1.0, -4.0)
    halved = (0.5, 0.0, 0.0, 0.0, 0.5, 0.0)
    rows, columns, mask = covered(shape, (30, 30), shifted)
    whole = np.zeros((30, 30), bool)
    whole[rows, columns] = mask
    np.testing.assert_array_equal(whole, mask_of(shape)[4:34, 5:35])
    rows, columns, mask = covered(shape, (20, 25), halved)
    assert mask.sum() == 5 * 3
    assert covered(shape, (5, 5), UNMOVED)[2].size == 0
