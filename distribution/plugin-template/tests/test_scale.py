"""The step against what must come out."""

from __future__ import annotations

import numpy as np
import pytest

import rilievo
from rilievo.core.method.method import step_use
from rilievo.core.signal.steps import STEPS


def test_it_is_listed() -> None:
    assert "MODULE.scale" in STEPS, "install the package first: pip install -e ."


def test_every_value_is_multiplied_and_undefined_ones_stay_undefined() -> None:
    pixels = np.arange(12.0).reshape(3, 4)
    pixels[1, 2] = np.nan
    sample = rilievo.Sample.from_array(pixels)
    method = rilievo.Method(steps=(step_use("a", "MODULE.scale", factor=3.0),))
    signal = rilievo.correct(sample, method)["gray"]
    assert np.array_equal(signal, 3.0 * pixels, equal_nan=True)


def test_the_factor_is_above_zero() -> None:
    with pytest.raises(rilievo.RilievoError, match="greater than 0"):
        step_use("a", "MODULE.scale", factor=0.0)
