"""Nested random intercepts against published examples, a dense computation and known truth."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import optimize, stats

from rilievo.core.compare.nested_model import Rows, fit_nested
from rilievo.core.errors import ComparisonError


def _numbers(text: str) -> NDArray[np.float64]:
    return np.array(text.split(), float)


def _alone(count: int) -> NDArray[np.float64]:
    return np.ones((count, 1))


# Davies 1949, Statistical Methods in Research and Production, § 6.4: 6 batches of dye of 5 each.
DYE = _numbers(
    "1545 1440 1440 1520 1580 1540 1555 1490 1560 1495 1595 1550 1605 1510 1560 "
    "1445 1440 1595 1465 1545 1595 1630 1515 1635 1625 1520 1455 1450 1480 1445"
)
# Box & Tiao 1973, Bayesian Inference in Statistical Analysis, table 5.1.4: 6 batches of 5.
NEGATIVE = _numbers(
    "7.298 3.846 2.434 9.566 7.990 5.220 6.556 0.608 11.788 -0.892 0.110 10.386 13.434 5.510 8.166 "
    "2.212 4.852 7.092 9.288 4.980 0.282 9.014 4.458 9.446 7.198 1.722 4.782 8.106 0.758 3.758"
)
# Davies & Goldsmith 1972, table 6.5: 10 batches of 3 casks of 2 assays.
PASTE = _numbers(
    "62.8 62.6 60.1 62.3 62.7 63.1 60.0 61.4 57.5 56.9 61.1 58.9 58.7 57.5 63.9 63.1 65.4 63.7 "
    "57.1 56.4 56.9 58.6 64.7 64.5 55.1 55.1 54.7 54.2 58.8 57.5 63.4 64.9 59.3 58.1 60.5 60.0 "
    "62.5 62.6 61.0 58.7 56.9 57.7 59.2 59.4 65.2 66.0 64.8 64.1 54.8 54.8 64.0 64.0 57.7 56.8 "
    "58.3 59.3 59.2 59.2 58.9 56.6"
)
# Pinheiro & Bates 2000, Mixed-Effects Models, § 1.1 and 1.2: rails, and stools by 9 people.
RAILS = _numbers("55 53 54 26 37 32 78 91 85 92 100 96 49 51 50 80 85 83")
STOOLS = _numbers(
    "12 15 12 10 10 14 13 12 7 14 13 9 7 11 10 9 8 11 8 7 9 11 11 10 8 12 12 11 7 11 8 7 9 13 10 8"
)


@pytest.mark.parametrize(
    ("values", "levels", "mean", "variances"),
    [
        (DYE, (np.repeat(np.arange(6), 5),), 1527.5, (1764.05, 2451.25)),
        (NEGATIVE, (np.repeat(np.arange(6), 5),), 5.6656, (-1.321913, 14.945890)),
        (RAILS, (np.repeat(np.arange(6), 3),), 66.5, (24.80547**2, 4.020779**2)),
        (
            PASTE,
            (np.repeat(np.arange(10), 6), np.repeat(np.arange(30), 2)),
            60.05333,
            (1.657309, 8.433667, 0.678),
        ),
    ],
)
def test_published_components(
    values: NDArray[np.float64],
    levels: tuple[NDArray[np.int64], ...],
    mean: float,
    variances: tuple[float, ...],
) -> None:
    fit = fit_nested(Rows(_alone(values.size), values, levels))
    assert fit.components == pytest.approx(variances, rel=2e-6)
    found = fit.contrast(np.ones(1))
    assert found.value == pytest.approx(mean, rel=1e-6)
    # The mean of balanced data is as sure as the outermost level has units.
    assert found.df == pytest.approx(levels[0].max(), rel=1e-5)


def test_published_mean_and_error_of_the_rails() -> None:
    found = fit_nested(Rows(_alone(18), RAILS, (np.repeat(np.arange(6), 3),))).contrast(np.ones(1))
    assert found.error == pytest.approx(10.17104, rel=1e-6)


def test_published_blocks_of_stools() -> None:
    x = np.zeros((36, 4))
    x[:, 0] = 1
    kinds = np.arange(36) % 4
    for kind in (1, 2, 3):
        x[kinds == kind, kind] = 1
    fit = fit_nested(Rows(x, STOOLS, (np.repeat(np.arange(9), 4),)))
    assert np.sqrt(fit.components) == pytest.approx((1.332465, 1.100295), rel=1e-6)
    assert fit.beta == pytest.approx((8.555556, 3.888889, 2.222222, 0.666667), abs=1e-6)
    assert fit.contrast(np.eye(4)[0]).error == pytest.approx(0.5760123, rel=1e-6)
    assert fit.contrast(np.eye(4)[1]).error == pytest.approx(0.5186838, rel=1e-6)
    f, df1, df2, p = fit.f_test(np.eye(4)[1:])
    # The analysis of variance by hand, which the book has as 22.356.
    table = STOOLS.reshape(9, 4)
    kind, person = table.mean(0), table.mean(1)
    rest = table - kind - person[:, None] + table.mean()
    by_hand = 9 * ((kind - table.mean()) ** 2).sum() / 3 / ((rest**2).sum() / 24)
    assert by_hand == pytest.approx(22.356, abs=5e-4)
    assert (f, df1, df2) == pytest.approx((by_hand, 3, 24), rel=1e-6)
    assert p == pytest.approx(stats.f.sf(by_hand, 3, 24), rel=1e-6)


def _unbalanced() -> tuple[Rows, NDArray[np.float64], NDArray[np.float64], list[NDArray[np.int64]]]:
    """Rows that stand for several values, and the same values one by one."""
    rng = np.random.default_rng(5)
    dishes = np.repeat(np.arange(9), [1, 2, 3, 2, 4, 1, 3, 2, 2])
    animals = np.repeat(np.arange(5), [3, 5, 5, 3, 4])[: dishes.size]
    animals = np.array([0, 1, 1, 2, 2, 3, 3, 4, 4])[dishes]
    fields = np.arange(dishes.size)
    counts = rng.integers(1, 9, fields.size)
    x_field = np.column_stack([np.ones(fields.size), (animals % 2) * 2.0 - 1, rng.normal(size=20)])
    every = np.repeat(fields, counts)
    y = (
        rng.normal(0, 3, 5)[animals][every]
        + rng.normal(0, 2, 9)[dishes][every]
        + rng.normal(0, 1, fields.size)[every]
        + rng.normal(0, 1.5, every.size)
        + 4 * x_field[every, 1]
    )
    means = np.bincount(every, y) / counts
    within = np.bincount(every, (y - means[every]) ** 2)
    levels = (animals, dishes, fields)
    rows = Rows(x_field, means, levels, counts.astype(float), within)
    return rows, x_field[every], y, [one[every] for one in levels]


def test_unbalanced_data_against_dense_matrices() -> None:
    rows, x, y, levels = _unbalanced()
    fit = fit_nested(rows)

    def solved(variances: NDArray[np.float64]) -> tuple[float, NDArray[Any], NDArray[Any]]:
        v = variances[-1] * np.eye(y.size)
        for one, variance in zip(levels, variances[:-1], strict=True):
            v += variance * (one[:, None] == one[None, :])
        inverse = np.linalg.inv(v)
        a = x.T @ inverse @ x
        beta = np.linalg.solve(a, x.T @ inverse @ y)
        rest = y - x @ beta
        return (
            float(np.linalg.slogdet(v)[1] + np.linalg.slogdet(a)[1] + rest @ inverse @ rest),
            beta,
            np.linalg.inv(a),
        )

    found = optimize.minimize(
        lambda logs: solved(np.exp(logs))[0], np.zeros(4), method="Nelder-Mead",
        options={"xatol": 1e-9, "fatol": 1e-12, "maxiter": 20_000, "maxfev": 20_000},
    )  # fmt: skip
    variances = np.exp(found.x)
    assert fit.components == pytest.approx(variances, rel=1e-4)
    _, beta, covariance = solved(np.array(fit.components))
    assert fit.beta == pytest.approx(beta, rel=1e-9)
    contrast = fit.contrast(np.array([0.0, 1.0, 0.0]))
    assert contrast.error == pytest.approx(math.sqrt(covariance[1, 1]), rel=1e-9)
    # Satterthwaite from numeric derivatives by the variances themselves.
    step = 1e-4
    at = np.array(fit.components)

    def moved(*changes: tuple[int, float]) -> NDArray[np.float64]:
        new = at.copy()
        for index, size in changes:
            new[index] += size * at[index]
        return new

    curved = np.array(
        [
            [
                sum(
                    a * b * solved(moved((i, a * step), (j, b * step)))[0]
                    for a in (-1, 1)
                    for b in (-1, 1)
                )
                / (4 * step**2 * at[i] * at[j])
                for j in range(4)
            ]
            for i in range(4)
        ]
    )
    slopes = np.array(
        [
            (solved(moved((i, step)))[2][1, 1] - solved(moved((i, -step)))[2][1, 1])
            / (2 * step * at[i])
            for i in range(4)
        ]
    )
    df = 2 * covariance[1, 1] ** 2 / (slopes @ (2 * np.linalg.inv(curved)) @ slopes)
    assert contrast.df == pytest.approx(df, rel=2e-3)


def test_without_levels_it_is_least_squares() -> None:
    rng = np.random.default_rng(2)
    x = np.column_stack([np.ones(30), rng.normal(size=(30, 2))])
    y = x @ (1.0, 2.0, 3.0) + rng.normal(size=30)
    fit = fit_nested(Rows(x, y))
    beta, rss, *_ = np.linalg.lstsq(x, y, rcond=None)
    assert fit.beta == pytest.approx(beta)
    assert fit.components == pytest.approx((rss[0] / 27,))
    assert fit.contrast(np.array([0.0, 1.0, 0.0])).df == pytest.approx(27)


@pytest.mark.parametrize("shift", [0.0, 1e9])
def test_a_unit_of_the_values_changes_nothing_else(shift: float) -> None:
    rows = Rows(_alone(30), (DYE + shift) * 1e-3, (np.repeat(np.arange(6), 5),))
    fit = fit_nested(rows)
    assert fit.components == pytest.approx((1764.05e-6, 2451.25e-6), rel=1e-4)


def test_what_cannot_be_told_is_said() -> None:
    with pytest.raises(ComparisonError, match="told apart"):
        fit_nested(Rows(np.ones((4, 2)), np.arange(4.0)))
    with pytest.raises(ComparisonError, match="no more values"):
        fit_nested(Rows(np.eye(2), np.arange(2.0)))
    with pytest.raises(ComparisonError, match="do not vary"):
        fit_nested(Rows(_alone(4), np.full(4, 3.0)))


def test_p_values_of_balanced_nested_data_are_those_of_the_dishes() -> None:
    """Two groups of 3 dishes of 4 fields of 30 cells without any difference.

    Student's t of the dishes is exact for these, so that 5 % of them are below 5 %.
    """
    rng = np.random.default_rng(12)
    of_dish, of_field, cells = np.repeat(np.arange(6), 4), np.arange(24), 30
    x = np.column_stack([np.ones(24), np.where(of_dish < 3, -1.0, 1.0)])
    for run in range(90):
        dishes, fields = ((0.5, 0.3), (0.1, 0.3), (0.0, 0.0))[run % 3]
        y = (
            rng.normal(0, dishes, 6)[of_dish]
            + rng.normal(0, fields, 24)
            + rng.normal(0, 1 / math.sqrt(cells), 24)
        )
        rows = Rows(
            x, y, (of_dish, of_field), np.full(24, float(cells)), rng.chisquare(cells - 1, 24)
        )
        p = fit_nested(rows).contrast(np.array([0.0, 1.0])).p
        means = y.reshape(6, 4).mean(axis=1)
        assert p == pytest.approx(stats.ttest_ind(means[:3], means[3:]).pvalue, rel=1e-4)
