from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.regions.binary_morphology import depth, grown
from rilievo.core.regions.label_map import connected
from tests.core.helpers.cleaning import MASKS


@settings(max_examples=80)
@given(MASKS)
def test_depth_is_the_distance_to_what_is_not_the_region(mask: np.ndarray) -> None:
    labels = connected(mask, 4)[0]
    found = depth(labels)
    others = {}
    for y, x in np.ndindex(mask.shape):
        if not labels[y, x]:
            assert found[y, x] == 0
            continue
        key = labels[y, x]
        if key not in others:
            others[key] = np.argwhere(labels != key)
        away = others[key]
        if away.size:
            assert found[y, x] == ((away - (y, x)) ** 2).sum(axis=1).min()
        else:
            assert found[y, x] > max(mask.shape) ** 2 / 4


@settings(max_examples=80)
@given(MASKS, st.sampled_from([1.0, 1.5, 2.0, 3.0]))
def test_growing_reaches_all_within_the_distance_and_keeps_regions_apart(
    mask: np.ndarray, radius: float
) -> None:
    labels = connected(mask, 8)[0]
    found = grown(labels, radius)
    for y, x in np.ndindex(mask.shape):
        if labels[y, x]:
            assert found[y, x] == labels[y, x]
            continue
        inside = np.argwhere(labels > 0)
        away = np.sqrt(((inside - (y, x)) ** 2).sum(axis=1)) if inside.size else np.array([np.inf])
        if away.min() > radius:
            assert found[y, x] == 0
        else:
            nearest = {int(labels[tuple(p)]) for p in inside[away <= away.min() + 1e-9]}
            assert found[y, x] == min(nearest)
    assert (found > 0).sum() >= mask.sum(), "growing adds area"
