"""The number of planted populations is found; one population is not cut."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.regions.gray_populations import populations, suggested_classes


def planted(rng: np.random.Generator, k: int, shape: tuple[int, int]) -> np.ndarray:
    """k normal populations of 3 % at least, neighbours six sigmas of the wider one apart."""
    while True:
        means, sigmas = np.sort(rng.uniform(20, 235, k)), rng.uniform(1.5, 5, k)
        if (np.diff(means) > 6 * np.maximum(sigmas[1:], sigmas[:-1])).all():
            break
    shares = np.maximum(rng.dirichlet(np.full(k, 3.0)), 0.03)
    which = rng.choice(k, shape, p=shares / shares.sum())
    return means[which] + sigmas[which] * rng.normal(size=shape)


@pytest.mark.parametrize("k", [2, 3, 4, 5, 6])
@pytest.mark.parametrize("kind", ["8-bit", "16-bit", "floats"])
def test_planted_populations_are_counted(kind: str, k: int) -> None:
    rng = np.random.default_rng(k)
    right = 0
    for trial in range(60):
        values = planted(rng, k, (60, 60) if trial % 2 else (300, 300))
        if kind == "8-bit":
            plane = plane_from_native(np.clip(np.round(values), 0, 255).astype(np.uint8))
        elif kind == "16-bit":
            plane = plane_from_native(np.clip(np.round(values * 200), 0, 65535).astype(np.uint16))
        else:
            plane = Plane(values)
        right += suggested_classes(histogram_of(plane)) == k
    assert right >= 0.95 * 60


def test_one_population_is_one_whatever_its_shape() -> None:
    rng = np.random.default_rng(1)
    y, x = np.mgrid[:400, :400]
    for values in (
        rng.normal(0, 1, x.shape),
        100 + 0.2 * x + rng.normal(0, 3, x.shape),
        -((x - 200) ** 2 + (y - 200) ** 2) / 3000 + rng.normal(0, 3, x.shape),
        rng.poisson(50, x.shape).astype(float),
        rng.lognormal(3, 1, x.shape),
        rng.integers(0, 65536, x.shape).astype(float),
    ):
        assert populations(histogram_of(Plane(values))) == 1


def test_nothing_and_one_value() -> None:
    assert populations(histogram_of(Plane(np.full((3, 3), np.nan)))) == 0
    assert populations(histogram_of(Plane(np.full((3, 3), 7.0)))) == 1
    assert suggested_classes(histogram_of(Plane(np.full((3, 3), 7.0)))) == 2
