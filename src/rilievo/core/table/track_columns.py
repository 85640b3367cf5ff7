"""Which regions of a stack are the same from plane to plane: columns “track” and “track event”."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from rilievo.core.regions.region_set import NOTHING_KNOWN, RegionAnnotation
from rilievo.core.regions.tracks import Places, tracks_through
from rilievo.core.table.table import RegionTable

TRACK, EVENT = "track", "track event"
_NEEDED = ("x", "y", "pixel_count")
# A stack of so many times and more is followed.
_LEAST_TIMES = 2


def can_follow(attributes: Iterable[Mapping[str, str]], quantities: Collection[str]) -> bool:
    """Whether samples of such attributes, measured so, are planes of stacks to be followed."""
    if not all(key in quantities for key in _NEEDED):
        return False
    seen: set[tuple[str, str]] = set()
    for of_sample in attributes:
        place = _place(of_sample)
        if place is not None:
            if place[0] in seen:
                return True
            seen.add(place[0])
    return False


def _place(attributes: Mapping[str, str]) -> tuple[tuple[str, str], int] | None:
    """With which other planes of its stack a sample is followed, and its place among them.

    Times of one depth are followed, and depths where there are no times; None for others.
    """
    stack, time, z = (attributes.get(name, "") for name in ("stack", "time", "z"))
    if stack and time.isdigit():
        return (stack, f"time at {z}"), int(time)
    if stack and z.isdigit():
        return (stack, "depth"), int(z)
    return None


def with_missing_tracks(tables: Sequence[RegionTable]) -> list[RegionTable]:
    """Return the tables with tracks where some that could have them have none yet."""
    untold = [
        table
        for table in tables
        if table.ids.size
        and not any(TRACK in annotation.attributes for annotation in table.known.values())
    ]
    keys = next((table.quantities for table in untold), ())
    if not can_follow((table.attributes for table in untold), keys):
        return list(tables)
    return with_tracks(tables)


def with_tracks(tables: Sequence[RegionTable]) -> list[RegionTable]:
    """Return the tables with the track of each region that was followed through its stack.

    Tables that are times of one stack, or depths where it has no times, are known by their
    attributes; each class and each depth is followed by itself, and no number of a track is met
    twice in a stack. Regions are followed where the quantities x, y and pixel_count were measured;
    other tables are returned as they are.
    """
    result = list(tables)
    counts: dict[str, int] = {}
    for (stack, _), members in _stacks(tables).items():
        classes = range(max(len(tables[k].classes) for k in members))
        tracks: dict[int, dict[int, Mapping[str, str]]] = {k: {} for k in members}
        for index in classes:
            counts[stack] = _follow(tables, members, index, counts.get(stack, 0), tracks)
        for k, regions in tracks.items():
            if regions:
                result[k] = _with_facts(tables[k], regions)
    return result


def _stacks(tables: Sequence[RegionTable]) -> dict[tuple[str, str], list[int]]:
    """Positions of the tables that are followed with each other, in their order in the stack."""
    places: dict[tuple[str, str], list[tuple[int, int]]] = {}
    for k, table in enumerate(tables):
        place = _place(table.attributes)
        columns = next(iter(table.columns.values()), {})
        if place is not None and all(key in columns for key in _NEEDED):
            places.setdefault(place[0], []).append((place[1], k))
    return {
        key: [k for _, k in sorted(members)]
        for key, members in places.items()
        if len(members) >= _LEAST_TIMES
    }


def _follow(
    tables: Sequence[RegionTable],
    members: Sequence[int],
    index: int,
    before: int,
    found: dict[int, dict[int, Mapping[str, str]]],
) -> int:
    """Note the tracks of a class; return how many tracks the stack has by then."""
    places, ids = [], []
    for k in members:
        rows = np.flatnonzero(tables[k].of_class(index))
        columns = next(iter(tables[k].columns.values()))
        x, y, count = (np.asarray(columns[key], np.float64)[rows] for key in _NEEDED)
        whole = np.isfinite(x + y + count)
        places.append(Places(x[whole], y[whole], np.sqrt(count[whole] / np.pi)))
        ids.append(tables[k].ids[rows][whole].tolist())
    tracks = tracks_through(places)
    for time, (k, numbers) in enumerate(zip(members, tracks.numbers, strict=True)):
        for position, (region, number) in enumerate(zip(ids[time], numbers.tolist(), strict=True)):
            events = tracks.events.get((time, position), ())
            text = "; ".join(f"{event.what} track {event.track + before}" for event in events)
            event_column = {EVENT: text} if text else {}
            found[k][region] = {TRACK: str(number + before), **event_column}
    return before + tracks.count


def _with_facts(table: RegionTable, regions: Mapping[int, Mapping[str, str]]) -> RegionTable:
    annotation_of: dict[int, RegionAnnotation] = dict(table.known)
    for region, attributes in regions.items():
        facts = annotation_of.get(region, NOTHING_KNOWN)
        annotation_of[region] = replace(facts, attributes={**facts.attributes, **attributes})
    return replace(table, known=annotation_of)
