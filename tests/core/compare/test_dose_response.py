"""Dose–response curves: a published example, known truth, and what cannot be told."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.compare.curve_fits import fit_curve, interval_of
from rilievo.core.compare.question import FITS
from rilievo.core.errors import ComparisonError

# Length of roots of ryegrass (cm) against ferulic acid (mM): Ritz & Streibig 2005, J. Stat. Softw.
# 12(5), with the same curve written as c + (d − c)/(1 + exp(b(log x − log e))).
DOSES = np.repeat([0, 0.94, 1.88, 3.75, 7.5, 15, 30], [6, 3, 3, 3, 3, 3, 3]).astype(float)
ROOTS = np.array(
    [
        7.58, 8.0, 8.328571, 7.25, 7.375, 7.9625, 8.355556, 6.914286, 7.75, 6.871429, 6.45,
        5.922222, 1.925, 2.885714, 4.233333, 1.1875, 0.8571429, 1.057143, 0.6875, 0.525, 0.825,
        0.25, 0.22, 0.44,
    ]
)  # fmt: skip


def test_published_curve() -> None:
    fit = fit_curve("dose", DOSES, ROOTS)
    a, b, slope, half = fit.parameters
    # Published: b 2.98222, c 0.48141, d 7.79296, e 3.05795, and their errors.
    assert (slope, a + b, a, half) == pytest.approx((2.98222, 0.48141, 7.79296, 3.05795), abs=2e-5)
    # Its errors are from second derivatives, ours from first ones.
    assert fit.errors[2] == pytest.approx(0.46506, rel=0.03)
    assert fit.errors[0] == pytest.approx(0.18857, rel=0.03)
    assert fit.errors[3] == pytest.approx(0.18573, rel=0.03)
    assert fit.spread == pytest.approx(0.5196256, abs=1e-6)
    low, high = interval_of(fit, 3)
    assert low * high == pytest.approx(half**2)
    assert low < half < high
    assert fit.at(np.array([0.0, half])) == pytest.approx((a, a + b / 2))
    assert FITS["dose"][1] == fit.formula


@pytest.mark.parametrize("unit", [1e-6, 1.0, 1e6])
@pytest.mark.parametrize("rises", [True, False])
def test_known_curves_in_any_unit(unit: float, rises: bool) -> None:
    x = np.array([0.0, 0.1, 0.3, 1, 3, 10, 30]) * unit
    slope, half = 1.4, 1.7 * unit
    y = 5 + (20 if rises else -4) / (1 + (half / np.maximum(x, 1e-30)) ** slope)
    fit = fit_curve("dose", x, y)
    expected = (5, 20 if rises else -4, slope, half)
    assert fit.parameters == pytest.approx(expected, rel=1e-6)
    assert np.abs(fit.residuals).max() < 1e-6


def test_intervals_hold_the_half_dose() -> None:
    rng = np.random.default_rng(8)
    x = np.repeat([0.0, 0.1, 0.3, 1, 3, 10, 30], 3)
    truth = 1 + 10 / (1 + (1.5 / np.maximum(x, 1e-30)) ** 1.2)
    held, runs = 0, 200
    for _ in range(runs):
        fit = fit_curve("dose", x, truth + rng.normal(0, 0.4, x.size))
        low, high = interval_of(fit, 3)
        held += low <= 1.5 <= high
    assert held / runs == pytest.approx(0.95, abs=0.04)


def test_what_tells_no_curve_is_said() -> None:
    x = np.array([0.0, 1, 2, 4, 8, 16])
    with pytest.raises(ComparisonError, match="do not tell"):
        fit_curve("dose", x, np.where(x > 0, 3.0, 3.0) + 0.001 * x)
    with pytest.raises(ComparisonError, match="0 and above"):
        fit_curve("dose", x - 3, x)
    with pytest.raises(ComparisonError, match="4 parameters"):
        fit_curve("dose", x[:3], x[:3])
    assert math.isfinite(fit_curve("dose", x, x / (2 + x)).r2)
