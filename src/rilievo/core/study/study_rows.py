"""The rows of a study file, checked like a method before anything is made of them."""

from __future__ import annotations

from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from rilievo.core.files.channel_preparation import MetadataOverrides
from rilievo.core.image.stack import Frame
from rilievo.core.parameters import explain
from rilievo.core.untrusted_json import JsonError, parsed
from rilievo.core.view.palettes import ViewStyle

# Far more than a study has that one person looks at.
MOST_SAMPLES = 200_000
MOST_PARTS = 10 * MOST_SAMPLES


def _from_json(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    try:
        return parsed(value)
    except JsonError as exc:
        raise ValueError(str(exc)) from exc


def _frame(value: Any) -> Any:
    """A plane of a stack from its words; the error of wrong ones is a ValueError."""
    return Frame.parse(value) if isinstance(value, str) else value


Name = Annotated[str, Field(min_length=1, max_length=1000)]
Short = Annotated[str, Field(max_length=1000)]
File = Annotated[str, Field(min_length=1, max_length=4000, pattern=r"^[^\x00]*$")]
Count = Annotated[int, Field(ge=0, lt=2**62)]
Finite = Annotated[float, Field(allow_inf_nan=False)]


class Row(BaseModel):
    """A row of a table; text columns that hold JSON are taken apart."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class SampleRow(Row):
    """A sample with its file."""

    id: Annotated[int, Field(gt=0, lt=2**62)]
    name: Name
    path: File
    size: Count
    sha256: Annotated[str, Field(max_length=1_000_000)]
    sample_group: Short
    replicate: Short
    declared: Annotated[MetadataOverrides, BeforeValidator(_from_json)]
    attributes: Annotated[
        dict[Short, Annotated[str, Field(max_length=20_000)]], BeforeValidator(_from_json)
    ] = Field(max_length=1000)


class PartRow(Row):
    """A file, or planes of one, that a sample is made of."""

    sample: int
    path: File
    image: Annotated[int, Field(ge=0, lt=1_000_000)]
    planes: Annotated[tuple[Short, ...] | None, BeforeValidator(_from_json)]
    channel: Short
    frame: Annotated[Frame | None, BeforeValidator(_frame)] = None


class RangeRow(Row):
    """A display range."""

    sample: int
    channel: Short
    lane: Literal["native", "signal"]
    low: Finite
    high: Finite


class StyleRow(Row):
    """How a channel is shown."""

    sample: int
    channel: Short
    style: Annotated[ViewStyle, BeforeValidator(_from_json)]


class FactsValue(Row):
    """What is known of a region beside its pixels."""

    name: Short = ""
    group: Short = ""
    attributes: dict[Short, Short] = Field(default_factory=dict)
    parent: int = 0
    edit: Short = ""


class MeasuredRow(Row):
    """What was measured of a sample, beside the numbers."""

    sample: int
    classes: Annotated[tuple[Short, ...], BeforeValidator(_from_json)]
    unit: Short
    thresholds: Annotated[tuple[float | None, ...], BeforeValidator(_from_json)]
    image_pixels: Count
    channels: Annotated[tuple[Short, ...], BeforeValidator(_from_json)]
    method_digest: Short
    known: Annotated[dict[int, FactsValue], BeforeValidator(_from_json)]
    flags: Annotated[
        dict[Short, tuple[Annotated[int, Field(ge=0, le=255)], ...]], BeforeValidator(_from_json)
    ]
    units: Annotated[dict[Short, Short], BeforeValidator(_from_json)]
    image_width: Count


class HistoryRow(Row):
    """A change of the study."""

    time: Short
    text: Annotated[str, Field(max_length=100_000)]
    sample: Short
    changes: str
    method: Short


R = TypeVar("R", bound=Row)


def checked(kind: type[R], values: tuple[Any, ...], where: str) -> R:
    """Return a row of a kind. Raises ValueError with the table and the column."""
    try:
        return kind.model_validate(dict(zip(kind.model_fields, values, strict=True)))
    except ValidationError as exc:
        raise ValueError(f"{where}: {explain(exc).rstrip('.')}") from exc
