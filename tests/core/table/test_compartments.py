from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.origin import origin_of
from rilievo.core.table.compartments import Pair, pair_terms
from tests.core.helpers.columns import compartments


def test_ratio_difference_and_share_of_compartments() -> None:
    sample, method = compartments()
    found = Analysis(sample, method).table()
    ratio, difference, share = (
        found.column("gray", key) for key in method.measure.pairs[0].column_keys
    )
    whole = 10.0 * 88 + 40 * 4 + 20 * 8
    mean = whole / 100
    nuclei = (40 * 4 + 20 * 8) / 12
    # In the order of the numbers: two cells, then two nuclei.
    np.testing.assert_allclose(ratio, [nuclei / mean, np.nan, 40 / mean, 20 / mean])
    np.testing.assert_allclose(difference, [nuclei - mean, np.nan, 40 - mean, 20 - mean])
    np.testing.assert_allclose(share, [320 / whole, np.nan, 160 / whole, 160 / whole])
    assert {found.facts(int(r)).parent for r in found.ids[2:]} == {1}
    frame = found.table
    assert frame["children"].tolist() == [2, 0, 0, 0]
    # A class that is not there leaves its columns undefined.
    assert np.isnan(found.column("gray", "vacuole/cell mean ratio")).all()
    assert found.heading("nucleus/cell mean difference").endswith("(counts)")


@pytest.mark.parametrize(
    ("kind", "region", "formula"),
    [
        (0, 2, "40 / 12"),
        (1, 3, "20 − 12"),
        (2, 2, "160 / 1200"),
        # Of the cell: both of its nuclei together.
        (0, 0, "26.6667 / 12"),
        (2, 0, "320 / 1200"),
    ],
)
def test_the_origin_of_a_pair_puts_both_numbers_in(kind: int, region: int, formula: str) -> None:
    sample, method = compartments()
    found = Analysis(sample, method).table()
    key = method.measure.pairs[0].column_keys[kind]
    origin = origin_of(Analysis(sample, method), found, int(found.ids[region]), "gray", key)
    assert origin.formula == formula
    assert origin.value == found.column("gray", key)[region]


def test_a_pair_of_regions_without_a_measured_pixel_is_undefined() -> None:
    columns = {"mean": np.array([1.0, np.nan]), "pixel_count": np.array([5.0, 0.0])}
    pair = Pair(inner="a", outer="b")
    terms = pair_terms(np.array([1, 2]), columns, pair, {2: 1})
    assert np.isnan(terms.columns(pair)[pair.column_keys[0]]).all()


def test_a_pair_needs_two_classes() -> None:
    with pytest.raises(ValueError, match="two different classes"):
        Pair(inner="cell", outer="cell")
