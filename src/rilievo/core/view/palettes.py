"""How a value becomes a colour: stretch, invert, palette. Of the view; never measured.

A value is placed between the two ends of the display range, 0 to 1, stretched, and looked up.
"""

from __future__ import annotations

import functools
from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from rilievo.core.image.histogram import Histogram
from rilievo.core.parameters import Parameters

# Finer than the 256 grays of a screen, so that a stretch has levels to draw from.
LEVELS = 4096

Stretch = Literal["linear", "root", "log", "asinh", "gamma", "equal"]

Shares = NDArray[np.float64]
Colours = NDArray[np.uint32]
Rgb = tuple[int, int, int]

# Tints of a relief map, low to high: deep water, shallow water, meadow, sand, rock, snow.
_ELEVATION = (
    (0.00, (18, 38, 58)),
    (0.22, (46, 110, 142)),
    (0.40, (91, 127, 58)),
    (0.60, (196, 168, 92)),
    (0.82, (156, 91, 46)),
    (1.00, (250, 246, 236)),
)
# Places in a table of shades: dark at 0, as the ground itself in the middle, bright at the end.
SHADES = 64

# Palettes by key: title, and the name of a Matplotlib colour map for those taken from there.
PALETTES: dict[str, tuple[str, str | None]] = {
    "gray": ("Gray", None),
    "elevation": ("Elevation tints", None),
    "bands": ("Flat bands", None),
    "viridis": ("Viridis", "viridis"),
    "cividis": ("Cividis", "cividis"),
    "magma": ("Magma", "magma"),
}


# Colours of channels laid over each other: those that are colours, then four that part well.
_OWN_COLOURS = {"red": (255, 0, 0), "green": (0, 255, 0), "blue": (0, 0, 255)}
_OVERLAY = ((90, 255, 110), (255, 90, 220), (70, 190, 255), (255, 190, 60))


def overlay_colours(names: Sequence[str]) -> dict[str, tuple[int, int, int]]:
    """Return the colour in which each channel is laid over the others.

    A photograph shows its own colours; its derived channels are not added to them.
    """
    if set(_OWN_COLOURS) <= set(names):
        return dict(_OWN_COLOURS)
    return {name: _OVERLAY[i % len(_OVERLAY)] for i, name in enumerate(names)}


class ViewStyle(Parameters):
    """How a channel is shown, beside its display range."""

    stretch: Stretch = Field("linear", title="Stretch")
    strength: float = Field(
        10.0, gt=0, le=10_000, title="Strength", description="of asinh and log; larger lifts more"
    )
    gamma: float = Field(
        0.5, ge=0.05, le=20, title="Gamma", description="exponent; below 1 lifts what is faint"
    )
    palette: str = Field("gray", title="Palette")
    bands: int = Field(8, ge=2, le=64, title="Bands", description="of the palette of flat bands")
    invert: bool = Field(False, title="Invert")
    relief: float = Field(
        0.0,
        ge=0,
        le=500,
        title="Relief",
        description="height of the display range in % of the picture's longer side; 0 is flat",
    )
    light: float = Field(
        315.0, ge=0, le=360, title="Light from", description="degrees clockwise from the top"
    )
    smooth: int = Field(
        2, ge=0, le=7, title="Smooth", description="relief and contours over 2ⁿ pixels"
    )
    contours: bool = Field(False, title="Contours")
    contour_levels: tuple[float, ...] = Field(
        (), max_length=64, title="At", description="empty means round levels"
    )

    @field_validator("palette")
    @classmethod
    def _known(cls, key: str) -> str:
        if key not in PALETTES:
            raise ValueError(f"names an unknown palette {key!r}")
        return key


class Equaliser:
    """Places in the display range after equalising: the share of pixels at or below each.

    shares : shape (LEVELS,), ascending from 0 to 1. Two are equal only if they are the same.
    """

    def __init__(self, shares: Shares) -> None:
        self.shares = shares


@functools.lru_cache(maxsize=256)
def equaliser(histogram: Histogram, low: float, high: float) -> Equaliser:
    """Return what gives each shade between low and high as many pixels."""
    values = np.linspace(low, high, LEVELS)
    shares = histogram.shares_at_or_below(values)
    start, end = shares[0], shares[-1]
    if end <= start:
        return Equaliser(np.linspace(0.0, 1.0, LEVELS))
    return Equaliser((shares - start) / (end - start))


