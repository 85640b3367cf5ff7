"""The base of all parameter objects: immutable, declared once with range, unit, title and help.

The check, the form, the method file and the help page are made from the declaration.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Protocol, TypeVar

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
    width: int = Field(ge=1, title="Width", json_schema_extra={"unit": "px"})
    height: int = Field(ge=1, title="Height", json_schema_extra={"unit": "px"})

    def slices(self, shape: tuple[int, int]) -> tuple[slice, slice]:
        """Return the part inside an image of `shape` (height, width); it may be empty."""
        rows = slice(max(self.y, 0), max(min(self.y + self.height, shape[0]), 0))
        columns = slice(max(self.x, 0), max(min(self.x + self.width, shape[1]), 0))
        return rows, columns


_REASONS = {
    "extra_forbidden": "is not known here",
    "missing": "is missing",
}


def explain(error: ValidationError, where: str = "") -> str:
    """Return one sentence for the first thing wrong, with its place and the value given."""
    first = error.errors()[0]
    path = ".".join(str(part) for part in (where, *first["loc"]) if part != "")
    name = path or "the parameters"
    if first["type"] in _REASONS:
        return f"“{name}” {_REASONS[first['type']]}."
    reason = first["msg"]
    for prefix in ("Value error, ", "Input "):
        reason = reason.removeprefix(prefix)
    if first["type"] == "value_error":
        return f"“{name}” {reason.rstrip('.')}."
    return f"“{name}” {reason}. Got {_short(first.get('input'))}."


def _short(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "…"


def build(kind: type[Parameters], given: Mapping[str, Any]) -> Parameters:
    """Return parameters of a kind. Raises ValueError with the position and the reason."""
    try:
        return kind.model_validate(dict(given))
    except ValidationError as exc:
        raise ValueError(f"has wrong parameters: {explain(exc).rstrip('.')}") from exc


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
        raise ValueError(f"names an unknown {what} {key!r}")
    if isinstance(given, Mapping):
        return {**data, "parameters": build(registry[key].parameters, given)}
    return data
