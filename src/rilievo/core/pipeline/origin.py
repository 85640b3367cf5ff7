"""Where a number comes from: definition, pixels, steps, file, marks.

Everything is looked up or computed again for the one region, so that what is told is what was
measured; a number that was measured with another method shows as different.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.files.sample_ref import FILES_JOINED
from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane, placed, unplaced
from rilievo.core.measure import QUANTITIES, Quantity, RegionIndex, RegionValues
from rilievo.core.method.describe import summary_of
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.region_set import class_index
from rilievo.core.table.compartments import terms_in_words
from rilievo.core.table.table import RegionTable
from rilievo.core.wording.numbers import full_number

# So many pixels are listed in a text that is copied.
MOST_LISTED = 200
# The values of these stand for their symbols in a formula of the family.
_STAND_FOR = {
    "intensity": (
        "mean", "median", "sd", "sum", "native_sum", "native_mean", "pixel_count", "min", "max",
    ),
    "shape": (
        "area", "filled_area", "perimeter", "major_axis", "minor_axis", "convex_area",
        "hole_count", "parts", "caliper_max", "caliper_min", "equivalent_diameter",
    ),
    "star": ("flux", "flux_error", "sky", "sky_sd", "moffat_beta"),
}  # fmt: skip


@dataclass(frozen=True)
class StepTrace:
    """One step and the mean over the region's pixels before and after it."""

    title: str
    text: str
    before: float
    after: float


@dataclass(frozen=True, eq=False)
class Origin:
    """Where a number comes from.

    value : as it is measured now. formula : with the values put in where they are known.
    x, y, native, signal : the region's pixels; positions in the corrected picture. used : which of
    them are measured; histogram : of their signal.
    steps : those that made the signal of the channel. file : path of the one it comes from.
    files : name and SHA-256 of each file of the sample.
    """

    sample: str
    region: str
    region_class: str
    channel: str
    quantity: Quantity
    unit: str
    value: float
    formula: str
    x: NDArray[np.int64]
    y: NDArray[np.int64]
    native: NDArray[np.float64]
    signal: NDArray[np.float64]
    used: NDArray[np.bool_]
    histogram: Histogram
    steps: tuple[StepTrace, ...]
    file: str
    files: tuple[tuple[str, str], ...]
    marks: tuple[str, ...]

    @property
    def title(self) -> str:
        """The number in words."""
        return f"{self.quantity.title} of {self.region_class} {self.region}, {self.channel}"

    def text(self) -> str:
        """Return everything as plain text, for the clipboard."""
        unit = f" {self.unit}" if self.unit else ""
        lines = [
            f"{self.title}: {full_number(self.value)}{unit}",
            f"Sample: {self.sample}",
            f"File: {self.file}",
            *(f"SHA-256 of {name}: {sha or 'not known yet'}" for name, sha in self.files),
            f"Definition ({self.quantity.key}): {self.quantity.definition}",
            f"Formula: {self.quantity.formula}",
        ]
        if self.formula != self.quantity.formula:
            lines.append(f"With values: {self.formula}")
        if self.quantity.source:
            lines.append(f"Source: {self.quantity.source}")
        lines.append(f"Marks: {'; '.join(self.marks) or 'none'}")
        lines.append("Steps (mean of these pixels before → after):")
        lines += [
            f"  {k}. {step.title}: {full_number(step.before)} → {full_number(step.after)} "
            f"({step.text})"
            for k, step in enumerate(self.steps, start=1)
        ] or ["  none: the signal is the native value"]
        shown = min(self.x.size, MOST_LISTED)
        lines.append(f"Pixels: {self.x.size}, {int(self.used.sum())} of them measured")
        lines.append("x\ty\tnative\tsignal")
        lines += [
            f"{self.x[k]}\t{self.y[k]}\t{self.native[k]:g}\t{self.signal[k]:g}"
            for k in range(shown)
        ]
        if shown < self.x.size:
            lines.append(f"… and {self.x.size - shown} more")
        return "\n".join(lines) + "\n"


