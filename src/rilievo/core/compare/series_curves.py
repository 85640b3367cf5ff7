"""Curves of a series: one for each group, stack or followed region, and their mean by group."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from rilievo.core.compare.curve_fits import Fit
from rilievo.core.compare.distributions import Values, t_quantile
from rilievo.core.compare.groups import confidence_interval
from rilievo.core.compare.observations import UNGROUPED, SamplePoint


@dataclass(frozen=True, eq=False)
class Curve:
    """The values of a series in the order of the axis.

    name : of the series. group : of the study; its stack where there are no groups. stack : "" of
    a curve through several. points : what it goes through.
    """

    name: str
    group: str
    stack: str
    points: tuple[SamplePoint, ...]

    @property
    def x(self) -> Values:
        """Where its points stand on the axis."""
        return np.array([point.x for point in self.points])

    @property
    def y(self) -> Values:
        """Their values."""
        return np.array([point.value for point in self.points])


@dataclass(frozen=True, eq=False)
class MeanCurve:
    """The mean of a group through a series, with its 95 % interval; all of shape (n,).

    count : of how many units each mean is; the interval is NaN below two. unit : what they are,
    sample, stack or followed region. between : whether values between two points of a curve were
    taken from the straight line through them, since curves have no points in common.
    """

    group: str
    x: Values
    mean: Values
    low: Values
    high: Values
    count: Values
    unit: str
    between: bool


@dataclass(frozen=True)
class MeanParameter:
    """The last parameter of the curves of a group: their mean, with its interval over the units.

    Student's t over units, a stack with the mean of its curves where there are several stacks.
    """

    group: str
    name: str
    mean: float
    interval: tuple[float, float]
    count: int
    unit: str


def curves_of(points: Iterable[SamplePoint]) -> tuple[Curve, ...]:
    """Return the curves of points that have a place on the axis, in order of appearance."""
    members: dict[str, list[SamplePoint]] = {}
    for point in points:
        if math.isfinite(point.x) and math.isfinite(point.value):
            members.setdefault(point.series or point.group or UNGROUPED, []).append(point)
    curves = []
    for name, series_points in members.items():
        stacks = {point.stack for point in series_points}
        stack = stacks.pop() if len(stacks) == 1 else ""
        curves.append(
            Curve(
                name,
                series_points[0].group or stack or UNGROUPED,
                stack,
                tuple(sorted(series_points, key=lambda point: point.x)),
            )
        )
    return tuple(curves)


def mean_curves(curves: Sequence[Curve]) -> tuple[MeanCurve, ...]:
    """Return the mean of each group that has several units.

    A unit is a stack, with the mean of its values at each place; where a group has one stack only,
    its curves are the units, which is said.
    """
    means = []
    for group, group_curves in _by_group(curves).items():
        units, unit = _units(group_curves)
        if len(units) > 1:
            means.append(_mean_of(group, units, unit))
    return tuple(means)


def _by_group(curves: Sequence[Curve]) -> dict[str, list[Curve]]:
    groups: dict[str, list[Curve]] = {}
    for curve in curves:
        groups.setdefault(curve.group, []).append(curve)
    return groups


def _units(curves: Sequence[Curve]) -> tuple[list[tuple[Values, Values]], str]:
    """Places and values of each unit of a group, and what the units are."""
    by_stack: dict[str, list[SamplePoint]] = {}
    for curve in curves:
        for point in curve.points:
            by_stack.setdefault(point.stack, []).append(point)
    if len(by_stack) > 1:
        return [_at_places(points) for points in by_stack.values()], _unit_of(curves)
    return [_at_places(curve.points) for curve in curves], "followed region"


def _unit_of(curves: Sequence[Curve]) -> str:
    alone = all(point.stack == point.sample for curve in curves for point in curve.points)
    return "sample" if alone else "stack"


def _at_places(points: Sequence[SamplePoint]) -> tuple[Values, Values]:
    """The mean value at each place of the axis."""
    places, where = np.unique([point.x for point in points], return_inverse=True)
    sums = np.bincount(where, [point.value for point in points])
    return places, sums / np.bincount(where)


def _mean_of(group: str, units: Sequence[tuple[Values, Values]], unit: str) -> MeanCurve:
    places, counts = np.unique(np.concatenate([x for x, _ in units]), return_counts=True)
    between = bool(2 * np.count_nonzero(counts > 1) < places.size)
    values = np.full((len(units), places.size), np.nan)
    for row, (x, y) in zip(values, units, strict=True):
        if between:
            row[:] = np.interp(places, x, y, math.nan, math.nan)
        else:
            row[np.searchsorted(places, x)] = y
    finite = np.isfinite(values)
    count = finite.sum(axis=0)
    mean = np.where(finite, values, 0.0).sum(axis=0) / count
    away = np.where(finite, values - mean, 0.0)
    several = count > 1
    error = np.full(places.size, np.nan)
    error[several] = np.sqrt((away**2).sum(axis=0)[several] / (count[several] - 1) / count[several])
    quantiles = {n: t_quantile(0.975, n - 1) for n in set(count[several].tolist())}
    half = np.array([quantiles.get(n, math.nan) for n in count.tolist()]) * error
    return MeanCurve(group, places, mean, mean - half, mean + half, count, unit, between)


def mean_parameters(curves: Sequence[Curve], fits: Mapping[str, Fit]) -> tuple[MeanParameter, ...]:
    """Return the mean of the last parameter (a time constant, a slope) of each group's curves.

    fits : by the name of a curve. Only groups of which two units were fitted.
    """
    parameters = []
    for group, group_curves in _by_group(curves).items():
        fitted = [(curve, fits[curve.name]) for curve in group_curves if curve.name in fits]
        by_stack: dict[str, list[float]] = {}
        for curve, fit in fitted:
            by_stack.setdefault(curve.stack, []).append(fit.parameters[-1])
        several = len(by_stack) > 1
        values = [float(np.mean(stack_values)) for stack_values in by_stack.values()]
        values = values if several else [fit.parameters[-1] for _, fit in fitted]
        if len(values) < 2:
            continue
        parameters.append(
            MeanParameter(
                group,
                fitted[0][1].names[-1],
                float(np.mean(values)),
                confidence_interval(np.array(values)),
                len(values),
                _unit_of(group_curves) if several else "followed region",
            )
        )
    return tuple(parameters)
