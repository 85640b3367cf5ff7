"""Derived columns, pairs of classes, marks of regions."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.region_flags import REGION_MARKS, flag, marks_in
from rilievo.core.method.class_definition import Outline, hand_threshold
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.origin import origin_of
from rilievo.core.regions import RegionFacts
from rilievo.core.regions.drawn import DrawnRegion
from rilievo.core.regions.shapes import RectangleShape
from rilievo.core.table.compartments import Pair, pair_terms
from rilievo.core.table.derived_columns import (
    DerivedColumn,
    column_formula,
    missing_names,
    with_derived,
)
from rilievo.core.table.table import RegionTable, chosen_frame, region_frame


def table(sample: str = "a", group: str = "", scale: float = 1.0) -> RegionTable:
    columns = {
        "lipid": {
            "mean": scale * np.array([10.0, 20.0, 40.0]),
            "sum": scale * np.array([100.0, 400.0, 1600.0]),
            "area_unit": np.array([2.0, 4.0, np.nan]),
        },
        "green": {
            "mean": np.array([5.0, 0.0, 8.0]),
            "sum": np.array([1.0, 2.0, 3.0]),
            "area_unit": np.array([2.0, 4.0, np.nan]),
        },
    }
    known = {2: RegionFacts(name="reference")}
    return RegionTable(
        sample, "", group, ("cell",), np.array([1, 2, 3]), columns, "µm", known=known
    )


def derived(formula: str, *tables: RegionTable) -> tuple[list[float], str]:
    made = with_derived(tables or [table()], [DerivedColumn(name="new", formula=formula)])[0]
    return made.column("lipid", "new").tolist(), made.quantity("new").unit_text("µm")


@pytest.mark.parametrize(
    ("formula", "values", "unit"),
    [
        ("sum / area_unit", [50, 100, np.nan], "counts/µm²"),
        ("mean * 2 + mean", [30, 60, 120], "counts"),
        ('mean / mean("reference")', [0.5, 1, 2], ""),
        ('mean / "green: mean"', [2, np.nan, 5], ""),
        ("mean / mean(mean)", [10 / 70 * 3, 20 / 70 * 3, 40 / 70 * 3], ""),
        ("sqrt(area_unit)", [2**0.5, 2, np.nan], "µm"),
        ("mean + area_unit", [12, 24, np.nan], ""),
        ("log10(mean / 10)", [0, np.log10(2), np.log10(4)], ""),
        ("mean * sum", [1000, 8000, 64000], "counts²"),
        ("nowhere + 1", [np.nan] * 3, ""),
    ],
)
def test_formulas_over_columns(formula: str, values: list[float], unit: str) -> None:
    found, found_unit = derived(formula)
    np.testing.assert_allclose(found, values)
    assert found_unit == unit


def test_a_group_as_reference_is_taken_from_all_samples() -> None:
    control, treated = table("a", "control", 0.5), table("b", "treated")
    made = with_derived(
        [control, treated], [DerivedColumn(name="relative", formula='mean / mean("control")')]
    )
    middle = (5 + 10 + 20) / 3
    np.testing.assert_allclose(made[1].column("lipid", "relative"), np.array([10, 20, 40]) / middle)
    frame = region_frame(made)
    assert frame["relative"].notna().sum() == 12


def test_a_later_column_may_use_an_earlier_one() -> None:
    columns = [
        DerivedColumn(name="density", formula="sum / area_unit"),
        DerivedColumn(name="twice", formula="2 * density", unit="a.u."),
    ]
    made = with_derived([table()], columns)[0]
    np.testing.assert_allclose(made.column("lipid", "twice"), [100, 200, np.nan])
    assert made.heading("twice") == "twice (a.u.)"
    assert made.heading("density") == "density (counts/µm²)"


def test_formulas_that_cannot_be_read_say_where() -> None:
    with pytest.raises(ValueError, match=r"at character 7 .*another|at character \d"):
        DerivedColumn(name="x", formula="mean /")
    with pytest.raises(ValueError, match="name is taken"):
        Measure(derived=(DerivedColumn(name="mean", formula="sum"),))
    assert missing_names("mean / nothing + sum", table()) == ["nothing"]
    assert column_formula('mean("a b") + mean(mean)').names == ("mean of a b", "mean")


# -- pairs


def compartments() -> tuple[Sample, Method]:
    """Two cells with a signal of 10; one has two nuclei of 40 and 20, one none."""
    values = np.zeros((20, 40), np.float32)
    values[2:12, 2:12] = 10
    values[4:6, 4:6] = 40
    values[8:10, 8:12] = 20
    values[2:12, 20:30] = 10
    level = {"source": "threshold", "clean": ()}
    cell = Outline(region_class="cell", threshold=hand_threshold(5), **level)
    nucleus = Outline(region_class="nucleus", threshold=hand_threshold(15), **level)
    measure = Measure(
        quantities=("mean", "sum", "pixel_count", "area"),
        pairs=(Pair(inner="nucleus", outer="cell"), Pair(inner="vacuole", outer="cell")),
    )
    return Sample("s", {"gray": Plane(values)}), Method(outlines=(cell, nucleus), measure=measure)


def test_ratio_difference_and_share_of_compartments() -> None:
    sample, method = compartments()
    found = Evaluator().measure(sample, method)
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
    found = Evaluator().measure(sample, method)
    key = method.measure.pairs[0].column_keys[kind]
    origin = origin_of(Evaluator(), sample, method, found, int(found.ids[region]), "gray", key)
    assert origin.formula == formula
    assert origin.value == found.column("gray", key)[region]


def test_a_pair_of_regions_without_a_measured_pixel_is_undefined() -> None:
    columns = {"mean": np.array([1.0, np.nan]), "pixel_count": np.array([5.0, 0.0])}
    pair = Pair(inner="a", outer="b")
    terms = pair_terms(np.array([1, 2]), columns, pair, {2: 1})
    assert np.isnan(terms.columns(pair)[pair.column_keys[0]]).all()


def test_chosen_rows_of_several_classes_are_copied_in_their_order() -> None:
    sample, method = compartments()
    found = Evaluator().measure(sample, method)
    rows = [("s", int(region), "gray") for region in (found.ids[3], found.ids[0], found.ids[2])]
    frame = chosen_frame([found], rows)
    assert frame["class"].tolist() == ["nucleus", "cell", "nucleus"]
    assert frame["region"].tolist() == [2, 1, 1]
    assert frame["mean"].tolist() == [20, pytest.approx(12), 40]


def test_a_pair_needs_two_classes() -> None:
    with pytest.raises(ValueError, match="two different classes"):
        Pair(inner="cell", outer="cell")


# -- marks


def test_marks_of_single_regions() -> None:
    values = np.zeros((30, 30), np.float32)
    values[0:5, 5:10] = 50
    values[10:20, 10:20] = 50
    values[12, 12] = 99
    values[25:27, 25:27] = 50
    values[15, 15] = np.nan
    plane = Plane(values, saturation=90)
    method = Method(
        outlines=(Outline(threshold=hand_threshold(20), clean=()),),
        measure=Measure(quantities=("mean",)),
    )
    found = Evaluator().measure(Sample("s", {"gray": plane}), method)
    marks = [found.marks_of("gray", k) for k in range(3)]
    # The undefined pixel is a hole of the region, so it is not inside.
    assert marks == [("touches the edge",), ("saturated inside",), ("few pixels",)]
    assert found.table["marks"].tolist() == [one[0] for one in marks]


def test_drawn_shapes_know_what_is_undefined_or_outside() -> None:
    values = np.ones((30, 30), np.float32)
    values[5, 5] = np.nan
    shapes = (
        DrawnRegion(shape=RectangleShape(x=6, y=6, width=8, height=8)),
        DrawnRegion(shape=RectangleShape(x=28, y=20, width=8, height=8)),
    )
    method = Method(outlines=(Outline(source="drawn", drawn=shapes),))
    found = Evaluator().measure(Sample("s", {"gray": Plane(values)}), method)
    assert found.marks_of("gray", 0) == ("undefined inside",)
    assert found.marks_of("gray", 1) == ("touches the edge", "partly outside")


def test_bits_stand_for_marks() -> None:
    every = sum(flag(mark) for mark in REGION_MARKS)
    assert marks_in(every) == tuple(REGION_MARKS)
    assert marks_in(0) == ()
