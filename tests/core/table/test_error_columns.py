"""Columns of errors beside those that they are of."""

from __future__ import annotations

import numpy as np
import pytest

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
    frame = region_frame([found])
    assert list(frame.columns).index("mean_error") == list(frame.columns).index("mean") + 1
    assert with_errors(table, {}) is table
    with pytest.raises(NotImplementedError):
        found.quantity("mean_error").measure(None)  # type: ignore[arg-type]
