from __future__ import annotations

import json

import pytest

from rilievo.core.errors import MethodError
from rilievo.core.method.method import VERSION, Method, step_use
from rilievo.core.table.compartments import Pair
from rilievo.core.table.derived_columns import DerivedColumn
from tests.core.helpers.outputs_of_measure import star_method, two_classes


def test_a_method_keeps_all_of_measure() -> None:
    method = two_classes(
        derived=(DerivedColumn(name="mine", formula='mean / mean("control")', unit="a.u."),),
        pairs=(Pair(inner="core", outer="cell", quantity="sum"),),
        ring_gap=1.5,
        ring_width=8.0,
    ).changed(steps=(step_use("c", "curve.calibrate", points=[{"intensity": 1, "value": 2}]),))
    assert Method.from_json(method.to_json()) == method
    stars = star_method()
    assert Method.from_json(stars.to_json()).outline.star.radius == 6


def test_methods_of_before_are_read() -> None:
    old = json.loads(Method().to_json())
    assert old["version"] == VERSION
    old["version"] = 4
    for key in ("pairs", "derived", "ring_gap", "ring_width"):
        del old["measure"][key]
    for one in old["outlines"]:
        del one["star"]
    assert Method.from_json(json.dumps(old)) == Method()


@pytest.mark.parametrize(
    ("measure", "said"),
    [
        ({"derived": [{"name": "a", "formula": "mean +"}]}, "cannot be read at character"),
        ({"derived": [{"name": "a", "formula": "1"}] * 2}, "name is taken"),
        ({"pairs": [{"inner": "a", "outer": "a"}]}, "two different classes"),
        ({"quantities": ["p100"]}, "unknown quantity 'p100'"),
        ({"ring_width": 0}, "greater than 0"),
    ],
)
def test_what_is_wrong_in_a_method_is_named(measure: dict, said: str) -> None:
    data = json.loads(Method().to_json())
    data["measure"] |= measure
    with pytest.raises(MethodError, match=said):
        Method.from_json(json.dumps(data))


def test_a_derived_column_does_not_make_measurements_out_of_date() -> None:
    plain = two_classes()
    with_column = two_classes(derived=(DerivedColumn(name="mine", formula="mean"),))
    assert plain.of_regions == with_column.of_regions
    with_pair = two_classes(pairs=(Pair(inner="core", outer="cell"),))
    assert plain.of_regions != with_pair.of_regions
