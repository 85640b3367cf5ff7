"""The base of all parameter objects: immutable, declared once with range, unit, title and help.

The check, the form, the method file and the help page are made from the declaration.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, ClassVar, Protocol, TypeVar, get_args

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from rilievo.core.registry import Registry

# Numbers that are put in place of pixels: what a float of 32 bits holds, with room to compute.
LARGEST = 1e30


class Parameters(BaseModel):
    """Immutable parameters; an unknown field is an error.

    in_words : what they do as it stands in a paper's methods, with {field} for values; "" leaves
    it to title and settings.
    """

    in_words: ClassVar[str] = ""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class Rectangle(Parameters):
    """Whole pixels: columns x … x + width − 1 and rows y … y + height − 1."""

    x: int = Field(title="Left", description="first column", json_schema_extra={"unit": "px"})
    y: int = Field(title="Top", description="first row", json_schema_extra={"unit": "px"})
    width: int = Field(
        ge=1, title="Width", json_schema_extra={"unit": "px"}, description="number of columns"
    )
    height: int = Field(
        ge=1, title="Height", json_schema_extra={"unit": "px"}, description="number of rows"
    )

    def slices(self, shape: tuple[int, int]) -> tuple[slice, slice]:
        """Return the part inside an image of `shape` (height, width); it may be empty."""
        rows = slice(max(self.y, 0), max(min(self.y + self.height, shape[0]), 0))
        columns = slice(max(self.x, 0), max(min(self.x + self.width, shape[1]), 0))
        return rows, columns


_REASONS = {
    "extra_forbidden": "is not known here",
    "missing": "is missing",
}


def explain(error: ValidationError, where: str = "", kind: type[BaseModel] | None = None) -> str:
    """Return one sentence for the first thing wrong, with its place and the value given.

    kind : what was to be read, by which a wrong name gets the nearest right one.
    """
    first = error.errors()[0]
    path = ".".join(str(part) for part in (where, *first["loc"]) if part != "")
    name = path or "the parameters"
    if first["type"] in _REASONS:
        hint = ""
        if kind is not None and first["type"] == "extra_forbidden":
            hint = nearest(str(first["loc"][-1]), _fields_at(kind, first["loc"][:-1]))
        return f"“{name}” {_REASONS[first['type']]}{hint or '.'}"
    reason = first["msg"]
    for prefix in ("Value error, ", "Input "):
        reason = reason.removeprefix(prefix)
    if first["type"] == "value_error":
        return f"“{name}” {reason.rstrip('.')}."
    return f"“{name}” {reason}. Got {_short(first.get('input'))}."


def nearest(word: str, known: Iterable[str]) -> str:
    """Return “; did you mean “x”?” without its end, for what is known and like a word; or ""."""
    close = difflib.get_close_matches(word, list(known), n=1, cutoff=0.6)
    return f"; did you mean “{close[0]}”?" if close else ""


def _fields_at(kind: type[BaseModel], place: Sequence[str | int]) -> tuple[str, ...]:
    """The fields of the model at a place within another; none where that is no model."""
    here: type[BaseModel] | None = kind
    for part in place:
        if here is None:
            return ()
        if isinstance(part, str) and part in here.model_fields:
            here = _model_in(here.model_fields[part].annotation)
    return tuple(here.model_fields) if here is not None else ()


def _model_in(annotation: Any) -> type[BaseModel] | None:
    """The first model within an annotation, such as that of tuple[Model, ...]."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    return next((model for part in get_args(annotation) if (model := _model_in(part))), None)


def _short(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "…"


def build(kind: type[Parameters], given: Mapping[str, Any]) -> Parameters:
    """Return parameters of a kind. Raises ValueError with the position and the reason."""
    try:
        return kind.model_validate(dict(given))
    except ValidationError as exc:
        raise ValueError(f"has wrong parameters: {explain(exc, kind=kind).rstrip('.')}") from exc


class _HasParameters(Protocol):
    @property
    def parameters(self) -> type[Parameters]: ...


Entry = TypeVar("Entry", bound=_HasParameters)


def with_typed_parameters(
    data: Any, field: str, registry: Registry[Entry], what: str, default: str | None = None
) -> Any:
    """Return the data of one use of a registry's entry with its parameters built by their kind.

    field : which names the entry; `default` where it is not given. what : an entry in words.
    Raises ValueError for a name that is not listed.
    """
    if not isinstance(data, Mapping):
        return data
    key, given = data.get(field, default), data.get("parameters", {})
    if not isinstance(key, str) or key not in registry:
        raise ValueError(f"names an unknown {what} {key!r}{nearest(str(key), registry)}")
    if isinstance(given, Mapping):
        return {**data, "parameters": build(registry[key].parameters, given)}
    return data
