from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.origin import origin_of
from rilievo.core.table.derived_columns import DerivedColumn, with_derived
from tests.core.helpers.table_files import study


def test_where_a_number_comes_from() -> None:
    sample, method, table = study()
    cache = AnalysisCache()
    origin = origin_of(Analysis(sample, method, cache), table, 2, "a", "mean", [("a.tif", "abc")])
    assert origin.value == table.column("a", "mean")[1]
    assert origin.x.size == 40
    assert (origin.x.min(), origin.x.max()) == (20, 29)
    assert (origin.y.min(), origin.y.max()) == (20, 23)
    assert sorted(set(origin.native.tolist())) == [900, 901]
    assert sorted(set(origin.signal.tolist())) == [1620, 1622]
    before_after = [(step.before, step.after) for step in origin.steps]
    assert before_after == [
        (pytest.approx(900.025), pytest.approx(810.025)),
        (pytest.approx(810.025), pytest.approx(1620.05)),
    ]
    assert origin.files == (("a.tif", "abc"),)
    text = origin.text()
    for part in ("Mean of cell 2, a: 1620.05 counts", "folder/field.tif", "Σ v / n", "20\t20\t901"):
        assert part in text
    assert origin.formula == "64802 / 40"


@pytest.mark.parametrize("key", [key for key in QUANTITIES if QUANTITIES[key].family != "star"])
def test_every_quantity_has_an_origin(key: str) -> None:
    sample, method, _ = study()
    method = method.changed(measure=Measure(quantities=(key,)))
    cache = AnalysisCache()
    table = Analysis(sample, method, cache).table()
    origin = origin_of(Analysis(sample, method, cache), table, 1, "b", key)
    np.testing.assert_equal(origin.value, table.column("b", key)[0])
    assert QUANTITIES[key].title in origin.text()


@pytest.mark.parametrize(
    ("key", "formula"),
    [
        # h is the number of holes and S the solidity elsewhere, not in these.
        ("p05", "v₍ₖ₎ + (h − k)·(v₍ₖ₊₁₎ − v₍ₖ₎), h = 0.05·(35 − 1), k = ⌊h⌋"),
        ("saturated_count", "n(w ≥ S)"),
        ("cv", "0 / 820"),
        ("native_mean", "17500 / 35"),
        ("euler", "1 − 0"),
        ("solidity", "35 / 35"),
    ],
)
def test_symbols_are_put_in_where_they_mean_that(key: str, formula: str) -> None:
    sample, method, _ = study()
    method = method.changed(measure=Measure(quantities=(key,)))
    cache = AnalysisCache()
    table = Analysis(sample, method, cache).table()
    assert origin_of(Analysis(sample, method, cache), table, 1, "a", key).formula == formula


def test_the_origin_of_a_derived_column_puts_its_columns_in() -> None:
    sample, method, table = study()
    made = with_derived([table], [DerivedColumn(name="ratio", formula="sum / area")])[0]
    origin = origin_of(Analysis(sample, method), made, 1, "a", "ratio")
    assert origin.value == 820
    assert origin.formula == "28700 / 35"
    assert origin.unit == "counts/px²"


def test_pixels_are_followed_through_steps_that_move_them() -> None:
    values = np.arange(600, dtype=np.float32).reshape(20, 30)
    sample = Sample("s", {"gray": Plane(values)})
    method = Method(
        steps=(
            step_use("plus", "arithmetic.number", operation="add", number=1000),
            step_use("turn", "geometry.turn", quarters=1),
        ),
        outlines=(ClassDefinition(threshold=hand_threshold(1590), clean=()),),
        measure=Measure(quantities=("mean",)),
    )
    cache = AnalysisCache()
    table = Analysis(sample, method, cache).table()
    origin = origin_of(Analysis(sample, method, cache), table, int(table.ids[0]), "gray", "mean")
    kept = values[values + 1000 > 1590]
    assert sorted(origin.native.tolist()) == kept.tolist()
    assert origin.steps[0].before == pytest.approx(kept.mean())
    assert origin.steps[0].after == pytest.approx(kept.mean() + 1000)
    assert origin.steps[1].after == pytest.approx(kept.mean() + 1000)
