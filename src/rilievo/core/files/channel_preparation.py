"""What is made of a file's values before any correction: derived channels, light, levels.

A `Reading` belongs to the method and is the same for all samples; `MetadataOverrides` (pixel size,
saturation level) stand in place of what the file of one sample says. Neither discards a channel
of the file.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator

from rilievo.core.image.image import (
    Calibration,
    Conversion,
    FloatPixels,
    Keep,
    Plane,
    Sample,
    kept_nowhere,
    working_dtype,
)
from rilievo.core.image.lengths import LENGTH_UNITS, is_metric
from rilievo.core.image.stack import AXIS_WORDS, PROJECTIONS, Along, PlaneRange, Projection
from rilievo.core.parameters import Parameters

LUMA_WEIGHTS = {"red": 0.2126, "green": 0.7152, "blue": 0.0722}
BRIGHTNESS = "brightness"

SRGB_NOTE = (
    "The sRGB curve was undone, so that numbers are proportional to light (IEC 61966-2-1); white "
    "keeps its value."
)


class Term(Parameters):
    """A channel and its weight in a mix."""

    channel: str = Field(min_length=1, max_length=200, description="name of the channel")
    weight: float = Field(1.0, ge=-1e6, le=1e6, description="what the channel is multiplied by")


class Over(Parameters):
    """The planes of a stack that a projection is made of, counted from 1.

    last : None is the end.
    """

    how: Projection = Field(
        "mean", title="Made of them", description="what the planes become: mean, max, min, sum …"
    )
    along: Along = Field(
        "time", title="Along", description="which axis is projected: depth (z) or time"
    )
    first: int = Field(1, ge=1, le=1_000_000, title="From plane", description="first plane, from 1")
    last: int | None = Field(
        None,
        ge=1,
        le=1_000_000,
        title="To plane",
        description="last plane, from 1; null: the last of the file",
    )

    @model_validator(mode="after")
    def _rising(self) -> Over:
        if self.last is not None and self.last < self.first:
            raise ValueError("needs a range of planes that rises")
        return self

    @property
    def range(self) -> PlaneRange:
        """The planes, counted from 0."""
        return PlaneRange(
            self.how, self.along, self.first - 1, None if self.last is None else self.last - 1
        )

    @property
    def text(self) -> str:
        """In words: “mean over time”, “largest value over depth 2–9”."""
        places = "" if self.range[2:] == (0, None) else f" {self.first}–{self.last or 'the end'}"
        return f"{PROJECTIONS[self.how]} over {AXIS_WORDS[self.along]}{places}"


class Derived(Parameters):
    """A channel computed from others, in floats.

    mix : Σ weight · channel; weights may be negative. largest : the largest of the channels,
    hue-free. ratio : first / second channel, undefined where the second is 0. projection : of one
    channel over planes of the stack that the sample is a plane of, the same on all of them.
    """

    name: str = Field(
        min_length=1,
        max_length=80,
        title="Name",
        description="name of the new channel, unique in the sample",
    )
    way: Literal["mix", "largest", "ratio", "projection"] = Field(
        "mix", title="Computed as", description="weighted sum, largest, or ratio of the channels"
    )
    terms: tuple[Term, ...] = Field(
        min_length=1, max_length=32, description="the channels it is made of, with their weights"
    )
    over: Over | None = Field(
        None,
        title="Over planes",
        exclude_if=lambda over: over is None,
        description="planes of a stack that are projected; null for a channel of other channels",
    )

    @model_validator(mode="after")
    def _enough(self) -> Derived:
        if self.way == "ratio" and len(self.terms) != 2:
            raise ValueError("needs two channels for a ratio")
        if (self.way == "projection") != (self.over is not None):
            raise ValueError("needs the planes of a projection, and only a projection has them")
        if self.over is not None and len(self.terms) != 1:
            raise ValueError("needs one channel for a projection")
        return self

    @property
    def formula(self) -> str:
        """The definition as people write it."""
        names = [term.channel for term in self.terms]
        if self.over is not None:
            return f"{names[0]}, {self.over.text}"
        if self.way == "largest":
            return f"largest of {', '.join(names)}"
        if self.way == "ratio":
            return f"{names[0]} / {names[1]}"
        text = ""
        for term in self.terms:
            sign = ("− " if text else "−") if term.weight < 0 else ("+ " if text else "")
            size = "" if abs(term.weight) == 1 else f"{abs(term.weight):.6g} · "
            text += f"{' ' if text else ''}{sign}{size}{term.channel}"
        return text


class Reading(Parameters):
    """What a method makes of the file's values before its steps."""

    undo_srgb: bool = Field(
        False,
        title="Undo the sRGB curve",
        description="of photographs, so that numbers are proportional to light",
    )
    derived: tuple[Derived, ...] = Field(
        (), max_length=64, description="channels that are made from those of the file"
    )
    length_unit: Literal["µm", "nm", "mm", "cm"] = Field(
        "µm", title="Unit of lengths", description="that lengths of all samples are converted to"
    )

    @field_validator("derived")
    @classmethod
    def _distinct(cls, derived: tuple[Derived, ...]) -> tuple[Derived, ...]:
        names = [definition.name for definition in derived]
        if len(set(names)) != len(names):
            raise ValueError("has two derived channels of one name")
        return derived


