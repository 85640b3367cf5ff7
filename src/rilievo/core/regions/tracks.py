"""Regions followed through time: which region of one time is which of the next.

Regions are taken as discs of their area. The common drift from one time to the next is taken off
first. Then regions are linked so that the sum of their distances, in sums of their radii, is least,
where a track may also end or begin; a region may be missing for a time or more. A region that comes
out of another one, or goes into one, is said to have split or merged.
Source: Jaqaman et al. 2008, Nature Methods 5, 695–702 (linear assignment with ends and beginnings).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

# Regions farther apart than so many sums of their radii are not the same one.
_FARTHEST = 1.5
# Of the regions of a time, so many neighbours of each are looked at.
_NEIGHBOURS = 8
# Two regions became one, or one two, where the small one lay within so many of its radii of the
# large one's rim, and the areas before and after differ by no more than this factor.
_WITHIN, _AREAS = 0.5, 1.5


@dataclass(frozen=True, eq=False)
class Places:
    """Regions of one time: centres and radii in pixels, each of shape (n,)."""

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    radius: NDArray[np.float64]

    @property
    def centres(self) -> NDArray[np.float64]:
        """Shape (n, 2)."""
        return np.column_stack([self.x, self.y])


class Event(NamedTuple):
    """What happened to a region: it merges into, takes in or is split from another track."""

    what: Literal["merges into", "takes in", "split from"]
    track: int


@dataclass(frozen=True, eq=False)
class Tracks:
    """Which track each region belongs to.

    numbers : of each time, one a region, from 1 in the order in which tracks begin. events : time
    and index of a region → what happened to it. drift : shape (times, 2), of all regions
    together since the first time.
    """

    numbers: list[NDArray[np.int64]]
    drift: NDArray[np.float64]
    events: dict[tuple[int, int], tuple[Event, ...]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """How many tracks there are."""
        return max((int(own.max()) for own in self.numbers if own.size), default=0)


def tracks_through(times: Sequence[Places], gap: int = 1) -> Tracks:
    """Return the tracks of regions through times in order.

    gap : for so many times a region may be missing, and is the same one after.
    """
    drift = np.zeros((len(times), 2))
    for k in range(1, len(times)):
        drift[k] = drift[k - 1] + common_drift(times[k - 1], times[k])
    found = _Linking(times, drift, gap)
    for k in range(len(times)):
        found.link(k)
    return Tracks(found.numbers, drift, found.events)


def common_drift(before: Places, after: Places) -> NDArray[np.float64]:
    """Return how far all regions moved together: x and y, the median over mutual neighbours.

    Zero where no two regions are nearest to each other.
    """
    from scipy.spatial import KDTree  # noqa: PLC0415 (slow to import)

    if not before.x.size or not after.x.size:
        return np.zeros(2)
    old, new = before.centres, after.centres
    _, forth = KDTree(new).query(old)
    _, back = KDTree(old).query(new)
    mutual = np.flatnonzero(back[forth] == np.arange(len(old)))
    return np.median(new[forth[mutual]] - old[mutual], axis=0) if mutual.size else np.zeros(2)


class _Linking:
    """Open tracks, and what is known of them so far."""

    def __init__(self, times: Sequence[Places], drift: NDArray[np.float64], gap: int) -> None:
        self._times, self._drift, self._gap = times, drift, gap
        self.numbers: list[NDArray[np.int64]] = []
        self.events: dict[tuple[int, int], tuple[Event, ...]] = {}
        # Open tracks: number → time and index of the last region.
        self._open: dict[int, tuple[int, int]] = {}
        self._count = 0

    def link(self, now: int) -> None:
        """Go on by a time."""
        places = self._times[now]
        own = np.zeros(places.x.size, np.int64)
        ends = list(self._open.items())
        if ends and own.size:
            positions, radii, ages = self._where(ends, now)
            for i, k in _assigned(positions, radii, ages, places):
                own[k] = ends[i][0]
            self._tell(ends, positions, radii, own, now)
        for k in np.flatnonzero(own == 0).tolist():
            self._count += 1
            own[k] = self._count
            self._came_out_of(k, now, own)
        self.numbers.append(own)
        self._open |= {number: (now, k) for k, number in enumerate(own.tolist())}
        self._open = {n: last for n, last in self._open.items() if now - last[0] <= self._gap}

    def _where(
        self, ends: list[tuple[int, tuple[int, int]]], now: int
    ) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """Where tracks would be now, their radii, and how many times ago they were seen."""
        positions, radii, ages = np.empty((len(ends), 2)), np.empty(len(ends)), np.empty(len(ends))
        for i, (_, (time, k)) in enumerate(ends):
            last = self._times[time]
            positions[i] = (last.x[k], last.y[k]) + self._drift[now] - self._drift[time]
            radii[i], ages[i] = last.radius[k], now - time
        return positions, radii, ages

    def _tell(
        self,
        ends: list[tuple[int, tuple[int, int]]],
        positions: NDArray[np.float64],
        radii: NDArray[np.float64],
        own: NDArray[np.int64],
        now: int,
    ) -> None:
        """Say which tracks went into a region that goes on as another track."""
        places = self._times[now]
        going_on = set(own.tolist())
        for i, (number, (time, k)) in enumerate(ends):
            if number in going_on or time != now - 1:
                continue
            away = np.hypot(places.x - positions[i, 0], places.y - positions[i, 1])
            before = np.full(own.shape, np.nan)
            for other, end in enumerate(ends):
                before[own == end[0]] = radii[other]
            inside = _joined(away, places.radius, radii[i], before)
            if inside.any():
                into = int(np.argmin(np.where(inside, away, np.inf)))
                self._note(time, k, Event("merges into", int(own[into])))
                self._note(now, into, Event("takes in", number))

    def _came_out_of(self, k: int, now: int, own: NDArray[np.int64]) -> None:
        """Say of a region that begins a track out of which one it came."""
        if not now:
            return
        places, before = self._times[now], self._times[now - 1]
        step = self._drift[now] - self._drift[now - 1]
        away = np.hypot(before.x + step[0] - places.x[k], before.y + step[1] - places.y[k])
        after = np.full(away.shape, np.nan)
        for i, number in enumerate(self.numbers[now - 1].tolist()):
            after[i] = places.radius[own == number][0] if (own == number).any() else np.nan
        inside = _joined(away, before.radius, float(places.radius[k]), after)
        if inside.any():
            source = int(np.argmin(np.where(inside, away, np.inf)))
            self._note(now, k, Event("split from", int(self.numbers[now - 1][source])))

    def _note(self, time: int, k: int, event: Event) -> None:
        self.events[time, k] = (*self.events.get((time, k), ()), event)


def _joined(
    away: NDArray[np.float64],
    whole: NDArray[np.float64],
    part: float,
    other: NDArray[np.float64],
) -> NDArray[np.bool_]:
    """Which regions are made of a part and another one: by their radii and their distances.

    whole, other : of each region, before and after it was joined; NaN where it was not there.
    """
    areas = whole**2 / (part**2 + other**2)
    near = away <= whole + _WITHIN * part
    with np.errstate(invalid="ignore"):
        return near & (whole > part) & (areas <= _AREAS) & (areas >= 1 / _AREAS)


def _assigned(
    positions: NDArray[np.float64],
    radii: NDArray[np.float64],
    ages: NDArray[np.float64],
    places: Places,
) -> list[tuple[int, int]]:
    """Pairs of tracks and regions whose distances are least together."""
    from scipy.sparse import coo_array  # noqa: PLC0415 (slow to import)
    from scipy.sparse.csgraph import connected_components  # noqa: PLC0415
    from scipy.spatial import KDTree  # noqa: PLC0415

    count = min(_NEIGHBOURS, places.x.size)
    away, near = KDTree(places.centres).query(positions, k=count)
    away, near = away.reshape(-1, count), near.reshape(-1, count)
    # A region that was not seen for a while may have gone farther, as a random walk does.
    reach = (radii[:, None] + places.radius[near]) * np.sqrt(ages)[:, None]
    costs = away / np.maximum(reach, 1e-9)
    tracks, column = np.nonzero(costs <= _FARTHEST)
    regions, cost = near[tracks, column], costs[tracks, column]
    size = len(positions) + places.x.size
    graph = coo_array((np.ones(cost.size), (tracks, regions + len(positions))), (size, size))
    _, group = connected_components(graph, directed=False)
    order = np.argsort(group[tracks], kind="stable")
    pairs: list[tuple[int, int]] = []
    cuts = np.flatnonzero(np.diff(group[tracks][order])) + 1
    for part in np.split(order, cuts):
        pairs += _least(tracks[part], regions[part], cost[part])
    return pairs


def _least(
    tracks: NDArray[np.int64], regions: NDArray[np.int64], cost: NDArray[np.float64]
) -> list[tuple[int, int]]:
    """The links of least cost among candidates, where each side may also stay alone."""
    from scipy.optimize import linear_sum_assignment  # noqa: PLC0415 (slow to import)

    if cost.size < 2:
        return list(zip(tracks.tolist(), regions.tolist(), strict=True))
    rows, at = np.unique(tracks, return_inverse=True)
    columns, to = np.unique(regions, return_inverse=True)
    n, m = rows.size, columns.size
    never = 1e6
    table = np.full((n + m, m + n), never)
    table[at, to] = cost
    # To stay alone costs as much as the farthest link; the lower right block makes it a square.
    table[np.arange(n), m + np.arange(n)] = _FARTHEST
    table[n + np.arange(m), np.arange(m)] = _FARTHEST
    table[n + to, m + at] = 0.0
    first, second = linear_sum_assignment(table)
    chosen = (first < n) & (second < m) & (table[first, second] <= _FARTHEST)
    return [
        (int(rows[i]), int(columns[j])) for i, j in zip(first[chosen], second[chosen], strict=True)
    ]
