"""Pixels whose values lie in ranges of several channels at once."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.image.image import FloatPixels
from rilievo.core.parameters import Parameters
from rilievo.core.regions.thresholds.threshold import (
    Mask,
    Pixels,
    ThresholdParameters,
    pixel_threshold,
)

RGB = ("red", "green", "blue")
HSV = ("hue", "saturation", "value")


class ChannelRange(Parameters):
    """Values of a channel that are kept, both ends included; None is open.

    A hue from 340 to 20 goes through 0.
    """

    channel: str = Field(
        min_length=1,
        max_length=200,
        description="name of the channel, or the hue, saturation or value of a colour",
    )
    lower: float | None = Field(
        None, description="values from here on are kept; null has no lower end"
    )
    upper: float | None = Field(
        None, description="values up to here are kept; null has no upper end"
    )


class ColourRanges(ThresholdParameters):
    """Ranges over several channels at once, or over hue, saturation and value."""

    in_words: ClassVar[str] = "colour ranges ({space})"

    space: Literal["channels", "hsv"] = Field(
        "channels",
        title="Ranges of",
        description="whether ranges are of the channels, or of hue, saturation and value",
    )
    ranges: tuple[ChannelRange, ...] = Field(
        (),
        max_length=50,
        title="Ranges",
        description="a range for each channel; a pixel is kept where all hold",
    )

    def channels_read(self) -> tuple[str, ...]:
        """The channels with a range, or red, green and blue."""
        return RGB if self.space == "hsv" else tuple(one.channel for one in self.ranges)


@pixel_threshold("colour", title="Colour ranges", parameters=ColourRanges, kind="Colour", order=60)
def in_colour_ranges(pixels: Pixels, parameters: ColourRanges) -> Mask:
    """Return where every range holds; nothing is kept without a range, nor where a value is NaN."""
    kept = np.full(pixels.values.shape, bool(parameters.ranges))
    known = colour_channels(pixels, parameters.space) if parameters.space == "hsv" else {}
    for one in parameters.ranges:
        values = known[one.channel] if one.channel in known else pixels.channel(one.channel)
        kept &= within(values, one)
    return kept


def within(values: FloatPixels, one: ChannelRange) -> Mask:
    """Return which values lie in a range; of a hue it may go through 0."""
    above = values >= one.lower if one.lower is not None else ~np.isnan(values)
    below = values <= one.upper if one.upper is not None else ~np.isnan(values)
    both = one.lower is not None and one.upper is not None
    if both and one.channel == "hue" and one.lower > one.upper:  # type: ignore[operator]
        return np.asarray(above | below)
    return np.asarray(above & below)


def colour_channels(pixels: Pixels, space: str) -> dict[str, FloatPixels]:
    """Return the channels that can be given a range, by name."""
    if space != "hsv":
        return {}
    found = hue_saturation_value(*(pixels.channel(name) for name in RGB))
    return dict(zip(HSV, found, strict=True))


def hue_saturation_value(
    red: FloatPixels, green: FloatPixels, blue: FloatPixels
) -> tuple[FloatPixels, FloatPixels, FloatPixels]:
    """Return hue (degrees, 0 ≤ h < 360, red 0, green 120), saturation (0 to 1) and value.

    Value is the largest of the three, in signal units; saturation (largest − smallest) / largest.
    Hue is NaN for gray, saturation NaN where the value is not above 0.
    Source: Smith 1978, SIGGRAPH Computer Graphics 12, 12–19.
    """
    stack = np.stack([red, green, blue])
    high, low = stack.max(axis=0), stack.min(axis=0)
    span = high - low
    with np.errstate(divide="ignore", invalid="ignore"):
        saturation = np.where(high > 0, span / high, np.nan)
        sector = np.select(
            [high == red, high == green],
            [(green - blue) / span % 6, (blue - red) / span + 2],
            (red - green) / span + 4,
        )
    hue = np.where(span > 0, sector * 60 % 360, np.nan)
    return hue, saturation, high
