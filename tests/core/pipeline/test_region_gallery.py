from __future__ import annotations

import numpy as np

from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.region_gallery import (
    common_side,
    print_grey,
    print_of,
    print_rows,
    rim_of,
)
from rilievo.core.table.row_query import RowQuery, arranged
from rilievo.core.table.rows import Rows
from tests.core.helpers.measure_parts import spots


def test_a_row_for_each_print() -> None:
    sample, method = spots()
    rows = Rows([Analysis(s, method).table() for s in (sample, sample.renamed("two"))])
    shown = arranged(rows, RowQuery()).rows
    found = print_rows(rows, shown, "mean", "b", falling=True)
    assert [(rows.sample(k), int(rows.region[k])) for k in found.tolist()] == [
        ("spots", 3), ("two", 3), ("spots", 2), ("two", 2), ("spots", 1), ("two", 1),
    ]  # fmt: skip
    assert {rows.channel(k) for k in found.tolist()} == {"b"}
    # A channel that was not measured leaves the first one of each region.
    assert print_rows(rows, shown, "mean", "nowhere").size == 6
    only = print_rows(rows, shown, "mean", "a", only={"two": {1}})
    assert [(rows.sample(k), int(rows.region[k])) for k in only.tolist()] == [("two", 1)]


def test_prints_show_the_region_in_the_middle() -> None:
    sample, method = spots()
    regions = Analysis(sample, method).regions()
    side = common_side([regions])
    assert 8 <= side <= 40
    one = print_of(sample.channels["a"], regions, 1, 12)
    assert one.inside.sum() == 25
    assert (one.values[one.inside] == 100).all()
    rows, columns = np.nonzero(one.inside)
    assert abs(rows.mean() - 5.5) <= 1
    assert abs(columns.mean() - 5.5) <= 1
    # Beyond the picture nothing is defined.
    corner = print_of(sample.channels["a"], regions, 1, 30)
    assert np.isnan(corner.values[0, 0])
    grey = print_grey(one, 10, 100)
    assert set(np.unique(grey)) == {0, 255}
    assert rim_of(one.inside).sum() == 20
    assert print_of(sample.channels["a"], regions, 77, 12).inside.sum() == 0
    assert common_side([]) == 8
