"""How far two measurers, or two methods, agree: differences, limits, intraclass correlation."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from rilievo.core.compare.distributions import Values, t_quantile

_NORMAL = 1.959963984540054
_FEWEST = 3


@dataclass(frozen=True)
class LimitsOfAgreement:
    """Differences second − first of values that were measured twice.

    bias : their mean. sd : their standard deviation. low, high : between which 95 % of them lie.
    *_interval : 95 % confidence intervals. slope, slope_p : of the differences against the means.
    """

    n: int
    bias: float
    bias_interval: tuple[float, float]
    sd: float
    low: float
    low_interval: tuple[float, float]
    high: float
    high_interval: tuple[float, float]
    slope: float
    slope_p: float


@dataclass(frozen=True)
class IntraclassCorrelation:
    """Share of the variance that lies between what is measured, with its 95 % interval."""

    value: float
    interval: tuple[float, float]


def limits_of_agreement(first: Values, second: Values) -> LimitsOfAgreement:
    """Return bias and limits of agreement, bias ± 1.96·s; NaN below three pairs.

    The standard error of a limit is √(1/n + 1.96²/(2(n − 1)))·s.
    Source: Bland & Altman 1986, Lancet 327, 307; 1999, Stat. Methods Med. Res. 8, 135.
    """
    from rilievo.core.compare.curve_fits import correlate  # noqa: PLC0415 (it is slow to import)

    good = np.isfinite(first) & np.isfinite(second)
    away, middle = (second - first)[good], ((first + second) / 2)[good]
    n, nan = int(away.size), math.nan
    if n < _FEWEST:
        ends = (nan, nan)
        bias = float(away.mean()) if n else nan
        return LimitsOfAgreement(n, bias, ends, nan, nan, ends, nan, ends, nan, nan)
    bias, sd = float(away.mean()), float(away.std(ddof=1))
    t = t_quantile(0.975, n - 1)
    half = t * sd / math.sqrt(n)
    of_limit = t * sd * math.sqrt(1 / n + _NORMAL**2 / (2 * (n - 1)))
    low, high = bias - _NORMAL * sd, bias + _NORMAL * sd
    trend = correlate(middle, away)
    spread = float(((middle - middle.mean()) ** 2).sum())
    slope = float(((middle - middle.mean()) * (away - bias)).sum()) / spread if spread else nan
    return LimitsOfAgreement(
        n, bias, (bias - half, bias + half), sd,
        low, (low - of_limit, low + of_limit), high, (high - of_limit, high + of_limit),
        slope, trend.p,
    )  # fmt: skip


def absolute_agreement(values: Values) -> IntraclassCorrelation:
    """Return the intraclass correlation of single measurements, for absolute agreement.

    values : shape (n, k), what is measured × measurers. Two-way model, measurers random:

        ICC(A,1) = (R − E) / (R + (k − 1)·E + k·(C − E)/n)

    with the mean squares of rows R, columns C and the rest E. NaN below three rows.
    Source: Shrout & Fleiss 1979, Psychol. Bull. 86, 420, ICC(2,1); interval McGraw & Wong 1996,
    Psychol. Methods 1, 30.
    """
    squares = _mean_squares(values)
    if squares is None:
        return IntraclassCorrelation(math.nan, (math.nan, math.nan))
    n, k, rows, columns, rest = squares
    bottom = rows + (k - 1) * rest + k * (columns - rest) / n
    if bottom <= 0:
        return IntraclassCorrelation(math.nan, (math.nan, math.nan))
    value = (rows - rest) / bottom
    if rest <= 0 and columns <= 0:
        return IntraclassCorrelation(1.0, (1.0, 1.0))
    a = k * value / (n * (1 - value))
    b = 1 + k * value * (n - 1) / (n * (1 - value))
    part = (a * columns) ** 2 / (k - 1) + (b * rest) ** 2 / ((n - 1) * (k - 1))
    df = (a * columns + b * rest) ** 2 / part
    fl, fu = _f_quantile(n - 1, df), _f_quantile(df, n - 1)
    common = k * columns + (k * n - k - n) * rest
    low = n * (rows - fl * rest) / (fl * common + n * rows)
    high = n * (fu * rows - rest) / (common + n * fu * rows)
    return IntraclassCorrelation(float(value), (float(low), float(high)))


def consistency(values: Values) -> IntraclassCorrelation:
    """Return the intraclass correlation of single measurements, without their common offset.

        ICC(C,1) = (R − E) / (R + (k − 1)·E)

    Sources and values as in `absolute_agreement`; ICC(3,1) of Shrout & Fleiss.
    """
    squares = _mean_squares(values)
    if squares is None:
        return IntraclassCorrelation(math.nan, (math.nan, math.nan))
    n, k, rows, _, rest = squares
    if rest <= 0:
        return IntraclassCorrelation(1.0, (1.0, 1.0))
    f, df1, df2 = rows / rest, n - 1, (n - 1) * (k - 1)
    fl, fu = f / _f_quantile(df1, df2), f * _f_quantile(df2, df1)
    ends = ((fl - 1) / (fl + k - 1), (fu - 1) / (fu + k - 1))
    return IntraclassCorrelation((f - 1) / (f + k - 1), ends)


def _mean_squares(values: Values) -> tuple[int, int, float, float, float] | None:
    """Rows, columns, and the mean squares of rows, columns and the rest; None of too few values."""
    complete = values[np.isfinite(values).all(axis=1)]
    n, k = complete.shape
    if n < _FEWEST or k < 2:
        return None
    whole, of_rows, of_columns = complete.mean(), complete.mean(axis=1), complete.mean(axis=0)
    rest = complete - of_rows[:, None] - of_columns[None, :] + whole
    rows = k * float(((of_rows - whole) ** 2).sum()) / (n - 1)
    columns = n * float(((of_columns - whole) ** 2).sum()) / (k - 1)
    # What rounding leaves is no difference.
    scale = float((complete**2).mean()) * 1e-24
    left = float((rest**2).sum()) / ((n - 1) * (k - 1))
    return n, k, rows, 0.0 if columns < scale else columns, 0.0 if left < scale else left


def _f_quantile(df1: float, df2: float) -> float:
    from scipy.special import fdtri  # noqa: PLC0415 (slow to import)

    return float(fdtri(df1, df2, 0.975))
