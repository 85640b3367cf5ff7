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
        ("recovery", lambda x, a, b, t: a + b * (1 - np.exp(-x / t)), (4.0, 11.0, 9.0)),
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


@pytest.mark.parametrize("kind", ["line", "decay", "saturation"])
@pytest.mark.parametrize("zero", [2020.0, 2_460_000.5, -300.0])
def test_a_curve_is_the_same_wherever_x_has_its_zero(kind: str, zero: float) -> None:
    x = np.repeat(np.linspace(0, 10, 9), 2)
    rng = np.random.default_rng(4)
    truth = {"line": 3 + 2 * x, "decay": 5 + 20 * np.exp(-x / 3), "saturation": 9 * x / (2 + x)}
    y = truth[kind] + rng.normal(0, 0.2, x.size)
    near, far = fit_curve(kind, x, y), fit_curve(kind, x + zero, y)  # type: ignore[arg-type]
    assert far.at(x + zero) == pytest.approx(near.at(x), rel=1e-6)
    assert far.spread == pytest.approx(near.spread, rel=1e-6)
    k = len(near.names) - 1
    assert far.parameters[k] == pytest.approx(near.parameters[k], rel=1e-5)
    assert far.errors[k] == pytest.approx(near.errors[k], rel=1e-5)
    if kind == "line":
        # The intercept is that at the user's own zero, its error by the closed form.
        theirs = stats.linregress(x, y)
        a = theirs.intercept - theirs.slope * zero
        assert far.parameters[0] == pytest.approx(a, rel=1e-9)
        error = near.spread * math.sqrt(1 / x.size + (x.mean() + zero) ** 2 / (x.var() * x.size))
        assert far.errors[0] == pytest.approx(error, rel=1e-6)
    else:
        assert f"{abs(zero):.12g}" in far.formula
        assert near.formula.count("(x −") == 0


def test_ranks_of_three_values_are_never_sure() -> None:
    """Three values in order are one of six orders, and their reverse another: p = 1/3."""
    found = correlate(np.array([1.0, 2, 3]), np.array([5.0, 7, 11]))
    assert found.rho == 1
    assert found.rho_p == pytest.approx(1 / 3)
    x, y = np.arange(7.0), np.array([3.0, 1, 2, 5, 4, 7, 6])
    exact = stats.permutation_test(
        (y,),
        lambda v: stats.spearmanr(x, v).statistic,
        permutation_type="pairings",
        n_resamples=6000,
    )
    assert correlate(x, y).rho_p == pytest.approx(exact.pvalue, abs=2e-3)


def test_a_recovery_begins_at_the_bleach_and_says_how_much_came_back() -> None:
    after = np.arange(0.0, 60, 2)
    x = np.concatenate([[-6, -4, -2], after])
    y = np.concatenate([np.full(3, 100.0), 30 + 42 * (1 - np.exp(-after / 12))])
    fit = fit_curve("recovery", x + 500, y)
    assert fit.parameters == pytest.approx((30, 42, 12), rel=1e-6) and fit.origin == 500
    assert fit.recovered is not None
    assert fit.recovered[0] == pytest.approx(42 / 70)
    assert fit.half_time is not None
    assert fit.half_time[0] == pytest.approx(12 * math.log(2))
    assert fit.x.size == after.size
    # Its error, by many repetitions.
    rng, shares, errors = np.random.default_rng(3), [], []
    for _ in range(200):
        found = fit_curve("recovery", x, y + rng.normal(0, 1, y.size)).recovered
        assert found is not None
        shares.append(found[0])
        errors.append(found[1])
    assert np.mean(errors) == pytest.approx(np.std(shares), rel=0.25)
    assert np.mean(shares) == pytest.approx(0.6, abs=0.02)
    with pytest.raises(ComparisonError, match="Nothing comes back"):
        fit_curve("recovery", x, -x)
    assert fit_curve("recovery", after, y[3:]).recovered is None


def test_two_components_as_general_least_squares() -> None:
    def curve(x, a, b, t, c, u):
        return a + b * np.exp(-x / t) + c * np.exp(-x / u)

    truth = (2.0, 30.0, 4.0, 20.0, 40.0)
    x = np.linspace(0, 160, 90)
    exact = fit_curve("two_decays", x, curve(x, *truth))
    assert exact.parameters == pytest.approx(truth, rel=1e-5)
    assert exact.at(x) == pytest.approx(curve(x, *truth))
    y = curve(x, *truth) + np.random.default_rng(2).normal(0, 0.3, x.size)
    fit = fit_curve("two_decays", x, y)
    best, covariance = curve_fit(curve, x, y, p0=truth)
    assert fit.parameters == pytest.approx(best, rel=1e-4)
    assert fit.errors == pytest.approx(np.sqrt(np.diag(covariance)), rel=1e-3)
    assert "exp(−x/τ₁)" in fit.formula
    with pytest.raises(ComparisonError, match="two components"):
        fit_curve("two_decays", x, 5 + 20 * np.exp(-x / 15))