class MetadataOverrides(Parameters):
    """What the user says of a sample in place of its file; None leaves it to the file."""

    pixel_size: float | None = Field(None, gt=0, title="Pixel size")
    pixel_height: float | None = Field(
        None, gt=0, title="Pixel height", description="where pixels are not square"
    )
    unit: str | None = Field(None, title="Unit")
    saturation: float | None = Field(None, title="Saturated from")
    empty: float | None = Field(None, title="Empty up to")

    @field_validator("unit")
    @classmethod
    def _known_unit(cls, unit: str | None) -> str | None:
        if unit is not None and unit not in LENGTH_UNITS:
            raise ValueError(f"names an unknown unit {unit!r}")
        return unit


# One for all samples of which nothing is declared.
NO_OVERRIDES = MetadataOverrides()


def linear_light(pixels: NDArray[Any], white: float) -> FloatPixels:
    """Return sRGB-coded values as values proportional to light; 0 and `white` stay.

    c ≤ 0.04045: c / 12.92, else ((c + 0.055) / 1.055)^2.4, c = value / white.
    Source: IEC 61966-2-1:1999.
    """
    dtype = working_dtype(pixels.dtype)
    if pixels.dtype.kind == "u" and pixels.dtype.itemsize <= 2:
        # Few levels: one look-up instead of a power for every pixel.
        levels = np.arange(np.iinfo(pixels.dtype).max + 1, dtype=np.float64)
        table = _light_of(levels / white) * white
        return np.asarray(table.astype(dtype)[pixels])
    return np.asarray(_light_of(pixels.astype(np.float64) / white) * white, dtype=dtype)


def _light_of(coded: NDArray[np.float64]) -> NDArray[np.float64]:
    low = coded <= 0.04045
    lifted = (np.where(low, 1.0, coded) + 0.055) / 1.055
    return np.where(low, coded / 12.92, lifted**2.4)


def _linear(plane: Plane) -> Plane:
    white = plane.type_range[1] if plane.type_range is not None else 1.0
    return replace(plane, pixels=linear_light(plane.pixels, white), lattice=None)


def _clipped(planes: list[Plane]) -> NDArray[np.bool_] | None:
    masks = [mask for plane in planes if (mask := plane.saturated()) is not None and mask.any()]
    return functools.reduce(np.logical_or, masks) if masks else None


def derived_plane(definition: Derived, channels: dict[str, Plane]) -> Plane | None:
    """Return a derived plane, float, undefined where a source is; None if one is missing.

    A projection is none of them: it needs other planes. A pixel counts as saturated where any of
    its sources is.
    """
    missing = any(term.channel not in channels for term in definition.terms)
    if missing or definition.over is not None:
        return None
    planes = [channels[term.channel] for term in definition.terms]
    if len({plane.shape for plane in planes}) > 1:
        return None
    wide = [plane.as_float().astype(np.float64) for plane in planes]
    if definition.way == "mix":
        values = sum(term.weight * part for term, part in zip(definition.terms, wide, strict=True))
    elif definition.way == "largest":
        values = functools.reduce(np.maximum, wide)
    else:
        with np.errstate(divide="ignore", invalid="ignore"):
            values = np.where(wide[1] == 0, np.nan, wide[0] / wide[1])
    kinds = [plane.as_float().dtype for plane in planes]
    ranges = {plane.type_range for plane in planes}
    return Plane(
        np.asarray(values).astype(np.result_type(*kinds)),
        planes[0].calibration,
        type_range=ranges.pop() if len(ranges) == 1 and _keeps_range(definition) else None,
        clipped=_clipped(planes),
    )