def stretched(shares: Shares, style: ViewStyle, equal: Equaliser | None = None) -> Shares:
    """Return positions between the ends of the display range, 0 to 1, after the stretch.

    root: √t. log: ln(1 + s t) / ln(1 + s). asinh: asinh(s t) / asinh(s). gamma: t^γ.
    equal: the share of pixels at or below, from `equal`; linear while that is not known.
    """
    if style.stretch == "equal" and equal is not None:
        return np.interp(shares, np.linspace(0.0, 1.0, LEVELS), equal.shares)
    if style.stretch == "root":
        return np.sqrt(shares)
    if style.stretch == "log":
        lifted = np.log1p(style.strength * shares) / np.log1p(style.strength)
        return np.asarray(lifted, dtype=np.float64)
    if style.stretch == "asinh":
        lifted = np.arcsinh(style.strength * shares) / np.arcsinh(style.strength)
        return np.asarray(lifted, dtype=np.float64)
    if style.stretch == "gamma":
        return np.asarray(shares**style.gamma, dtype=np.float64)
    return shares


def _palette(key: str, shares: Shares, bands: int) -> NDArray[np.float64]:
    """Return red, green, blue from 0 to 255, shape (n, 3)."""
    if key == "bands":
        shares = np.minimum(np.floor(shares * bands), bands - 1) / (bands - 1)
    name = PALETTES[key][1]
    if name is not None:
        import matplotlib  # noqa: PLC0415 (slow to import, needed for these palettes only)

        return np.asarray(matplotlib.colormaps[name](shares)[:, :3] * 255.0, dtype=np.float64)
    if key == "elevation":
        positions = [position for position, _ in _ELEVATION]
        parts = zip(*(colour for _, colour in _ELEVATION), strict=True)
        return np.stack([np.interp(shares, positions, part) for part in parts], axis=1)
    return np.repeat(shares[:, None] * 255.0, 3, axis=1)


@functools.lru_cache(maxsize=64)
def colour_table(
    style: ViewStyle,
    wash: tuple[int, int, int] = (0, 0, 0),
    strength: float = 0.0,
    equal: Equaliser | None = None,
) -> Colours:
    """Return the colour of each of LEVELS positions in the display range, 0xFFRRGGBB.

    wash, strength : a colour blended in, for what is flooded. equal : for equalised styles.
    """
    shares = stretched(np.linspace(0.0, 1.0, LEVELS), style, equal)
    rgb = _palette(style.palette, 1.0 - shares if style.invert else shares, style.bands)
    mixed = np.floor(rgb * (1 - strength) + np.array(wash) * strength + 1e-9).astype(np.uint32)
    table = np.uint32(0xFF000000) | mixed[:, 0] << 16 | mixed[:, 1] << 8 | mixed[:, 2]
    # It is shared by all who ask for the same colours.
    table.flags.writeable = False
    return np.asarray(table, dtype=np.uint32)


@functools.lru_cache(maxsize=8)
def shaded_table(style: ViewStyle, equal: Equaliser | None = None) -> Colours:
    """Return the colours under each of SHADES lights, shape (SHADES, LEVELS), 0xFFRRGGBB.

    In the middle a colour is as it is; below it is darkened towards black, above lightened.
    """
    plain = colour_table(style, equal=equal)
    shifts = np.array([16, 8, 0], np.uint32)
    rgb = ((plain[:, None] >> shifts) & 0xFF).astype(np.float64)
    light = np.linspace(0.0, 2.0, SHADES)[:, None, None]
    mixed = np.where(light <= 1, rgb * light, rgb + (255 - rgb) * (light - 1) * 0.75)
    parts = mixed.astype(np.uint32)
    table = np.uint32(0xFF000000) | parts[..., 0] << 16 | parts[..., 1] << 8 | parts[..., 2]
    table.flags.writeable = False
    return np.asarray(table, dtype=np.uint32)


def encode_colour(colour: Rgb) -> np.uint32:
    """Return a colour as 0xFFRRGGBB."""
    red, green, blue = colour
    return np.uint32(0xFF000000 | red << 16 | green << 8 | blue)


def decode_colours(picture: Colours) -> NDArray[np.uint8]:
    """Return 0xFFRRGGBB pixels as shape (height, width, 3), red, green, blue."""
    shifts = np.array([16, 8, 0], np.uint32)
    return ((picture[..., None] >> shifts) & 0xFF).astype(np.uint8)
