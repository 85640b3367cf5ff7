"""What all stars of a picture say together: medians, spreads, and how they vary over the field."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.robust_statistics import median_and_mad_sigma

if TYPE_CHECKING:
    from rilievo.core.table.table import RegionTable

Floats = NDArray[np.float64]

# Fewer stars than this say nothing about the field.
FEWEST = 12
# A width that varies by this share over the field, or an ellipticity common to all, is named.
_UNEVEN, _TRAILED = 0.15, 0.2
_NEEDED = ("star_x", "star_y", "fwhm", "ellipticity", "star_orientation")
SUMMED = ("fwhm", "hfd", "ellipticity", "sky", "sky_sd", "star_snr")


@dataclass(frozen=True)
class Spread:
    """Median and robust standard deviation (1.4826 · MAD)."""

    median: float
    sigma: float


@dataclass(frozen=True, eq=False)
class StarField:
    """The stars of one picture.

    spreads : quantity → its spread. count : stars used. ellipticity, angle : of the median of the
    stars' ellipticities taken as directions, so that random ones cancel; angle in degrees,
    counter-clockwise from +x. corners : FWHM at the corners beside the middle, of the fitted
    surface; 1 is equal. tilt : change of the FWHM from one side to the other, share of the middle,
    and the direction in which it grows, degrees.
    """

    count: int
    spreads: Mapping[str, Spread]
    ellipticity: float
    angle: float
    middle: float
    corners: float
    tilt: float
    tilt_angle: float

    def sentences(self, *, directions: bool = True) -> list[str]:
        """Return what should be known of the field, plainly; empty for nothing.

        directions : whether to say in which direction, which depends on how the picture is shown.
        """
        if self.count < FEWEST:
            return []
        lines = []
        if self.ellipticity > _TRAILED:
            at = f" at {self.angle:.0f}°" if directions else ""
            lines.append(
                f"Stars are trailed in one direction: ellipticity {self.ellipticity:.2f}{at}."
            )
        if self.corners > 1 + _UNEVEN:
            lines.append(
                f"Sharp in the middle, soft in the corners: FWHM {self.middle:.1f} px in the "
                f"middle, {100 * (self.corners - 1):.0f} % more in the corners."
            )
        elif self.corners < 1 - _UNEVEN:
            lines.append(
                f"Soft in the middle, sharp in the corners: FWHM {self.middle:.1f} px in the "
                f"middle, {100 * (1 - self.corners):.0f} % less in the corners."
            )
        if self.tilt > _UNEVEN:
            side = f"the {_side(self.tilt_angle)}" if directions else "one side"
            lines.append(
                f"Softer towards {side}: FWHM grows by "
                f"{100 * self.tilt:.0f} % across the picture, as if the sensor were tilted."
            )
        return lines


def _side(angle: float) -> str:
    names = ("right", "top right", "top", "top left", "left", "bottom left", "bottom",
             "bottom right")  # fmt: skip
    return names[round(angle / 45) % 8]


def star_field(
    columns: Mapping[str, Floats], shape: tuple[int, int], *, bottom_up: bool = False
) -> StarField | None:
    """Return what the stars of a picture of (height, width) say; None without stars.

    columns : quantity → one number a star; those of SUMMED that are there are summed up. Angles
    are as seen on screen; bottom_up : the first stored row is shown at the bottom.
    """
    if any(key not in columns for key in _NEEDED):
        return None
    x, y, fwhm, ellipticity, angle = (np.asarray(columns[key]) for key in _NEEDED)
    good = np.isfinite(x + y + fwhm + ellipticity + angle)
    if not good.any():
        return None
    spreads = {}
    for key in SUMMED:
        if key in columns:
            values = np.asarray(columns[key])
            spreads[key] = Spread(*median_and_mad_sigma(values[np.isfinite(values)]))
    x, y, fwhm, ellipticity, angle = (v[good] for v in (x, y, fwhm, ellipticity, angle))
    common, direction = common_ellipticity(ellipticity, angle)
    middle, corners, tilt, tilt_angle = _surface(x, y, fwhm, shape)
    return StarField(
        count=int(good.sum()),
        spreads=spreads,
        ellipticity=common,
        angle=-direction if bottom_up else direction,
        middle=middle,
        corners=corners,
        tilt=tilt,
        tilt_angle=-tilt_angle if bottom_up else tilt_angle,
    )


def common_ellipticity(ellipticity: Floats, angle: Floats) -> tuple[float, float]:
    """Return the ellipticity that stars have in common, and its angle in degrees.

    The medians of ε·cos 2θ and ε·sin 2θ: directions at random cancel, whatever the noise.
    """
    double = np.radians(2 * angle)
    e1, e2 = (float(np.median(ellipticity * f(double))) for f in (np.cos, np.sin))
    return math.hypot(e1, e2), math.degrees(0.5 * math.atan2(e2, e1))


def star_summary(columns: Mapping[str, Floats]) -> dict[str, float]:
    """Return medians and spreads of the stars of a picture; empty without stars.

    Of each of SUMMED the median and 1.4826 · MAD, and the ellipticity that all have in common.
    """
    fwhm = columns.get("fwhm")
    if fwhm is None or not np.isfinite(fwhm).any():
        return {}
    summary = {"stars_used": float(np.isfinite(fwhm).sum())}
    for key in SUMMED:
        if key in columns:
            values = columns[key]
            middle, sigma = median_and_mad_sigma(values[np.isfinite(values)])
            summary |= {f"{key}_median": middle, f"{key}_spread": sigma}
    if {"ellipticity", "star_orientation"} <= set(columns):
        form, angle = columns["ellipticity"], columns["star_orientation"]
        good = np.isfinite(form + angle)
        if good.any():
            common, direction = common_ellipticity(form[good], angle[good])
            summary |= {"ellipticity_common": common, "ellipticity_angle": direction}
    return summary


def _surface(
    x: Floats, y: Floats, fwhm: Floats, shape: tuple[int, int]
) -> tuple[float, float, float, float]:
    """FWHM in the middle, corners beside it, change across, direction of its growth.

    Fitted is c₀ + c₁ u + c₂ v + c₃ (u² + v²) with (u, v) from the middle in half diagonals, by
    least squares, leaving out what is more than 4 robust sigmas off, twice.
    """
    height, width = shape
    half = math.hypot(width, height) / 2
    u, v = (x - (width - 1) / 2) / half, (y - (height - 1) / 2) / half
    if x.size < FEWEST:
        return float(np.median(fwhm)), 1.0, 0.0, 0.0
    design = np.column_stack([np.ones_like(u), u, v, u**2 + v**2])
    used = np.ones(x.size, np.bool_)
    c: NDArray[Any] = np.zeros(4)
    for _ in range(3):
        c = np.linalg.lstsq(design[used], fwhm[used], rcond=None)[0]
        off = fwhm - design @ c
        _, sigma = median_and_mad_sigma(off[used])
        used = np.abs(off) <= max(4 * sigma, 1e-9)
        if used.sum() < FEWEST:
            break
    middle = float(c[0])
    if not middle > 0:
        return float(np.median(fwhm)), 1.0, 0.0, 0.0
    # From side to side along the growth the picture is two half diagonals at most.
    across = 2 * math.hypot(c[1], c[2]) / middle
    return middle, 1 + float(c[3]) / middle, across, math.degrees(math.atan2(-c[2], c[1]))


def field_of_table(
    table: RegionTable, channel: str, shape: tuple[int, int], *, bottom_up: bool = False
) -> tuple[StarField, dict[str, Floats], NDArray[np.int64]] | None:
    """Return the field of a measured sample, its stars' columns and their regions.

    None where no star was measured with what a field needs.
    """
    columns = table.columns.get(channel, {})
    fitted_field = star_field(columns, shape, bottom_up=bottom_up)
    if fitted_field is None:
        return None
    good = np.isfinite(sum(columns[key] for key in _NEEDED))
    return fitted_field, {key: values[good] for key, values in columns.items()}, table.ids[good]


def width_shares(fwhm: Floats) -> tuple[float, float, Floats]:
    """Return the 5th and 95th percentile of widths, and where each star lies between, 0 to 1."""
    low, high = (float(v) for v in np.nanpercentile(fwhm, (5, 95)))
    span = high - low if high > low else 1.0
    return low, high, np.nan_to_num(np.clip((fwhm - low) / span, 0, 1))


def whiskers(columns: Mapping[str, Floats], longest: float) -> tuple[Floats, Floats]:
    """Return the ends of a whisker a star, two points each: x and y.

    A whisker lies along the longer axis; its length is that of the ellipticity, `longest` for 1.
    Positions are array positions, with y growing downwards.
    """
    angle = np.radians(columns["star_orientation"])
    half = columns["ellipticity"] * longest / 2
    dx, dy = half * np.cos(angle), -half * np.sin(angle)
    x, y = columns["star_x"], columns["star_y"]
    return (
        np.column_stack([x - dx, x + dx]).ravel(),
        np.column_stack([y - dy, y + dy]).ravel(),
    )
