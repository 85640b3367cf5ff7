from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.measure.stars.matching import match_stars, moved


@pytest.mark.parametrize(
    ("scale", "turn", "dx", "dy"),
    [(1.0, 0.0, 3.2, -4.1), (1.0, 2.0, 40.0, 25.0), (0.9, -35.0, -100.0, 60.0), (1.0, 180.0, 0, 0)],
)
def test_the_same_stars_under_shift_rotation_and_scale(
    scale: float, turn: float, dx: float, dy: float
) -> None:
    rng = np.random.default_rng(5)
    positions, light = rng.uniform(0, 700, (90, 2)), rng.exponential(1, 90)
    a, b = scale * math.cos(math.radians(turn)), scale * math.sin(math.radians(turn))
    other = moved(positions, a, b, dx, dy) + rng.normal(0, 0.1, positions.shape)
    # A tenth is missing on each side, and brightness is not quite the same.
    order = rng.permutation(90)[:80]
    match = match_stars(
        positions[:82], light[:82], other[order], light[order] * rng.uniform(0.9, 1.1, 80)
    )
    assert match is not None
    assert (match.own == order[match.other]).all()
    assert match.own.size >= 0.95 * np.count_nonzero(order < 82)
    assert match.scale == pytest.approx(1 / scale, rel=1e-3)
    assert (match.rotation + turn + 180) % 360 - 180 == pytest.approx(0, abs=0.1)


def test_other_fields_do_not_match() -> None:
    rng = np.random.default_rng(6)
    one, two = rng.uniform(0, 700, (2, 40, 2))
    light = rng.exponential(1, 40)
    match = match_stars(one, light, two, light)
    assert match is None or match.own.size < 12
    assert match_stars(one[:2], light[:2], two, light) is None
