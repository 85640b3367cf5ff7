from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.regions.handles import dragged, handles, outline_points, shifted_cell
from rilievo.core.regions.shape import Shape
from rilievo.core.regions.shapes import GridShape, PolygonShape, RectangleShape, RingShape
from tests.core.helpers.shapes import SHAPES, mask_of


@pytest.mark.parametrize("shape", SHAPES, ids=lambda s: s.kind)
def test_handles_lie_on_the_shape_and_dragging_one_in_place_changes_nothing(shape: Shape) -> None:
    for name, position in handles(shape):
        if name == "turn":
            continue
        stayed = mask_of(dragged(shape, name, position))
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
