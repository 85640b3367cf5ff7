"""Background estimators against the textbook, brute force, and synthetic data with known truth."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from rilievo.core.image.image import plane_from_native
from rilievo.core.signal.steps.background import describe
from rilievo.demo.lipid import CHANNELS, CULTURES, background_surface, make_field
from tests.core.helpers.backgrounds import applied, background, terrain


@pytest.mark.slow
@pytest.mark.parametrize(
    ("key", "given"),
    [
        ("background.mesh", {"tile": 96, "statistic": "median"}),
        ("background.surface", {"order": 2}),
        ("background.opening", {"radius": 120, "smooth_before": 4}),
    ],
)
def test_the_background_of_a_made_up_field_is_recovered_under_its_cells(
    key: str, given: dict[str, Any]
) -> None:
    """Within 2 % of its level, everywhere under a cell (bias and 95 % of the pixels)."""
    for culture, number in ((CULTURES[0], 1), (CULTURES[2], 3)):
        field = make_field(culture, number)
        for channel, pixels in zip(CHANNELS, field.pixels, strict=True):
            row = next(r for r in field.background if r["channel"] == channel)
            truth = background_surface(row)
            cells = pixels > truth + 60
            found = background(key, plane_from_native(pixels), **given)
            away = (found - truth)[cells] / truth[cells]
            assert abs(away.mean()) < 0.02
            assert np.quantile(np.abs(away), 0.95) < 0.02


def test_a_described_background() -> None:
    y, x = np.indices((50, 80)).astype(np.float64)
    field = 200 + 0.5 * x - 0.25 * y
    numbers = describe(field)
    assert numbers["level"] == pytest.approx(field.mean())
    assert numbers["range"] == pytest.approx(np.ptp(field))
    assert numbers["tilt"] == pytest.approx(0.5 * 79 + 0.25 * 49)
    assert numbers["flatness"] == pytest.approx(100 * np.ptp(field) / field.mean())
    bowl = 100 + ((x - 39.5) / 40) ** 2
    assert describe(bowl)["tilt"] == pytest.approx(0, abs=1e-9)


def test_a_background_is_scaled_smoothed_and_given_back() -> None:
    values = terrain((40, 40)).astype(np.float32)
    plain = background("background.mesh", values, tile=10)
    half = background("background.mesh", values, tile=10, scale=0.5)
    np.testing.assert_allclose(half, plain / 2, rtol=1e-6)
    smooth = background("background.mesh", values, tile=10, smooth_more=8)
    assert smooth.std() < 0.7 * plain.std()
    subtracted, numbers = applied("background.mesh", values, tile=10)
    np.testing.assert_array_equal(subtracted.pixels, values - plain)
    assert numbers["negative"] == np.count_nonzero(values < plain)
