"""Where a region stands in a stack, as columns beside what was measured: z, time, track."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.stack import SECONDS_COLUMN
from rilievo.core.measure import Quantity
from rilievo.core.table.table import RegionTable
from rilievo.core.table.track_columns import TRACK

Column = NDArray[np.float64]


def _place(key: str, title: str, definition: str, *, whole: bool = True) -> Quantity:
    return Quantity(
        key=key, title=title, unit="", family="shape", definition=definition,
        measure=lambda values: np.full(values.index.count, math.nan), whole=whole, symbol=title,
        formula=title,
    )  # fmt: skip


# Key in filters → what it is, and the attribute of the sample that says it; "" for one of regions.
_PLACES: dict[str, tuple[Quantity, str]] = {
    "z": (_place("z", "z", "depth of the plane, counted from 1"), "z"),
    "time": (_place("time", "Time", "time of the plane, counted from 1"), "time"),
    "seconds": (_place("seconds", "Time (s)", "when the plane was recorded, s", whole=False),
                SECONDS_COLUMN),
    "track": (_place("track", "Track", "a region followed through its stack has one number"), ""),
}  # fmt: skip


def places_in(tables: Sequence[RegionTable]) -> dict[str, Quantity]:
    """Return which of the places some table knows, in their order."""
    columns = {}
    for key, (quantity, attribute) in _PLACES.items():
        if attribute:
            has_attribute = any(attribute in table.attributes for table in tables)
        else:
            has_attribute = any(
                TRACK in facts.attributes for table in tables for facts in table.known.values()
            )
        if has_attribute:
            columns[key] = quantity
    return columns


def place_column(table: RegionTable, key: str) -> Column:
    """Return a place of each region of a table, shape (regions,); NaN where it is not known."""
    attribute = _PLACES[key][1]
    if attribute:
        return np.full(table.ids.size, _number(table.attributes.get(attribute, "")))
    if not table.known:
        return np.full(table.ids.size, math.nan)
    texts = (table.facts(region).attributes.get(TRACK, "") for region in table.ids.tolist())
    return np.array([_number(text) for text in texts])


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return math.nan
