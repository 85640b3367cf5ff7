"""Columns of errors beside those that they are of."""

from __future__ import annotations

import numpy as np
import pytest
from matplotlib.collections import LineCollection

from rilievo.core.compare import Normalising, Question, compare
from rilievo.core.report.figures import comparison_figure
from rilievo.core.table.error_columns import with_errors
from rilievo.core.table.table import RegionTable, region_frame


def test_errors_stand_beside_their_numbers_by_region() -> None:
    table = RegionTable(
        sample="s", file="s.tif", group="", classes=("cell",), ids=np.array([1, 2, 4]),
        columns={
            "dye": {"mean": np.array([5.0, 6, 7]), "area": np.array([1.0, 2, 3])},
            "dna": {"mean": np.array([8.0, 9, 9]), "area": np.array([1.0, 2, 3])},
        },
    )  # fmt: skip
    found = with_errors(table, {("dye", "mean"): {4: 0.7, 1: 0.5}})
    assert found.quantities == ("mean", "mean_error", "area")
    assert found.column("dye", "mean_error") == pytest.approx([0.5, np.nan, 0.7], nan_ok=True)
    assert np.isnan(found.column("dna", "mean_error")).all()
    assert found.quantity("mean_error").title == "± Mean"
    frame = region_frame([found]).to_pandas()
    assert list(frame.columns).index("mean_error") == list(frame.columns).index("mean") + 1
    assert with_errors(table, {}) is table
    with pytest.raises(NotImplementedError):
        found.quantity("mean_error").measure(None)  # type: ignore[arg-type]


def test_errors_are_bars_in_a_comparison() -> None:
    def sample(name: str, group: str, level: float) -> RegionTable:
        table = RegionTable(
            sample=name, file="", group=group, classes=("cell",), ids=np.array([1, 2]),
            columns={"dye": {"mean": np.array([level, level + 1])}},
        )  # fmt: skip
        return with_errors(table, {("dye", "mean"): {1: 0.25, 2: 0.5}})

    tables = [sample(f"s{k}", "ab"[k % 2], 5.0 + k) for k in range(4)]
    asked = Question(channel="dye")
    found = compare(tables, asked)
    assert found.all_points[0].errors == pytest.approx([0.25, 0.5])
    figure, _ = comparison_figure([found])
    bars = [c for c in figure.axes[0].collections if isinstance(c, LineCollection)]
    heights = [float(np.ptp(line[:, 1])) for bar in bars for line in bar.get_segments()]
    # The others are the intervals of the groups.
    assert sorted(one for one in heights if one < 2) == pytest.approx([0.5] * 4 + [1.0] * 4)
    # Related to others they would be other errors.
    related = Question(channel="dye", normalising=Normalising(by="control", reference="a"))
    assert all(point.errors is None for point in compare(tables, related).all_points)
