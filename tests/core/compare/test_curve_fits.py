"""Curves and correlations against closed forms, another program's least squares, and truth."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats
from scipy.optimize import curve_fit

from rilievo.core.compare.curve_fits import correlate, fit_curve, interval_of
from rilievo.core.errors import ComparisonError

X = np.array([0.0, 2, 4, 8, 16, 32, 64])


def test_line_as_the_closed_form() -> None:
    rng = np.random.default_rng(1)
    y = 3 - 0.2 * X + rng.normal(0, 0.5, X.size)
    fit, theirs = fit_curve("line", X, y), stats.linregress(X, y)
    assert fit.parameters == pytest.approx((theirs.intercept, theirs.slope))
    assert fit.errors == pytest.approx((theirs.intercept_stderr, theirs.stderr))
    assert fit.r2 == pytest.approx(theirs.rvalue**2)
    assert fit.residuals == pytest.approx(y - fit.at(X))


@pytest.mark.parametrize(
    ("kind", "curve", "truth"),
    [
        ("decay", lambda x, a, b, t: a + b * np.exp(-x / t), (5.0, 20.0, 15.0)),
        ("decay", lambda x, a, b, t: a + b * np.exp(-x / t), (30.0, -20.0, 6.0)),
        ("saturation", lambda x, a, b, h: a + b * x / (h + x), (1.0, 9.0, 12.0)),
    ],
)
def test_curves_as_general_least_squares(kind, curve, truth) -> None:
    exact = fit_curve(kind, X, curve(X, *truth))
    assert exact.parameters == pytest.approx(truth, rel=1e-6)
    assert exact.r2 == pytest.approx(1)
    x = np.repeat(X, 3)
    y = curve(x, *truth) + np.random.default_rng(2).normal(0, 0.3, x.size)
    fit = fit_curve(kind, x, y)
    best, covariance = curve_fit(curve, x, y, p0=truth)
    assert fit.parameters == pytest.approx(best, rel=1e-4)
    assert fit.errors == pytest.approx(np.sqrt(np.diag(covariance)), rel=1e-3)
    assert fit.spread == pytest.approx(0.3, rel=0.4)


@pytest.mark.slow
def test_errors_say_how_far_it_is_from_the_truth() -> None:
    rng, within = np.random.default_rng(7), 0
    for _ in range(300):
        fit = fit_curve("decay", X, 5 + 20 * np.exp(-X / 15) + rng.normal(0, 0.4, X.size))
        low, high = interval_of(fit, 2)
        within += low <= 15 <= high
    assert within / 300 == pytest.approx(0.95, abs=0.04)


def test_what_a_curve_cannot_be_told_from_is_refused() -> None:
    with pytest.raises(ComparisonError, match="3 parameters needs values at 3 different points"):
        fit_curve("decay", np.array([0.0, 0, 1, 1]), np.arange(4.0))
    with pytest.raises(ComparisonError, match="bend too little"):
        fit_curve("decay", X, 3 * X)
    with pytest.raises(ComparisonError, match="left of"):
        fit_curve("saturation", X - 5, X)
    # Undefined values are left out.
    y = 2 * X
    y[3] = math.nan
    assert fit_curve("line", X, y).x.size == 6
    assert math.isnan(interval_of(fit_curve("line", X[:2], X[:2]), 0)[0])


def test_correlation_as_scipy_and_with_fishers_interval() -> None:
    rng = np.random.default_rng(3)
    x = rng.normal(size=24)
    y = 0.6 * x + rng.normal(size=24)
    found, pearson, spearman = correlate(x, y), stats.pearsonr(x, y), stats.spearmanr(x, y)
    assert (found.r, found.p) == pytest.approx((pearson.statistic, pearson.pvalue))
    assert (found.rho, found.rho_p) == pytest.approx((spearman.statistic, spearman.pvalue))
    assert found.interval == pytest.approx(tuple(pearson.confidence_interval()))
    assert math.isnan(correlate(x[:2], y[:2]).r)
    assert math.isnan(correlate(x, np.ones(24)).r)
    assert correlate(x, 2 * x).p == 0
