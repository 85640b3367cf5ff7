"""Photon transfer against cameras of known gain and read noise."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.image.camera_noise import CameraNoise, photon_transfer

Pair = tuple[NDArray[np.float64], NDArray[np.float64]]


def camera(
    levels: list[float], gain: float, read: float, *, full: float = 4095.0, seed: int = 1,
    side: int = 200,
) -> list[Pair]:  # fmt: skip
    """Pairs of frames of uneven light and unlike pixels; rounded, and cut at full scale."""
    rng = np.random.default_rng(seed)
    light = np.broadcast_to(1 - 0.3 * np.linspace(-1, 1, side) ** 2, (side, side))
    response = light * rng.normal(1, 0.02, (side, side))

    def frame(level: float) -> NDArray[np.float64]:
        electrons = rng.poisson(level * gain * response) + rng.normal(0, read, response.shape)
        return np.clip(np.rint(100 + electrons / gain), 0, full)

    return [(frame(level), frame(level)) for level in levels]


@pytest.mark.parametrize(("gain", "read"), [(2.0, 6.0), (0.45, 3.0), (11.0, 30.0)])
def test_gain_and_read_noise_come_back(gain: float, read: float) -> None:
    found = photon_transfer(camera([50, 200, 500, 1000, 2000], gain, read),
                            camera([0, 0], gain, read, seed=2))  # fmt: skip
    assert found.noise.gain == pytest.approx(gain, rel=0.02)
    # Rounding to counts is noise as well: 1/√12 counts.
    expected = np.hypot(read, gain / np.sqrt(12))
    assert found.noise.read_noise == pytest.approx(expected, rel=0.03)
    assert found.noise.dark == pytest.approx(100, abs=0.2)
    assert found.used.all()
    assert "electrons a count" in found.sentence()


def test_errors_are_as_large_as_they_say() -> None:
    pulls = []
    for seed in range(40):
        found = photon_transfer(camera([300, 900, 1800], 2.0, 6.0, seed=seed, side=80),
                                camera([0], 2.0, 6.0, seed=seed + 999, side=80))  # fmt: skip
        pulls.append((found.noise.gain - 2.0) / found.gain_error)
    assert np.std(pulls) == pytest.approx(1.0, abs=0.3)


def test_saturated_pairs_are_left_out() -> None:
    flats = camera([200, 600, 1200, 2000, 3900, 4500], 2.0, 6.0)
    found = photon_transfer(flats, camera([0, 0], 2.0, 6.0))
    assert found.used.tolist() == [True, True, True, True, False, False]
    assert found.noise.gain == pytest.approx(2.0, rel=0.02)
    assert "2 pairs do not lie on the line" in found.sentence()


def test_noise_of_pixels() -> None:
    noise = CameraNoise(gain=2.0, read_noise=6.0, dark=100.0)
    assert noise.variance(np.array([50.0, 100.0, 300.0])) == pytest.approx([9.0, 9.0, 109.0])
    drawn = noise.drawn(np.full((300, 300), 300.0), np.random.default_rng(3))
    assert drawn.var() == pytest.approx(109, rel=0.02)
    assert drawn.mean() == pytest.approx(300, abs=0.2)


def test_what_cannot_tell_the_noise_is_said() -> None:
    flats, darks = camera([200, 900], 2.0, 6.0), camera([0], 2.0, 6.0)
    with pytest.raises(StepError, match="two pairs"):
        photon_transfer(flats[:1], darks)
    with pytest.raises(StepError, match="differ in size"):
        photon_transfer(flats, camera([0], 2.0, 6.0, side=100))
    with pytest.raises(StepError, match="no light"):
        photon_transfer(darks * 2, flats[:1])
    even, dark = np.full((50, 50), 300.0), np.random.default_rng(1).normal(0, 9, (50, 50))
    with pytest.raises(StepError, match="does not grow"):
        photon_transfer([(even, even), (even * 2, even * 2)], [(dark, dark * 0)])
