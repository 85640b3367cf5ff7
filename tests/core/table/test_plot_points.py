from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.table.plot_points import MOST_POINTS, bar_points, column_points
from tests.core.helpers.measure_parts import rows_of


def test_points_of_columns() -> None:
    rows = rows_of()
    every = rows.all_rows()
    points = column_points(rows, every, "scatter", "area", "mean")
    np.testing.assert_array_equal(points.x, rows.columns["area"])
    np.testing.assert_array_equal(points.y, rows.columns["mean"])
    inside = points.within(10, 20, -1, 0)
    wanted = (
        (rows.columns["area"] >= 10) & (rows.columns["area"] <= 20)
        & (rows.columns["mean"] >= -1) & (rows.columns["mean"] <= 0)
    )  # fmt: skip
    np.testing.assert_array_equal(inside, np.flatnonzero(wanted))
    strip = column_points(rows, every, "strip", "area", "mean")
    assert (np.rint(strip.x) == rows.table_at).all()
    middles, counts, width = bar_points(rows, every, "area")
    assert counts.sum() == rows.count
    assert middles[0] - width / 2 == pytest.approx(1)
    across, up = points.of_group(1)
    second = np.array([rows.text("group", k) == "g1" for k in every])
    np.testing.assert_array_equal(across, rows.columns["area"][second])
    np.testing.assert_array_equal(up, rows.columns["mean"][second])


def test_only_an_even_choice_of_many_points_is_drawn() -> None:
    rows = rows_of(MOST_POINTS)
    points = column_points(rows, rows.all_rows(), "scatter", "area", "mean")
    assert points.rows.size == MOST_POINTS
    assert points.total == rows.count
    assert points.within(-1e9, 1e9, -1e9, 1e9).size == rows.count
    nothing = column_points(rows, np.zeros(0, np.int64), "scatter", "area", "mean")
    assert nothing.total == 0
