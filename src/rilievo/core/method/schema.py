"""The JSON Schema of method files, made from the models and the registries."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping
from typing import Any

from rilievo.core.cleaning import CLEANERS
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.method import FORMAT, VERSION, Method
from rilievo.core.parameters import Parameters
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.signal.steps import STEPS

# Before this version there was one outline, which the reader brings up to date.
_ALIKE = 4
_DIALECT = "https://json-schema.org/draft/2020-12/schema"


def method_schema() -> dict[str, Any]:
    """Return the schema (JSON Schema 2020-12) of what a method file holds.

    Parameters depend on the step, threshold or clean-up they are of: these are listed one by one.
    """
    schema = Method.model_json_schema(mode="validation")
    parts = schema["$defs"]
    steps = {key: STEPS[key].parameters for key in STEPS}
    cleaners = {key: CLEANERS[key].parameters for key in CLEANERS}
    thresholds = {key: THRESHOLDS[key].parameters for key in THRESHOLDS}
    parts["StepUse"] = _chosen(parts, parts["StepUse"], "step", steps)
    parts["CleanUse"] = _chosen(parts, parts["CleanUse"], "cleaner", cleaners)
    parts["ThresholdUse"] = _chosen(parts, parts["ThresholdUse"], "way", thresholds)
    # Percentiles that are not listed are made when they are asked for.
    percentile = {"type": "string", "pattern": QUANTITIES.PERCENTILE.pattern}
    listed = {"enum": list(QUANTITIES)}
    parts["Measure"]["properties"]["quantities"]["items"] = {"anyOf": [listed, percentile]}
    properties = {
        "format": {"const": FORMAT, "description": "what kind of file it is"},
        "version": {
            "type": "integer",
            "minimum": _ALIKE,
            "maximum": VERSION,
            "description": f"of the format; {VERSION} is written, and all before it are read",
        },
    }
    return {
        "$schema": _DIALECT,
        "title": "Rilievo method",
        "description": "Ordered steps, region classes and quantities, as read by rilievo run.",
        **{key: value for key, value in schema.items() if key not in ("title", "description")},
        "properties": {**properties, **schema["properties"]},
        "required": ["format", "version"],
    }


def _chosen(
    parts: dict[str, Any],
    use: Mapping[str, Any],
    field: str,
    kinds: Mapping[str, type[Parameters]],
) -> dict[str, Any]:
    """The schema of one use of a registry's entry: a name, and parameters that follow from it."""
    whole = copy.deepcopy(dict(use))
    names: dict[str, Any] = {"enum": list(kinds)}
    if "default" in whole["properties"][field]:
        names["default"] = whole["properties"][field]["default"]
    whole["properties"][field] |= names
    whole["properties"]["parameters"] = {
        "type": "object",
        "description": f"what can be set follows from “{field}”",
    }
    needs_none = {key for key, kind in kinds.items() if not _required(kind)}
    whole["required"] = [name for name in whole.get("required", ()) if name != "parameters"]
    whole["allOf"] = [
        {
            "if": {"properties": {field: {"const": key}}, "required": [field]},
            "then": {
                "properties": {"parameters": _parameters(parts, kind)},
                **({} if key in needs_none else {"required": ["parameters"]}),
            },
        }
        for key, kind in kinds.items()
    ]
    return whole


def _required(kind: type[Parameters]) -> Iterable[str]:
    return [name for name, field in kind.model_fields.items() if field.is_required()]


def _parameters(parts: dict[str, Any], kind: type[Parameters]) -> dict[str, Any]:
    """The schema of parameters; what it refers to joins the other parts."""
    schema = kind.model_json_schema(mode="validation")
    parts.update(schema.pop("$defs", {}))
    return schema
