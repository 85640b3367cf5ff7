"""Which pixels shapes cover, pixel by pixel; how they are moved, grown, mirrored and dragged."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from rilievo.core.image.image import UNMOVED, Plane
from rilievo.core.regions.drawn import DrawnRegion, cover, flooded, singles
from rilievo.core.regions.handles import dragged, handles, outline_points, shifted_cell
from rilievo.core.regions.shapes import (
    EllipseShape,
    FloodShape,
    GridShape,
    LineShape,
    PolygonShape,
    RectangleShape,
    RingShape,
    Shape,
    StencilShape,
    covered,
)

SIZE = (40, 50)
PLACES = st.floats(-5, 45).map(lambda v: round(v * 4) / 4)
LENGTHS = st.floats(0.5, 30).map(lambda v: max(round(v * 4) / 4, 0.5))
ANGLES = st.sampled_from([0.0, 0.0, 30.0, 45.0, 90.0, -17.0])


def mask_of(shape: Shape, size: tuple[int, int] = SIZE) -> np.ndarray:
    whole = np.zeros(size, bool)
    rows, columns, mask = covered(shape, size)
    whole[rows, columns] = mask
    return whole


def own(x: float, y: float, shape: RectangleShape | EllipseShape) -> tuple[float, float]:
    turn = math.radians(shape.angle)
    right, down = x - shape.x, y - shape.y
    return (
        right * math.cos(turn) - down * math.sin(turn),
        right * math.sin(turn) + down * math.cos(turn),
    )


@settings(max_examples=60)
@given(PLACES, PLACES, LENGTHS, LENGTHS, ANGLES)
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
@given(st.lists(st.tuples(PLACES, PLACES), min_size=3, max_size=8))
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
@given(st.integers(0, 2**30), st.integers(-9, 9), st.integers(-9, 9))
def test_a_stencil_is_its_pixels(seed: int, right: int, down: int) -> None:
    mask = np.random.default_rng(seed).random((7, 9)) < 0.4
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


SHAPES: list[Shape] = [
    RectangleShape(x=20, y=18, width=11.3, height=6.2, angle=30),
    EllipseShape(x=20, y=18, width=14, height=8, angle=-20),
    PolygonShape(points=((10, 10), (30, 12), (26, 28), (12, 24))),
    PolygonShape(points=((12, 24), (26, 28), (30, 12), (10, 10))),
    LineShape(x0=10, y0=10, x1=30, y1=25, width=4),
    RingShape(x=20, y=20, inner=3, outer=8),
    StencilShape(rows=((18, 15, 25), (19, 14, 24), (20, 16, 27))),
    GridShape(rows=2, columns=3, first=(10, 10), across=(30, 12), down=(9, 25), width=6, height=5),
]


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


@pytest.mark.parametrize("shape", SHAPES, ids=lambda s: s.kind)
def test_handles_lie_on_the_shape_and_dragging_one_in_place_changes_nothing(shape: Shape) -> None:
    for name, place in handles(shape):
        if name == "turn":
            continue
        stayed = mask_of(dragged(shape, name, place))
        np.testing.assert_array_equal(stayed, mask_of(shape), err_msg=name)
    for points in outline_points(shape):
        assert len(points) > 2


def test_dragging_handles() -> None:
    box = RectangleShape(x=10, y=10, width=4, height=4)
    larger = dragged(box, "corner 2", (20, 16))
    assert isinstance(larger, RectangleShape)
    assert (larger.x, larger.y, larger.width, larger.height) == (14, 12, 12, 8)
    turned = dragged(box, "turn", (30, 10))
    assert isinstance(turned, RectangleShape)
    assert turned.angle == -90
    ring = dragged(RingShape(x=5, y=5, inner=3, outer=6), "inner", (5, 25))
    assert isinstance(ring, RingShape)
    assert ring.inner < ring.outer
    triangle = PolygonShape(points=((0, 0), (4, 0), (0, 4)))
    assert dragged(triangle, "point 1", (9, 1)).points[1] == (9, 1)  # type: ignore[attr-defined]


def test_a_grid_names_and_shifts_its_cells() -> None:
    grid = GridShape(
        rows=2, columns=3, first=(10, 10), across=(30, 10), down=(10, 30), width=6, height=6,
        names=("a", "", "c"),
    )  # fmt: skip
    assert [grid.name_of(k) for k in range(6)] == ["a", "A2", "c", "B1", "B2", "B3"]
    centres = [(cell.x, cell.y) for cell in grid.cells()]
    assert centres == [(10, 10), (20, 10), (30, 10), (10, 30), (20, 30), (30, 30)]
    moved = shifted_cell(shifted_cell(grid, 4, 1, -2), 4, 0.5, 0)
    assert [(cell.x, cell.y) for cell in moved.cells()][4] == (21.5, 28)
    turned = grid.model_copy(update={"across": (10, -10)})
    assert turned.cells()[0].angle == pytest.approx(90)


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


# -- drawn regions


def test_regions_of_a_sample_are_set_down_in_order() -> None:
    disc = RingShape(x=10, y=10, outer=4)
    regions = (
        DrawnRegion(shape=disc, name="first"),
        DrawnRegion(shape=disc.moved(30, 0), sample="other"),
        DrawnRegion(
            shape=GridShape(
                rows=1, columns=2, first=(10, 12), across=(30, 12), down=(0, 0), width=4, height=4
            ),
            group="g",
        ),
    )
    frame = Plane(np.zeros(SIZE, np.float32))
    covering = cover(regions, "s", lambda: frame, frame)
    assert [(one.place, one.cell, one.name, one.group) for one in covering.singles] == [
        (0, None, "first", ""),
        (2, 0, "A1", "g"),
        (2, 1, "A2", "g"),
    ]
    grid = mask_of(EllipseShape(x=10, y=12, width=4, height=4))
    assert covering.shared == (mask_of(disc) & grid).sum() > 0
    np.testing.assert_array_equal(covering.labels == 2, grid)
    assert len(list(singles(regions, "other"))) == 4


@settings(max_examples=60)
@given(st.integers(0, 2**30), st.booleans())
def test_a_flood_is_what_is_reached_through_like_pixels(seed: int, connected: bool) -> None:
    values = np.random.default_rng(seed).integers(0, 4, (8, 9)).astype(float)
    values[0, 0] = np.nan
    shape = FloodShape(x=4, y=5, tolerance=1, connected=connected)
    found = flooded(values, shape, (4, 5))
    alike = np.abs(values - values[5, 4]) <= 1
    expected = {(5, 4)}
    todo = [(5, 4)]
    while todo:
        y, x = todo.pop()
        for v, u in ((y - 1, x), (y + 1, x), (y, x - 1), (y, x + 1)):
            if 0 <= v < 8 and 0 <= u < 9 and alike[v, u] and (v, u) not in expected:
                expected.add((v, u))
                todo.append((v, u))
    wanted = expected if connected else {tuple(p) for p in np.argwhere(alike).tolist()}
    assert {tuple(p) for p in np.argwhere(found).tolist()} == wanted
    assert not flooded(values, shape, (0, 0)).any(), "an undefined pixel is like none"
    assert not flooded(values, shape, (-1, 3)).any()
