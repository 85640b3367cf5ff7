"""The same stars through a series of pictures: comparison stars, differential light curves."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from rilievo.core.measure.stars.matching import match_stars
from rilievo.core.regions.region_set import CLASS_STRIDE
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.table import RegionTable

Floats = NDArray[np.float64]

FEWEST_COMPARISONS = 3
# A star this many of its own errors beyond the others' scatter is not constant.
_NOT_CONSTANT = 3.0
# A comparison star is found again within so many pixels of its position.
_SAME_POSITION = 5.0
_PER_MAGNITUDE = 2.5 / math.log(10)


@dataclass(frozen=True, eq=False)
class Series:
    """Stars that were matched through a series.

    samples : names in the order of time. dates : of each, or None. ids : region numbers, shape
    (stars, samples), 0 where a star is missing. flux, error : the same shape, NaN where missing.
    x, y : positions in the picture with most stars. comparison : which are comparison stars.
    unmatched : samples whose stars could not be matched.
    """

    samples: tuple[str, ...]
    dates: tuple[datetime | None, ...]
    ids: NDArray[np.int64]
    flux: Floats
    error: Floats
    x: Floats
    y: Floats
    comparison: NDArray[np.bool_]
    unmatched: tuple[str, ...]

    @property
    def days(self) -> Floats:
        """Days since the first date; the position in the series where a date is missing."""
        if any(date is None for date in self.dates):
            return np.arange(len(self.dates), dtype=np.float64)
        dated = [date for date in self.dates if date is not None]
        return np.array([(date - dated[0]).total_seconds() / 86400 for date in dated])

    @property
    def has_dates(self) -> bool:
        """Whether every sample has a date."""
        return all(date is not None for date in self.dates)

    def median_flux(self, star: int) -> float:
        """Return the median flux of a star over the series; NaN where it was never measured."""
        flux = self.flux[star][np.isfinite(self.flux[star])]
        return float(np.median(flux)) if flux.size else math.nan

    def with_toggled(self, star: int) -> tuple[tuple[float, float], ...]:
        """Return the indices of the comparison stars with one more, or without it."""
        chosen = self.comparison.copy()
        chosen[star] = not chosen[star]
        return tuple(
            (round(float(self.x[k]), 1), round(float(self.y[k]), 1)) for k in np.flatnonzero(chosen)
        )

    def star_of(self, sample: str, region: int) -> int | None:
        """Return the star that a region of a sample is; None for one that was not matched."""
        if sample not in self.samples:
            return None
        places = np.flatnonzero(self.ids[:, self.samples.index(sample)] == region)
        return int(places[0]) if places.size else None


@dataclass(frozen=True, eq=False)
class LightCurve:
    """Brightness of one star beside the comparison stars, one number a sample.

    magnitude : −2.5 lg of its flux over their sum, less its mean over the series; error : its
    standard error. scatter : sd of the magnitude. expected : root mean square of its errors.
    comparisons : how many comparison stars there are.
    """

    star: int
    magnitude: Floats
    error: Floats
    scatter: float
    expected: float
    comparisons: int

    @property
    def excess(self) -> float:
        """Its scatter in units of what its errors let expect; −1 where that is not known."""
        return self.scatter / max(self.expected, 1e-6) if math.isfinite(self.scatter) else -1.0

    @property
    def is_variable(self) -> bool:
        """Whether it varies by more than its errors let expect."""
        return self.scatter > _NOT_CONSTANT * self.expected


def as_date(text: str) -> datetime | None:
    """Return a date as FITS and ISO 8601 write it; None for other text."""
    try:
        moment = datetime.fromisoformat(text.strip())
    except ValueError:
        return None
    return moment.replace(tzinfo=None)


def make_series(
    tables: Sequence[RegionTable],
    dates: Sequence[datetime | None],
    channel: str,
    class_index: int = 0,
    comparison: Sequence[tuple[float, float]] = (),
) -> Series | None:
    """Match the stars of a class through tables with their dates; None without stars.

    The table with most stars is the reference. comparison : where the stars to compare with stand
    in it, each the nearest within 5 px; nowhere chooses them by constancy.
    """
    usable = [
        (table, date)
        for table, date in zip(tables, dates, strict=True)
        if {"flux", "star_x", "star_y"} <= set(table.columns.get(channel, {}))
        and np.isfinite(table.column(channel, "flux")[table.of_class(class_index)]).any()
    ]
    if not usable:
        return None
    if all(date is not None for _, date in usable):
        usable.sort(key=lambda pair: pair[1] or datetime.min)
    lists = [_Stars(table, channel, class_index) for table, _ in usable]
    reference = lists[max(range(len(lists)), key=lambda k: lists[k].ids.size)]
    count = reference.ids.size
    ids = np.zeros((count, len(lists)), np.int64)
    flux, error = np.full((2, count, len(lists)), np.nan)
    unmatched = []
    for k, stars in enumerate(lists):
        pairs = _pairs(reference, stars)
        if pairs is None:
            unmatched.append(usable[k][0].sample)
            continue
        star_rows, other = pairs
        ids[star_rows, k] = stars.ids[other]
        flux[star_rows, k], error[star_rows, k] = stars.flux[other], stars.error[other]
    chosen = _nearest(reference.positions, comparison)
    if not chosen.any():
        chosen = constant_stars(flux, error)
    return Series(
        samples=tuple(table.sample for table, _ in usable),
        dates=tuple(date for _, date in usable),
        ids=ids,
        flux=flux,
        error=error,
        x=reference.positions[:, 0],
        y=reference.positions[:, 1],
        comparison=chosen,
        unmatched=tuple(unmatched),
    )


def _nearest(positions: Floats, places: Sequence[tuple[float, float]]) -> NDArray[np.bool_]:
    """Which stars stand at the positions that are wanted."""
    chosen = np.zeros(len(positions), np.bool_)
    for x, y in places:
        away = np.hypot(positions[:, 0] - x, positions[:, 1] - y)
        if away.min() <= _SAME_POSITION:
            chosen[int(away.argmin())] = True
    return chosen


class _Stars:
    """The stars of one table that have a flux."""

    def __init__(self, table: RegionTable, channel: str, position: int) -> None:
        columns = table.columns[channel]
        good = table.of_class(position) & np.isfinite(columns["flux"]) & (columns["flux"] > 0)
        self.ids = table.ids[good]
        self.positions = np.column_stack([columns["star_x"][good], columns["star_y"][good]])
        self.flux = columns["flux"][good]
        unknown = np.full(table.ids.size, np.nan)
        self.error = columns.get("flux_error", unknown)[good]


def _pairs(reference: _Stars, stars: _Stars) -> tuple[NDArray[np.intp], NDArray[np.intp]] | None:
    if stars is reference:
        every = np.arange(reference.ids.size)
        return every, every
    match = match_stars(reference.positions, reference.flux, stars.positions, stars.flux)
    return None if match is None else (match.own, match.other)


def constant_stars(flux: Floats, error: Floats) -> NDArray[np.bool_]:
    """Return which stars are the most constant ones, at least three where there are so many.

    Candidates are seen in every picture that has stars. Each is compared with the sum of the
    others; the one with the most scatter beside its own error goes, until all are within three
    errors. flux, error : shape (stars, pictures), NaN where missing.
    """
    seen = np.isfinite(flux).any(axis=0)
    chosen: NDArray[np.bool_] = np.asarray(np.isfinite(flux[:, seen]).all(axis=1))
    if int(seen.sum()) < 2:
        return chosen
    while chosen.sum() > FEWEST_COMPARISONS:
        positions = np.flatnonzero(chosen)
        excess = []
        for star in positions:
            rest = chosen.copy()
            rest[star] = False
            curve = _curve(flux[:, seen], error[:, seen], int(star), rest)
            excess.append(curve.scatter / max(curve.expected, 1e-4))
        worst = int(np.argmax(excess))
        if not excess[worst] > _NOT_CONSTANT:
            break
        chosen[positions[worst]] = False
    return chosen


def light_curve(series: Series, star: int) -> LightCurve:
    """Return the light curve of a star beside the comparison stars other than itself."""
    others = series.comparison.copy()
    others[star] = False
    return _curve(series.flux, series.error, star, others)


def _curve(flux: Floats, error: Floats, star: int, others: NDArray[np.bool_]) -> LightCurve:
    total = flux[others].sum(axis=0) if others.any() else np.full(flux.shape[1], np.nan)
    noise = np.sqrt((np.nan_to_num(error[others]) ** 2).sum(axis=0))
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = np.where(total > 0, flux[star] / total, np.nan)
        share = np.sqrt((error[star] / flux[star]) ** 2 + (noise / total) ** 2)
        magnitude = -2.5 * np.log10(np.where(ratio > 0, ratio, np.nan))
    defined = np.isfinite(magnitude)
    some = defined.any()
    return LightCurve(
        star=star,
        magnitude=magnitude - (magnitude[defined].mean() if some else np.nan),
        error=_PER_MAGNITUDE * share,
        scatter=float(magnitude[defined].std(ddof=1)) if defined.sum() > 1 else math.nan,
        expected=float(np.sqrt(np.mean((_PER_MAGNITUDE * share[defined]) ** 2)))
        if some
        else math.nan,
        comparisons=int(others.sum()),
    )


def number_of(region: int) -> int:
    """Return the number under which a star is shown."""
    return region % CLASS_STRIDE


def series_frame(series: Series) -> ResultFrame:
    """Return a row per star and sample: date, flux, differential magnitude, with their errors."""
    rows = []
    for star in range(series.x.size):
        curve = light_curve(series, star)
        for k, sample in enumerate(series.samples):
            date = series.dates[k]
            rows.append(
                {
                    "star": star + 1,
                    "sample": sample,
                    "date": date.isoformat() if date is not None else "",
                    "days": float(series.days[k]),
                    "region": number_of(int(series.ids[star, k])),
                    "flux": float(series.flux[star, k]),
                    "flux_error": float(series.error[star, k]),
                    "magnitude_difference": float(curve.magnitude[k]),
                    "magnitude_error": float(curve.error[k]),
                    "comparison": bool(series.comparison[star]),
                    "variable": curve.is_variable,
                }
            )
    return ResultFrame.of_records(rows)
