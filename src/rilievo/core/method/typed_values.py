"""Values of a method as they are typed: `STEP.PARAMETER=VALUE`, `CLASS.PARAMETER=VALUE`.

STEP is the id of a step or its key, CLASS a region class, CLASS.CLEAN-UP one of its clean-ups;
`measure` and `reading` name those parts. A path, or a list of them, stands for a frame set.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from rilievo.core.cleaning import CLEANERS
from rilievo.core.errors import MethodError
from rilievo.core.files.channel_preparation import Reading
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.method import Measure, Method
from rilievo.core.parameters import explain, nearest
from rilievo.core.regions.derived_classes import Derivation
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.signal.steps import STEPS

_OF_STEP = ("on", "channels", "name")
_OF_CLASS = ("source", "channel", "keep", "connectivity", "label_image")
_OF_THRESHOLD = ("way", "factor", "offset", "pooled")
_OF_MEASURE = tuple(name for name in Measure.model_fields if name not in ("pairs", "derived"))


@dataclass(frozen=True)
class _Part:
    """A part of a method as plain data, by its name, with the names of what can be set in it."""

    name: str
    data: dict[str, Any]
    fields: Sequence[str]


def with_typed_values(method: Method, given: Sequence[str]) -> Method:
    """Return the method with values set, each given as `NAME.PARAMETER=VALUE`.

    A value is JSON, or else a text. Raises MethodError with what is wrong and the nearest name.
    """
    values: dict[str, Any] = {}
    for text in given:
        place, equals, value = text.partition("=")
        if not equals:
            raise MethodError(f"“{text}” does not set a value; write STEP.PARAMETER=VALUE.")
        # What is set twice is set in the order given.
        values.pop(place.strip(), None)
        values[place.strip()] = _value(value.strip())
    return with_values(method, values)


def with_values(method: Method, values: Mapping[str, Any]) -> Method:
    """Return the method with values set, NAME.PARAMETER → value. Raises MethodError."""
    if not values:
        return method
    body = method.model_dump(mode="json")
    for place, value in values.items():
        name, dot, field = place.rpartition(".")
        if not (dot and name and field):
            raise MethodError(f"“{place}” does not name a value; write STEP.PARAMETER=VALUE.")
        _set(body, name, field, value)
    try:
        return Method.model_validate(body)
    except ValidationError as exc:
        raise MethodError(f"After {', '.join(values)}: {explain(exc, kind=Method)}") from exc


def settable(method: Method) -> dict[str, Any]:
    """Return all that can be set in a method, NAME.PARAMETER → the value it has."""
    return {
        f"{part.name}.{field}": part.data.get(field)
        for part in _parts(method.model_dump(mode="json"))
        for field in part.fields
    }


def _value(text: str) -> Any:
    try:
        return json.loads(text)
    except json.JSONDecodeError:
        return text


def _set(body: dict[str, Any], name: str, field: str, value: Any) -> None:
    parts = list(_parts(body))
    named = [part for part in parts if part.name == name]
    if not named:
        names = dict.fromkeys(part.name for part in parts)
        hint = nearest(name, names) or f"; there are {', '.join(names)}."
        raise MethodError(f"The method has no step or class “{name}”{hint}")
    parts_with = [part for part in named if field in part.fields]
    if not parts_with:
        field_names = [field_name for part in named for field_name in part.fields]
        hint = nearest(field, field_names) or f"; it has {', '.join(dict.fromkeys(field_names))}."
        raise MethodError(f"“{name}” has no “{field}”{hint}")
    if len(parts_with) > 1:
        ids = [use["id"] for use in body["steps"] if use["step"] == name]
        raise MethodError(
            f"“{name}” is there {len(parts_with)} times; use the id: {', '.join(ids)}."
        )
    value = _as_frames(value, parts_with[0].data.get(field))
    if field == "way" and parts_with[0].data.get("way") != value:
        parts_with[0].data["parameters"] = {}
    parts_with[0].data[field] = value


def _as_frames(value: Any, before: Any) -> Any:
    """One path or several in place of a frame set; they are relative to the current folder."""
    if not (isinstance(before, dict) and "files" in before and "combine" in before):
        return value
    paths = [value] if isinstance(value, str) else value
    if not isinstance(paths, list) or not all(isinstance(path, str) for path in paths):
        return value
    return {**before, "files": [{"file": str(Path(path).absolute())} for path in paths]}


def _fields(kind: type[BaseModel] | None) -> tuple[str, ...]:
    return tuple(kind.model_fields) if kind is not None else ()


def _parts(body: Mapping[str, Any]) -> Iterator[_Part]:
    for use in body["steps"]:
        for name in dict.fromkeys((use["id"], use["step"])):
            yield _Part(name, use["parameters"], _fields(STEPS[use["step"]].parameters))
            yield _Part(name, use, _OF_STEP)
    for outline in body["outlines"]:
        name, threshold = outline["region_class"], outline["threshold"]
        is_known = threshold["way"] in THRESHOLDS
        kind = THRESHOLDS[threshold["way"]].parameters if is_known else None
        yield _Part(name, threshold["parameters"], _fields(kind))
        yield _Part(name, threshold, _OF_THRESHOLD)
        yield _Part(name, outline, _OF_CLASS)
        if outline["source"] == "stars":
            yield _Part(name, outline["star"], _fields(StarUse))
        if outline["source"] == "derived":
            yield _Part(f"{name}.derivation", outline["derivation"], _fields(Derivation))
        for use in outline["clean"]:
            named = f"{name}.{use['cleaner']}"
            yield _Part(named, use["parameters"], _fields(CLEANERS[use["cleaner"]].parameters))
            yield _Part(named, use, ("on",))
    yield _Part("measure", body["measure"], _OF_MEASURE)
    yield _Part("reading", body["reading"], _fields(Reading))