def origin_of(
    analysis: Analysis,
    table: RegionTable,
    region: int,
    channel: str,
    key: str,
    files: Sequence[tuple[str, str]] = (),
) -> Origin:
    """Return where a number of a table comes from. Raises StepError as measuring does.

    files : name and SHA-256 of each file of the sample, where known. A region that is not found
    any more has no pixels.
    """
    sample, method = analysis.sample, analysis.method
    position = class_index(region)
    regions = analysis.regions(position)
    index = RegionIndex(regions.labels, np.array([region], np.int64))
    values = analysis.region_values(position, index, channel, some=True)
    pixels, native, masks = values.gathered(np.array([0]))
    y, x = np.divmod(index.pixels.astype(np.int64), index.shape[1])
    quantity = table.quantity(key)
    k = int(np.searchsorted(table.ids, region))
    there = k < table.ids.size and int(table.ids[k]) == region
    column = table.columns.get(channel, {}).get(key)
    if key in QUANTITIES and index.pixels.size:
        value = float(quantity.measure(values)[0])
    else:
        value = float(column[k]) if there and column is not None else math.nan
    if quantity.family == "pair":
        pairs = method.measure.pairs
        formula = terms_in_words(table, pairs, channel, key, k) if there else ""
    else:
        formula = _with_values(quantity, values, table, channel, k if there else None)
    return Origin(
        sample=table.sample,
        region=regions.label_of(region),
        region_class=table.class_of(region),
        channel=channel,
        quantity=quantity,
        unit=quantity.unit_text(table.unit, table.units.get(channel, "counts")),
        value=value,
        formula=formula or quantity.formula,
        x=x,
        y=y,
        native=native,
        signal=pixels,
        used=masks["used"],
        histogram=histogram_of(
            Plane(pixels[masks["used"]][None, :], lattice=values.signal.lattice)
        ),
        steps=tuple(_traces(analysis, channel, values.signal, x, y)),
        file=FILES_JOINED.join(map(str, sample.files_of(channel))) or table.file_of(channel),
        files=tuple(files) or ((table.file, sample.checksum),),
        marks=table.marks_of(channel, k) if there else table.marks.get(channel, ()),
    )


def _with_values(
    quantity: Quantity, values: RegionValues, table: RegionTable, channel: str, k: int | None
) -> str:
    """The formula with numbers in place of the symbols that are known."""
    number_of: dict[str, float] = {}
    if quantity.family == "derived":
        if k is not None:
            columns = table.columns[channel]
            number_of = {name: float(column[k]) for name, column in columns.items()}
            number_of.pop(quantity.key, None)
    elif values.index.pixels.size:
        for key in _STAND_FOR.get(quantity.family, ()):
            symbol = QUANTITIES[key].symbol
            if key != quantity.key and _symbol(symbol).search(quantity.formula):
                number_of[symbol] = float(QUANTITIES[key].measure(values)[0])
        if quantity.family == "intensity":
            number_of |= {
                "Σ v": float(values.sum[0]),
                "Σ w": float((values.native_mean * values.n)[0]),
            }
    text = quantity.formula
    names = [name for name in number_of if math.isfinite(number_of[name])]
    if not names:
        return text
    pattern = re.compile("|".join(_symbol(n).pattern for n in sorted(names, key=len, reverse=True)))
    return pattern.sub(lambda match: f"{number_of[match[0]]:.6g}", text)


def _symbol(symbol: str) -> re.Pattern[str]:
    """A symbol as a word of its own; “a” is not part of “area”."""
    return re.compile(rf"(?<![\w̄]){re.escape(symbol)}(?![\w̄(])")


def _traces(
    analysis: Analysis,
    channel: str,
    final: Plane,
    x: NDArray[np.int64],
    y: NDArray[np.int64],
) -> Sequence[StepTrace]:
    chain, native = analysis.chain(), analysis.sample.channels[channel]
    traces = []
    for position, use in chain.uses(channel):
        before = native if not position else chain.after(channel, position).plane
        after = chain.after(channel, position + 1).plane
        means = [_mean_at(plane, final, x, y) for plane in (before, after)]
        traces.append(StepTrace(use.title, summary_of(use), means[0], means[1]))
    return traces


def _mean_at(plane: Plane, final: Plane, x: NDArray[np.int64], y: NDArray[np.int64]) -> float:
    """Mean of a plane at pixels of the final picture, wherever steps have moved them."""
    columns, rows = x, y
    if plane.placement != final.placement:
        file = unplaced(final.placement, x, y)  # type: ignore[arg-type]
        there = placed(plane.placement, *file)
        columns, rows = (np.rint(np.asarray(v)).astype(np.int64) for v in there)
    height, width = plane.shape
    inside = (rows >= 0) & (rows < height) & (columns >= 0) & (columns < width)
    values = plane.pixels[rows[inside], columns[inside]].astype(np.float64)
    values = values[np.isfinite(values)]
    return float(values.mean()) if values.size else math.nan
