"""The light of a batch against the light that was put in."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import ndimage

from rilievo.core.errors import StepError
from rilievo.core.signal.batch_light import batch_light
from rilievo.demo.lipid import CULTURES, SIZE, Lamp, _cell_signals, _exposed, _placed_cells

DARK, MEDIUM = 100.0, 120.0


def fields(count: int, lamp: Lamp, seed: int = 7) -> list[NDArray[np.uint16]]:
    """Fields of cells under one lamp, in media of other brightness each."""
    found = []
    for k in range(count):
        rng = np.random.default_rng([seed, k])
        ideal = np.zeros((SIZE, SIZE))
        for cell in _placed_cells(rng, "x")[0]:
            mask, _, lipid = _cell_signals(rng, cell, CULTURES[k % 3], "day 2")
            ideal[cell.window()][mask] = lipid[mask]
        seen = MEDIUM * rng.uniform(0.8, 1.2) + ndimage.gaussian_filter(ideal, 1)
        found.append(_exposed(rng, lamp.surface() * seen))
    return found


@pytest.mark.parametrize("falloff", [0.045, 0.3])
def test_within_one_per_cent_from_24_fields_and_no_ghosts(falloff: float) -> None:
    lamp = Lamp(falloff, 400, 370)
    pictures = fields(24, lamp)
    found = batch_light(pictures, dark=DARK)
    truth = lamp.surface() / lamp.surface().mean()
    off = found.field / truth - 1
    assert np.abs(off).max() < 0.01
    assert found.field.mean() == pytest.approx(1, abs=1e-6)
    assert found.needed <= 24
    assert found.error == pytest.approx(off.std(), rel=1.0)
    # A ghost would be where a cell is: the light there is as good as elsewhere.
    cells = pictures[0] > 2 * np.median(pictures[0])
    assert abs(off[cells].mean() - off[~cells].mean()) < 0.002
    corrected = (pictures[0] - DARK) / found.field
    corners = [corrected[rows, columns] for rows in (slice(0, 60), slice(-60, None))
               for columns in (slice(0, 60), slice(-60, None))]  # fmt: skip
    levels = [float(np.median(corner)) for corner in corners]
    assert np.ptp(levels) / np.mean(levels) < 0.02


def test_an_offset_is_found_beside_other_levels() -> None:
    rng = np.random.default_rng(3)
    y, x = np.mgrid[:90, :160]
    pattern = 8 * np.sin(x / 60) + 0.05 * y
    pictures = []
    for k in range(20):
        values = 50 + 20 * k + pattern + rng.normal(0, 2, pattern.shape)
        top, left = rng.integers(0, 60), rng.integers(0, 130)
        values[top : top + 25, left : left + 25] += 300
        pictures.append(values)
    found = batch_light(pictures, "offset")
    assert np.abs(found.field - (pattern - pattern.mean())).max() < 0.6
    assert found.field.mean() == pytest.approx(0, abs=1e-4)
    assert "counts" in found.sentence()


def test_it_says_when_there_are_too_few_pictures() -> None:
    rng = np.random.default_rng(5)
    noisy = [rng.normal(100, 60, (40, 50)) for _ in range(5)]
    found = batch_light(noisy)
    assert found.needed > 5
    assert "use more" in found.sentence()
    with pytest.raises(StepError, match="4 pictures at least"):
        batch_light(noisy[:3])
    with pytest.raises(StepError, match="differ in size"):
        batch_light([*noisy, np.ones((50, 40))])
    with pytest.raises(StepError, match="no light above"):
        batch_light(noisy, dark=1000.0)
    with pytest.raises(StepError, match="no light above"):
        batch_light([*noisy, np.full((40, 50), np.nan)])


@pytest.mark.parametrize("shape", [(1, 1), (1, 40), (7, 5), (33, 200)])
def test_small_and_long_pictures(shape: tuple[int, int]) -> None:
    pictures = [np.full(shape, 10.0 * (k + 1)) for k in range(6)]
    found = batch_light(pictures)
    assert found.field.shape == shape
    assert found.field == pytest.approx(np.ones(shape), abs=1e-5)
    assert found.error == pytest.approx(0, abs=1e-9)


def test_undefined_pixels_are_left_out() -> None:
    rng = np.random.default_rng(2)
    pictures = [rng.normal(100, 1, (64, 64)) for _ in range(8)]
    for picture in pictures:
        picture[10:30, 10:30] = np.nan
    found = batch_light(pictures)
    assert np.isfinite(found.field).all()
    assert np.abs(found.field - 1).max() < 0.02
