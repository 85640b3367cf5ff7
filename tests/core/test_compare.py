from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.compare import UNGROUPED, compare, confidence_interval
from rilievo.core.errors import ComparisonError
from rilievo.core.table import RegionTable


def table(sample: str, group: str, values: list[float]) -> RegionTable:
    return RegionTable(
        sample=sample,
        file="",
        group=group,
        classes=("cell",),
        ids=np.arange(1, len(values) + 1),
        columns={"dye": {"mean": np.array(values, dtype=float)}},
    )


def test_samples_enter_with_the_mean_over_their_regions() -> None:
    tables = [
        table("a1", "a", [1.0, 3.0]),
        table("a2", "a", [4.0]),
        table("b1", "b", [10.0, 20.0, 30.0]),
        table("b2", "b", [16.0]),
    ]
    result = compare(tables, "mean", "dye")
    first, second = result.statistics
    assert (first.group, first.samples, first.regions) == ("a", 2, 3)
    assert first.mean == 3.0
    assert first.sd == pytest.approx(math.sqrt(2))
    assert second.mean == 18.0
    assert second.ratio == 6.0
    assert first.ratio == 1.0
    assert [p.value for p in result.points["b"]] == [20.0, 16.0]


def test_interval_against_the_published_t_table() -> None:
    # Student's t, 97.5 %: 12.706 for 1, 3.182 for 3, 2.262 for 9 degrees of freedom.
    for n, t in ((2, 12.706), (4, 3.182), (10, 2.262)):
        values = np.arange(n, dtype=float)
        low, high = confidence_interval(values)
        half = t * values.std(ddof=1) / math.sqrt(n)
        assert high - values.mean() == pytest.approx(half, rel=2e-4)
        assert values.mean() - low == pytest.approx(half, rel=2e-4)


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=30))
def test_interval_is_centred_on_the_mean(values: list[float]) -> None:
    low, high = confidence_interval(np.array(values))
    assert (low + high) / 2 == pytest.approx(np.mean(values), abs=1e-3)


def test_one_sample_has_no_spread() -> None:
    one = compare([table("a1", "a", [1.0, 2.0])], "mean", "dye").statistics[0]
    assert one.mean == 1.5
    assert math.isnan(one.sd)
    assert math.isnan(one.interval[0])


def test_samples_without_regions_are_named_and_left_out() -> None:
    result = compare(
        [table("a1", "a", [1.0]), table("a2", "a", []), table("b1", "b", [math.nan])], "mean", "dye"
    )
    assert result.without_value == ("a2", "b1")
    assert [s.samples for s in result.statistics] == [1, 0]
    assert result.sentence() == ""


def test_samples_without_a_group_form_one() -> None:
    result = compare([table("x", "", [1.0]), table("y", "b", [2.0])], "mean", "dye")
    assert result.groups == (UNGROUPED, "b")


def test_the_sentence_says_what_was_compared() -> None:
    tables = [table(f"a{i}", "control", [10.0 + i]) for i in range(3)]
    tables += [table(f"b{i}", "treated", [33.0 + 3 * i]) for i in range(3)]
    sentence = compare(tables, "mean", "dye").sentence()
    assert sentence == (
        "treated: 36.00 ± 3.00, against control: 11.00 ± 1.00 (dye, mean per cell (counts); "
        "mean ± sd of 3 and 3 samples); ratio 3.27."
    )


def test_nothing_measured_is_said() -> None:
    with pytest.raises(ComparisonError, match="measure all samples"):
        compare([], "mean", "dye")
    with pytest.raises(ComparisonError, match="area"):
        compare([table("a", "a", [1.0])], "area", "dye")


def test_the_label_carries_the_unit() -> None:
    calibrated = RegionTable(
        sample="a",
        file="",
        group="g",
        classes=("droplet",),
        ids=np.array([1]),
        columns={"dye": {"area_unit": np.array([2.0]), "sd": np.array([1.0])}},
        unit="µm",
    )
    assert compare([calibrated], "area_unit", "dye").label == "dye, area per droplet (µm²)"
    assert compare([calibrated], "sd", "dye").label == "dye, SD per droplet (counts)"
