"""Derived columns, pairs of classes, marks of regions."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.method.method import Measure
from rilievo.core.regions import RegionAnnotation
from rilievo.core.table.derived_columns import (
    DerivedColumn,
    column_formula,
    missing_names,
    with_derived,
)
from rilievo.core.table.table import RegionTable, region_frame


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
    known = {2: RegionAnnotation(name="reference")}
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
    frame = region_frame(made).to_pandas()
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
