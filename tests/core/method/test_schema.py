"""The JSON Schema of method files: every field has a meaning, and it agrees with the reader."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import jsonschema
import pytest

from rilievo.core.cleaning import CLEANERS
from rilievo.core.errors import MethodError
from rilievo.core.method.library import shipped
from rilievo.core.method.method import FORMAT, VERSION, Method
from rilievo.core.method.schema import method_schema
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.signal.steps import STEPS

SCHEMA = method_schema()
VALIDATOR = jsonschema.Draft202012Validator(SCHEMA)


def _fields(part: Any, where: str = "") -> Iterator[tuple[str, Any]]:
    """All properties in a schema with where they stand; conditions are no properties."""
    if isinstance(part, list):
        for one in part:
            yield from _fields(one, where)
    elif isinstance(part, dict):
        for key, one in part.items():
            if key == "if":
                continue
            if key == "properties":
                for name, field in one.items():
                    if isinstance(field, dict) and set(field) != {"const"}:
                        yield f"{where}.{name}", field
            yield from _fields(one, f"{where}.{key}" if key != "properties" else where)


def test_every_field_has_a_meaning() -> None:
    jsonschema.Draft202012Validator.check_schema(SCHEMA)
    fields = list(_fields(SCHEMA))
    assert len(fields) > 300
    assert any(name.endswith(".parameters.tile") for name, _ in fields)
    missing = [name for name, one in fields if not one.get("description")]
    assert missing == []


def test_shipped_methods_and_a_new_one_fit() -> None:
    for one in shipped():
        VALIDATOR.validate(json.loads(one.path.read_text()))
    VALIDATOR.validate(json.loads(Method().to_json()))


def test_percentiles_that_are_not_listed_fit() -> None:
    body = _body(measure={"quantities": ["mean", "p37", "p99_5"]})
    VALIDATOR.validate(body)
    assert Method.from_json(json.dumps(body)).measure.quantities[1] == "p37"
    assert not VALIDATOR.is_valid(_body(measure={"quantities": ["xp37"]}))


def _body(**fields: Any) -> dict[str, Any]:
    return {"format": FORMAT, "version": VERSION, **fields}


@pytest.mark.parametrize(
    "fields",
    [
        {"steps": [{"id": "a", "step": "background.mesh", "parameters": {"tilt": 3}}]},
        {"steps": [{"id": "a", "step": "background.nothing", "parameters": {}}]},
        {"steps": [{"id": "a", "step": "background.mesh", "parameters": {"tile": -3}}]},
        {"outlines": [{"threshold": {"way": "hand", "parameters": {"levels": 3}}}]},
        {"outlines": [{"clean": [{"cleaner": "keep", "parameters": {"lowest": 3}}]}]},
        {"measure": {"quantities": ["beauty"]}},
        {"measures": {}},
    ],
)
def test_schema_and_reader_refuse_the_same(fields: dict[str, Any]) -> None:
    body = _body(**fields)
    assert not VALIDATOR.is_valid(body)
    with pytest.raises(MethodError):
        Method.from_json(json.dumps(body))


def test_every_entry_of_the_registries_is_in_it() -> None:
    parts = SCHEMA["$defs"]
    assert parts["StepUse"]["properties"]["step"]["enum"] == list(STEPS)
    assert parts["CleanUse"]["properties"]["cleaner"]["enum"] == list(CLEANERS)
    assert parts["ThresholdUse"]["properties"]["way"]["enum"] == list(THRESHOLDS)
