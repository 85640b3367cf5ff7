"""How a value becomes a colour: stretch, invert, palette. View lane only; never measured.

A value is placed between the two ends of the display range, 0 to 1, stretched, and looked up.
"""

from __future__ import annotations

import functools
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from rilievo.core.parameters import Parameters

# Finer than the 256 grays of a screen, so that a stretch has levels to draw from.
LEVELS = 4096

Stretch = Literal["linear", "root", "log", "asinh", "gamma"]

Shares = NDArray[np.float64]
Colours = NDArray[np.uint32]

# Tints of a relief map, low to high: deep water, shallow water, meadow, sand, rock, snow.
_ELEVATION = (
    (0.00, (18, 38, 58)),
    (0.22, (46, 110, 142)),
    (0.40, (91, 127, 58)),
    (0.60, (196, 168, 92)),
    (0.82, (156, 91, 46)),
    (1.00, (250, 246, 236)),
)
_BANDS = 8

# Palettes by key: title, and the name of a Matplotlib colour map for those taken from there.
PALETTES: dict[str, tuple[str, str | None]] = {
    "gray": ("Gray", None),
    "elevation": ("Elevation tints", None),
    "bands": ("Eight flat bands", None),
    "viridis": ("Viridis", "viridis"),
    "cividis": ("Cividis", "cividis"),
    "magma": ("Magma", "magma"),
}


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
    invert: bool = Field(False, title="Invert")

    @field_validator("palette")
    @classmethod
    def _known(cls, key: str) -> str:
        if key not in PALETTES:
            raise ValueError(f"names an unknown palette {key!r}")
        return key


def stretched(shares: Shares, style: ViewStyle) -> Shares:
    """Return places between the ends of the display range, 0 to 1, after the stretch.

    root: √t. log: ln(1 + s t) / ln(1 + s). asinh: asinh(s t) / asinh(s). gamma: t^γ.
    """
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


def _palette(key: str, shares: Shares) -> NDArray[np.float64]:
    """Return red, green, blue from 0 to 255, shape (n, 3)."""
    if key == "bands":
        shares = np.minimum(np.floor(shares * _BANDS), _BANDS - 1) / (_BANDS - 1)
    name = PALETTES[key][1]
    if name is not None:
        import matplotlib  # noqa: PLC0415 (slow to import, needed for these palettes only)

        return np.asarray(matplotlib.colormaps[name](shares)[:, :3] * 255.0, dtype=np.float64)
    if key == "elevation":
        places = [place for place, _ in _ELEVATION]
        parts = zip(*(colour for _, colour in _ELEVATION), strict=True)
        return np.stack([np.interp(shares, places, part) for part in parts], axis=1)
    return np.repeat(shares[:, None] * 255.0, 3, axis=1)


@functools.lru_cache(maxsize=64)
def colour_table(
    style: ViewStyle, wash: tuple[int, int, int] = (0, 0, 0), strength: float = 0.0
) -> Colours:
    """Return the colour of each of LEVELS places in the display range, 0xFFRRGGBB.

    wash, strength : a colour blended in, for what is flooded.
    """
    shares = stretched(np.linspace(0.0, 1.0, LEVELS), style)
    rgb = _palette(style.palette, 1.0 - shares if style.invert else shares)
    mixed = np.floor(rgb * (1 - strength) + np.array(wash) * strength + 1e-9).astype(np.uint32)
    table = np.uint32(0xFF000000) | mixed[:, 0] << 16 | mixed[:, 1] << 8 | mixed[:, 2]
    # It is shared by all who ask for the same colours.
    table.flags.writeable = False
    return np.asarray(table, dtype=np.uint32)