def _keeps_range(definition: Derived) -> bool:
    """Whether the result lies in the range of its sources, so that its 0–1 scale is theirs."""
    if definition.way == "mix":
        weights = [term.weight for term in definition.terms]
        return min(weights) >= 0 and math.isclose(sum(weights), 1.0, abs_tol=1e-9)
    return definition.way == "largest"


def luma_of(channels: dict[str, Plane]) -> Plane | None:
    """Return 0.2126 red + 0.7152 green + 0.0722 blue (ITU-R BT.709); None without colours."""
    terms = tuple(Term(channel=name, weight=weight) for name, weight in LUMA_WEIGHTS.items())
    return derived_plane(Derived(name=BRIGHTNESS, terms=terms), channels)


def prepared(
    sample: Sample,
    reading: Reading,
    overrides: MetadataOverrides | None = None,
    keep: Keep = kept_nowhere,
) -> Sample:
    """Return a sample as a method reads it, from the sample as its file gives it.

    The channels of the file stay; derived channels follow them. A derived channel whose sources
    the sample lacks, or whose name it has already, is left out.
    """
    overrides = overrides or MetadataOverrides()
    variant = _variant(reading, overrides)
    if variant == sample.variant:
        return sample
    if sample.variant:
        raise ValueError("This sample was prepared before; prepare it as its file gives it.")
    channels = {
        name: _with_overrides(plane, overrides, reading.length_unit)
        for name, plane in sample.channels.items()
    }
    notes, files = list(sample.notes), dict(sample.files)
    if reading.undo_srgb:
        channels, notes = _in_light(channels), [*notes, SRGB_NOTE]
    for definition in reading.derived:
        if definition.name in channels:
            continue
        if definition.over is None:
            plane = derived_plane(definition, channels)
        else:
            plane = _over_planes(definition, definition.over, sample, reading, overrides, keep)
        if plane is not None:
            channels[definition.name] = plane
            if files:
                made_of = [
                    file for term in definition.terms for file in files.get(term.channel, ())
                ]
                files[definition.name] = tuple(dict.fromkeys(made_of))
    return replace(sample, channels=channels, notes=tuple(notes), variant=variant, files=files)


def _over_planes(
    definition: Derived,
    over: Over,
    sample: Sample,
    reading: Reading,
    overrides: MetadataOverrides,
    keep: Keep,
) -> Plane | None:
    """A projection of a channel over the stack of a sample, each plane read as the method does."""
    if sample.stack is None:
        return None
    plain = reading.model_copy(update={"derived": ()})

    def convert(channels: Mapping[str, Plane]) -> Mapping[str, Plane]:
        calibrated = {
            name: _with_overrides(plane, overrides, plain.length_unit)
            for name, plane in channels.items()
        }
        return _in_light(calibrated) if plain.undo_srgb else calibrated

    conversion = Conversion(_variant(plain, overrides), convert)
    return sample.stack.projected(definition.terms[0].channel, over.range, conversion, keep)


def _variant(reading: Reading, overrides: MetadataOverrides) -> str:
    if reading == Reading() and overrides == MetadataOverrides():
        return ""
    return f" {reading.model_dump_json()} {overrides.model_dump_json(exclude_none=True)}"


def _in_light(channels: dict[str, Plane]) -> dict[str, Plane]:
    has_luma = BRIGHTNESS in channels and set(LUMA_WEIGHTS) <= set(channels)
    lit = {
        name: plane if has_luma and name == BRIGHTNESS else _linear(plane)
        for name, plane in channels.items()
    }
    if has_luma:
        # Brightness is a sum of light, so it is formed after the curve is undone.
        luma = luma_of(lit)
        if luma is not None:
            lit[BRIGHTNESS] = luma
    return lit


def _with_overrides(plane: Plane, overrides: MetadataOverrides, unit: str) -> Plane:
    calibration = plane.calibration
    if overrides.pixel_size is not None:
        height = overrides.pixel_height or overrides.pixel_size
        calibration = Calibration.of_sides(
            overrides.pixel_size, height, overrides.unit or calibration.unit
        )
    if is_metric(calibration.unit):
        calibration = calibration.in_unit(unit)
    changes: dict[str, object] = {"calibration": calibration}
    if overrides.saturation is not None:
        changes |= {"saturation": overrides.saturation, "clipped": None}
    if overrides.empty is not None:
        changes["empty"] = overrides.empty
    return replace(plane, **changes)  # type: ignore[arg-type]
