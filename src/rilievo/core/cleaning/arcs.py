"""Clusters whose middle is deeper than their members: parted by the arcs between dents.

Three discs that overlap in a triangle have one peak of depth, in the middle, so that no neck parts
them. Their outline tells them: between two dents it is an arc of one disc.
Source of the way from dents to arcs to circles: Bai, Sun & Zhou 2009, Pattern Recognition 42,
2434–2446.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rilievo.core.measure.region_index import RegionIndex
from rilievo.core.regions.label_map import LabelMap, connected

Floats = NDArray[np.float64]

# Only regions less solid than this are looked at, with so many dents at least.
_SOLID, _DENTS = 0.95, 3
# Points of an arc this near to a dent belong to neither disc alone.
_NEAR_DENT = 1.5
# Arcs are of one disc when their circles' centres are nearer than this share of the radius.
_ONE_DISC = 0.5
_LEAST_DENT = 1.2


def part_clusters(label_map: LabelMap, share: float) -> LabelMap:
    """Return the regions with clusters parted.

    share : a dent is one from this depth on, as a share of the radius of the arcs beside it.
    """
    if not label_map.count:
        return label_map
    index = RegionIndex(label_map.labels, np.arange(1, label_map.count + 1))
    form = index.form
    loose = index.areas / form["convex"] < _SOLID
    candidates = np.flatnonzero(loose & (form["holes"] == 0) & (index.parts == 1))
    labels = label_map.labels.copy()
    most = label_map.count
    for k in candidates.tolist():
        pixels = index.pixels[index.starts[k] : index.starts[k + 1]]
        owners = _owners(pixels, label_map.labels.shape[1], share)
        if owners is not None:
            labels.ravel()[pixels] = np.where(owners == 0, k + 1, most + owners)
            most += int(owners.max())
    if most == label_map.count:
        return label_map
    again, count = connected(labels, label_map.connectivity, distinct=True)
    again[labels < 0] = labels[labels < 0]
    return LabelMap(again, count, label_map.connectivity, label_map.reasons, apart=True)


def _owners(pixels: NDArray[np.int64], width: int, share: float) -> NDArray[np.int64] | None:
    """Which disc each pixel of a cluster belongs to, from 0; None for no cluster."""
    from rilievo.core.measure.outline_kernels import (  # noqa: PLC0415 (compiled)
        outline_polygon,
        pairs_around,
        taut_string,
    )

    y, x = np.divmod(pixels, width)
    top, left = int(y.min()) - 1, int(x.min()) - 1
    mask = np.zeros((int(y.max()) - top + 2, int(x.max()) - left + 2), np.uint8)
    mask[y - top, x - left] = 1
    corners = taut_string(pairs_around(mask, 1, int(np.flatnonzero(mask[1])[0])))
    outline = outline_polygon(corners, 1.0, 1.0)
    dents = _dents(outline, float(np.sqrt(len(pixels) / np.pi)) * share)
    if len(dents) < _DENTS:
        return None
    circles = _circles(outline, dents)
    if len(circles) < 2:
        return None
    places = np.column_stack([y - top, x - left]).astype(np.float64)
    away = [np.hypot(*(places - circle[:2]).T) - circle[2] for circle in circles]
    owners = np.argmin(away, axis=0)
    sizes = np.bincount(owners, minlength=len(circles))
    # A disc that owns hardly a pixel is an arc that was fitted wrongly.
    if sizes.min() < 0.3 * len(pixels) / len(circles):
        return None
    return np.asarray(owners, np.int64)


def _hull(points: Floats) -> NDArray[np.intp]:
    from scipy.spatial import ConvexHull, QhullError  # noqa: PLC0415 (slow to import)

    try:
        return np.asarray(np.sort(ConvexHull(points).vertices), np.intp)
    except QhullError:
        return np.zeros(0, np.intp)


def _dents(outline: Floats, least: float) -> list[int]:
    """The deepest point of each bay between two corners of the hull, if it is deep enough."""
    hull = _hull(outline)
    dents = []
    for here, there in zip(hull, np.roll(hull, -1), strict=True):
        count = int(there - here) % len(outline)
        if count < 2:
            continue
        between = (here + np.arange(1, count)) % len(outline)
        a, b = outline[here], outline[there]
        away = b - a
        length = float(np.hypot(*away))
        if length == 0:
            continue
        depth = np.abs(
            away[0] * (outline[between, 1] - a[1]) - away[1] * (outline[between, 0] - a[0])
        )
        deepest = int(depth.argmax())
        if depth[deepest] / length >= max(least, _LEAST_DENT):
            dents.append(int(between[deepest]))
    return sorted(dents)


def _circles(outline: Floats, dents: list[int]) -> list[Floats]:
    """A circle (y, x, radius) for each disc; arcs of one disc are taken together."""
    arcs = []
    n = len(outline)
    for here, there in zip(dents, [*dents[1:], dents[0] + n], strict=True):
        points = _dense(outline[np.arange(here, there + 1) % n])
        ends = outline[[here % n, there % n]]
        near = np.min([np.hypot(*(points - end).T) for end in ends], axis=0)
        points = points[near > _NEAR_DENT]
        if len(points) >= 5:
            arcs.append(points)
    circles = [_circle(points) for points in arcs]
    kept: list[tuple[Floats, list[Floats]]] = []
    for points, circle in zip(arcs, circles, strict=True):
        for k, (other, own) in enumerate(kept):
            if np.hypot(*(circle[:2] - other[:2])) < _ONE_DISC * min(circle[2], other[2]):
                own.append(points)
                kept[k] = (_circle(np.concatenate(own)), own)
                break
        else:
            kept.append((circle, [points]))
    return [circle for circle, _ in kept if np.isfinite(circle).all()]


def _dense(points: Floats) -> Floats:
    """Points half a pixel apart along a line of points."""
    steps = np.hypot(*np.diff(points, axis=0).T)
    along = np.concatenate([[0.0], np.cumsum(steps)])
    at = np.arange(0.0, along[-1], 0.5)
    return np.column_stack([np.interp(at, along, points[:, k]) for k in range(2)])


def _circle(points: Floats) -> Floats:
    """The circle of least squares of |p|² − 2 p·c − (r² − |c|²) (Kåsa 1976)."""
    middle = points.mean(axis=0)
    away = points - middle
    design = np.column_stack([2 * away, np.ones(len(points))])
    solution = np.linalg.lstsq(design, (away**2).sum(axis=1), rcond=None)[0]
    radius = np.sqrt(max(float(solution[2] + solution[0] ** 2 + solution[1] ** 2), 0.0))
    return np.array([middle[0] + solution[0], middle[1] + solution[1], radius])
