from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.table.summaries import sample_frame
from tests.core.helpers.table import table


def test_summary_of_a_sample() -> None:
    row = sample_frame([table()]).to_pandas().iloc[0]
    assert row["region_count"] == 2
    assert row["area_total"] == 3
    assert row["area_share"] == 3 / 12
    assert row["mean_of_means"] == 2.0
    assert row["sd_of_means"] == pytest.approx(np.sqrt(0.5))


def test_summary_of_nothing_has_the_same_columns() -> None:
    nothing = sample_frame([]).to_pandas()
    assert list(nothing.columns) == list(sample_frame([table()]).to_pandas().columns)
    none_found = sample_frame([table("c", ())]).to_pandas()
    assert none_found["region_count"].tolist() == [0, 0]
    assert none_found["mean_of_means"].isna().all()
