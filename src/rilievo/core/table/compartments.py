"""Compartments in pairs: a region of one class beside the region of another to which it belongs.

Of a nucleus and its cell, for example: how much brighter the one is, and which share of the
cell's signal lies in it. The numbers stand in the row of the inner region, and, taken over all
inner regions of one, in the row of the outer one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from rilievo.core.measure.quantity import Quantity, Unit
from rilievo.core.parameters import Parameters
from rilievo.core.regions import RegionSet
from rilievo.core.regions.region_set import NOTHING_KNOWN, class_index

if TYPE_CHECKING:
    from rilievo.core.table.table import RegionTable

Column = NDArray[np.float64]


class Pair(Parameters):
    """Two classes whose regions belong together: inner regions lie in outer ones."""

    inner: str = Field(
        min_length=1, title="Inside", description="class of the parts, such as nuclei"
    )
    outer: str = Field(min_length=1, title="Of", description="class of the wholes, such as cells")
    quantity: Literal["mean", "median", "sum", "area"] = Field(
        "mean", title="Compared by", description="key of the quantity that is compared"
    )

    @model_validator(mode="after")
    def _differ(self) -> Pair:
        if self.inner == self.outer:
            raise ValueError("must name two different classes")
        return self

    @property
    def title(self) -> str:
        """The pair in words."""
        return f"{self.inner} / {self.outer}"

    @property
    def column_keys(self) -> tuple[str, str, str]:
        """Keys of the columns: ratio, difference, share of the signal."""
        start = f"{self.inner}/{self.outer}"
        return (
            f"{start} {self.quantity} ratio",
            f"{start} {self.quantity} difference",
            f"{start} share",
        )


def pair_columns(pairs: Sequence[Pair]) -> dict[str, Quantity]:
    """Return what the columns of pairs are, by key."""
    quantities = {}
    for pair in pairs:
        ratio, difference, share = pair.column_keys
        unit: Unit = "px²" if pair.quantity == "area" else "signal"
        what, of = pair.quantity, f"of the {pair.outer}"
        for key, title, unit_of, definition, formula in (
            (
                ratio, f"{pair.title} {what} ratio", "",
                f"{what} of the {pair.inner} over the {what} {of} to which it belongs; for a "
                f"{pair.outer}, of all its {pair.inner} regions together",
                f"{what}({pair.inner}) / {what}({pair.outer})",
            ),
            (
                difference, f"{pair.title} {what} difference", unit,
                f"{what} of the {pair.inner} minus the {what} {of} to which it belongs",
                f"{what}({pair.inner}) − {what}({pair.outer})",
            ),
            (
                share, f"{pair.title} share of signal", "",
                f"sum of the {pair.inner} over the sum {of} to which it belongs",
                f"Σ v({pair.inner}) / Σ v({pair.outer})",
            ),
        ):  # fmt: skip
            quantities[key] = Quantity(
                key=key,
                title=title,
                unit=unit_of,  # type: ignore[arg-type]
                family="pair",
                definition=definition,
                measure=lambda values: np.full(values.index.count, np.nan),
                symbol=title,
                formula=formula,
                needs="two classes of regions, one inside the other",
            )
    return quantities


def parents_by_overlap(inner: RegionSet, outer: RegionSet) -> dict[int, int]:
    """Return for inner regions the outer one that holds most of their pixels, half or more."""
    both = (inner.labels > 0) & (outer.labels > 0)
    inner_numbers, other = inner.labels[both].astype(np.int64), outer.labels[both].astype(np.int64)
    pairs, counts = np.unique(np.stack([inner_numbers, other]), axis=1, return_counts=True)
    areas = dict(zip(inner.ids.tolist(), inner.areas.tolist(), strict=True))
    best: dict[int, tuple[int, int]] = {}
    for (child, parent), count in zip(pairs.T.tolist(), counts.tolist(), strict=True):
        if count > best.get(child, (0, 0))[0]:
            best[child] = (count, parent)
    return {child: parent for child, (count, parent) in best.items() if 2 * count >= areas[child]}


def with_pairs(table: RegionTable, pairs: Sequence[Pair], sets: Sequence[RegionSet]) -> RegionTable:
    """Return the table with the columns of its pairs, and with the parents that were found.

    A pair of classes that are not there has undefined columns. sets : regions by class.
    """
    if not pairs:
        return table
    annotation_of = dict(table.known)
    columns = {channel: dict(channel_columns) for channel, channel_columns in table.columns.items()}
    for pair in pairs:
        if pair.inner not in table.classes or pair.outer not in table.classes:
            parents: dict[int, int] = {}
        else:
            inner, outer = (table.classes.index(name) for name in (pair.inner, pair.outer))
            parents = parents_by_overlap(sets[inner], sets[outer])
            stated = {
                r: annotation_of[r].parent for r in sets[inner].ids.tolist() if r in annotation_of
            }
            theirs = set(sets[outer].ids.tolist())
            parents |= {child: parent for child, parent in stated.items() if parent in theirs}
        for child, parent in parents.items():
            annotation_of[child] = replace(annotation_of.get(child, NOTHING_KNOWN), parent=parent)
        for channel_columns in columns.values():
            channel_columns.update(
                pair_terms(table.ids, channel_columns, pair, parents).columns(pair)
            )
    derived: Mapping[str, Quantity] = {**table.derived, **pair_columns(pairs)}
    return replace(table, columns=columns, known=annotation_of, derived=derived)


@dataclass(frozen=True, eq=False)
class PairTerms:
    """What the columns of a pair are made of, a number a region; NaN where it belongs to none.

    inner, outer : the quantity of the pair. inner_sum, outer_sum : sums of the signal. For an outer
    region the inner numbers are those of all its inner regions together.
    """

    inner: Column
    outer: Column
    inner_sum: Column
    outer_sum: Column

    def columns(self, pair: Pair) -> dict[str, Column]:
        """Return ratio, difference and share, by key."""
        with np.errstate(divide="ignore", invalid="ignore"):
            made = (
                self.inner / self.outer,
                self.inner - self.outer,
                self.inner_sum / self.outer_sum,
            )
        return {
            key: np.where(np.isfinite(column), column, np.nan)
            for key, column in zip(pair.column_keys, made, strict=True)
        }


def pair_terms(
    ids: NDArray[np.int64], columns: Mapping[str, Column], pair: Pair, parents: Mapping[int, int]
) -> PairTerms:
    """Return what the columns of a pair on one channel are made of.

    parents : inner region → outer one. A mean or median of several inner regions is weighted by
    their pixels.
    """
    nothing = np.full(ids.size, np.nan)
    values, sums = columns.get(pair.quantity, nothing), columns.get("sum", nothing)
    weights = columns.get("pixel_count", nothing)
    terms = PairTerms(*(nothing.copy() for _ in range(4)))
    indices = {region: k for k, region in enumerate(ids.tolist())}
    inside: dict[int, list[int]] = {}
    for child, parent in parents.items():
        if child in indices and parent in indices:
            k, p = indices[child], indices[parent]
            inside.setdefault(p, []).append(k)
            terms.inner[k], terms.outer[k] = values[k], values[p]
            terms.inner_sum[k], terms.outer_sum[k] = sums[k], sums[p]
    for p, children in inside.items():
        child_values = values[children]
        if pair.quantity in ("mean", "median"):
            share = weights[children]
            total = share.sum()
            terms.inner[p] = (child_values * share).sum() / total if total > 0 else np.nan
        else:
            terms.inner[p] = child_values.sum()
        terms.outer[p] = values[p]
        terms.inner_sum[p], terms.outer_sum[p] = sums[children].sum(), sums[p]
    return terms


def terms_in_words(
    table: RegionTable, pairs: Sequence[Pair], channel: str, key: str, k: int
) -> str:
    """Return the formula of a pair's column with its two numbers put in, for the row at k."""
    pair = next((pair for pair in pairs if key in pair.column_keys), None)
    if pair is None or pair.inner not in table.classes or pair.outer not in table.classes:
        return ""
    inner, outer = (table.classes.index(name) for name in (pair.inner, pair.outer))
    parents = {
        child: annotation.parent
        for child, annotation in table.known.items()
        if class_index(child) == inner
        and annotation.parent
        and class_index(annotation.parent) == outer
    }
    terms = pair_terms(table.ids, table.columns[channel], pair, parents)
    ratio, difference, _ = pair.column_keys
    numbers = (terms.inner, terms.outer)
    if key not in (ratio, difference):
        numbers = (terms.inner_sum, terms.outer_sum)
    first, second = (float(column[k]) for column in numbers)
    return f"{first:.6g} {'−' if key == difference else '/'} {second:.6g}"
