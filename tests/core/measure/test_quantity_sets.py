from __future__ import annotations

from rilievo.core.measure import QUANTITIES
from rilievo.core.measure.quantity_sets import (
    READY_SETS,
    found_quantities,
    sets_from_json,
    sets_to_json,
)


def test_sets_of_quantities() -> None:
    assert found_quantities("smallest width")[0] == "caliper_min"
    assert found_quantities("p99_5") == ("p99_5",)
    assert found_quantities("no such thing") == ()
    assert len(READY_SETS["Everything"]) > 90
    assert {QUANTITIES[key].family for key in READY_SETS["Stars"]} == {"star"}
    kept = sets_from_json(sets_to_json({"mine": ("mean", "p37")}))
    assert kept == {"mine": ("mean", "p37")}
    assert sets_from_json("not json") == {}
    assert sets_from_json('{"a": ["mean", "nonsense", 3], "b": 4, "c": []}') == {"a": ("mean",)}
