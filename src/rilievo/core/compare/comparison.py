"""One quantity compared: values, statistics, tests, curves; `wording` puts it in sentences."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from rilievo.core.compare.curve_fits import Correlation, Fit, correlate, fit_curve
from rilievo.core.compare.design_fit import Component, DesignResult, fit_design
from rilievo.core.compare.distributions import Values
from rilievo.core.compare.groups import (
    GroupStatistics,
    Outlier,
    group_statistics,
    outliers_of,
    units_of,
)
from rilievo.core.compare.normalising import normalised
from rilievo.core.compare.observations import (
    Attributes,
    SamplePoint,
    axis_of,
    merged,
    observations,
)
from rilievo.core.compare.pairwise_tests import (
    Overall,
    PairwiseResult,
    against,
    assumptions,
    overall,
)
from rilievo.core.compare.plot_kind import PLOTS
from rilievo.core.compare.question import (
    BY_CHANNEL,
    OF_REGION,
    OF_SAMPLE,
    REGION,
    SAMPLE,
    Question,
    name_of,
)
from rilievo.core.compare.series_curves import (
    Curve,
    MeanCurve,
    MeanParameter,
    curves_of,
    mean_curves,
    mean_parameters,
)
from rilievo.core.compare.units import by_unit, check_placed
from rilievo.core.compare.variance_components import variation
from rilievo.core.errors import ComparisonError
from rilievo.core.measure import Quantity
from rilievo.core.progress import checkpoint
from rilievo.core.table.table import RegionTable

# A curve is fitted to no more series than this.
_MOST_FITS = 2000
# More samples than this are not told apart by colours.
_MOST_SERIES = 8


@dataclass(frozen=True, eq=False)
class Comparison:
    """A quantity of a channel, by what the question says.

    unit : of calibrated lengths; intensity : of the signal. column : what is compared.
    groups : the categories in their order; reference : the one compared against. without_value :
    samples left out. fits : series → curve; no_fit : why there is none. other : to the right in a
    scatter, in the order of `all_points`. related : what values were related to, in words. axis :
    what x counts. colours : the groups of the study, whose colours are used. curves : of a series
    against an attribute of samples. means : of groups with several units. parameters : of fits.
    design : what the model of a design says; `versus` are its. variation : variance of each level
    of nested units; no_variation : why it is not known.
    """

    question: Question
    quantity: str
    channel: str
    region_class: str
    unit: str
    column: Quantity
    intensity: str
    groups: tuple[str, ...]
    reference: str
    points: Mapping[str, tuple[SamplePoint, ...]]
    statistics: tuple[GroupStatistics, ...]
    without_value: tuple[str, ...]
    colours: tuple[str, ...]
    versus: tuple[PairwiseResult, ...] = ()
    overall: Overall | None = None
    assumptions: tuple[str, ...] = ()
    outliers: tuple[Outlier, ...] = ()
    related: str = ""
    axis: str = ""
    fits: Mapping[str, Fit] = field(default_factory=dict)
    no_fit: str = ""
    correlation: Correlation | None = None
    other: Mapping[tuple[str, str, str], float] = field(default_factory=dict)
    other_label: str = ""
    curves: tuple[Curve, ...] = ()
    means: tuple[MeanCurve, ...] = ()
    parameters: tuple[MeanParameter, ...] = ()
    design: DesignResult | None = None
    variation: tuple[Component, ...] = ()
    no_variation: str = ""

    @property
    def label(self) -> str:
        """What is compared, in words, with its unit."""
        channel = "" if self.question.by == BY_CHANNEL else self.channel
        what = _label(self.column, self.unit, self.intensity, channel, self.region_class,
                      bare=bool(self.related) and self.is_ratio)  # fmt: skip
        return f"{what}, {self.related}" if self.related else what

    @property
    def is_ratio(self) -> bool:
        """Whether values were divided by others and have no unit any more."""
        normalising = self.question.normalising
        return (
            normalising.by in ("control", "reference", "first", "baseline")
            and normalising.how == "ratio"
        )

    @property
    def by_words(self) -> str:
        """What it is compared by."""
        by = self.question.by
        name = by.split(":", 1)[1] if by.startswith((OF_SAMPLE, OF_REGION)) else by
        return f"days since the first {name}" if self.axis == "days" else name

    @property
    def holder(self) -> str:
        """What large dots are: samples, or the units that hold several of them."""
        unit = self.question.unit
        return name_of(SAMPLE if unit == REGION else unit)

    @property
    def shows_fits(self) -> bool:
        """Whether curves were fitted, and the kind of plot shows them."""
        return bool(self.fits) and "fit" in PLOTS[self.question.shown_as].options

    def series_of(self, point: SamplePoint) -> str:
        """Return the series that a value belongs to."""
        return point.sample if self._each_sample else point.group

    @cached_property
    def _each_sample(self) -> bool:
        return _each_sample(self.all_points, self.question)

    @property
    def series(self) -> tuple[str, ...]:
        """The series in their order; the groups of the study where values are no series."""
        if not self.axis:
            return self.colours
        return tuple(dict.fromkeys(self.series_of(point) for point in self.all_points))

    @property
    def all_points(self) -> list[SamplePoint]:
        """All values in the order of the groups."""
        return [point for group_points in self.points.values() for point in group_points]

    def of_group(self, group: str) -> GroupStatistics:
        """Return the statistics of a group."""
        return self.statistics[self.groups.index(group)]


def _label(
    column: Quantity, unit: str, intensity: str, channel: str, region_class: str, *, bare: bool
) -> str:
    text = "" if bare else column.unit_text(unit, intensity)
    ending = f" ({text})" if text else ""
    title = column.title if column.title.isupper() else column.title.lower()
    of = f"{channel}, " if channel else ""
    return f"{of}{title} per {region_class}{ending}"


def compare(
    tables: Sequence[RegionTable],
    question: Question,
    attributes: Attributes | None = None,
    quantity: str = "",
) -> Comparison:
    """Compare a quantity as a question says.

    attributes : sample → what is known of it beside its group. quantity : which of the
    question's; the first for "". A sample without any defined value is left out and named.
    Raises ComparisonError when nothing was measured, or not what is asked for.
    """
    quantity = quantity or question.quantities[0]
    attributes_of = attributes or {}
    channel = question.channel or next((t.channels[0] for t in tables if t.channels), "")
    having = _having(tables, quantity, channel)
    raw_points, without = observations(having, question, quantity, channel, attributes_of)
    _check_attributes(raw_points, question)
    points, related = normalised(raw_points, having, question, quantity, channel)
    curves = curves_of(points) if question.by.startswith(OF_SAMPLE) else ()
    single = merged(points) if question.curves == "region" else points
    check_placed(single, question)
    points = by_unit(single, question)
    fits, no_fit = _fits(points if question.curves == "group" else single, curves, question)
    groups = tuple(dict.fromkeys(point.category for point in points)) or ("",)
    by_group = {
        group: tuple(point for point in points if point.category == group) for group in groups
    }
    reference = question.against if question.against in groups else groups[0]
    name = question.region_class or (having[0].classes[0] if having[0].classes else "")
    colours = tuple(dict.fromkeys(table.group for table in tables))
    design = fit_design(single, question, reference) if question.design.has_terms else None
    parts, no_variation = _variation(single, question)
    versus = against(by_group, question, reference) if len(groups) > 1 else ()
    other, other_label = _other(having, question, channel, name, attributes_of)
    return Comparison(
        question=question,
        quantity=quantity,
        channel=channel,
        region_class="region" if question.by == "class" else name,
        unit=having[0].unit,
        column=having[0].quantity(quantity),
        intensity=having[0].units.get(channel, "counts"),
        groups=groups,
        reference=reference,
        points=by_group,
        statistics=_statistics(by_group, reference, question.unit),
        without_value=without,
        colours=colours,
        versus=design.versus if design is not None else versus,
        overall=overall(by_group, question) if design is None else None,
        assumptions=assumptions(by_group, question) if len(groups) > 1 and not design else (),
        outliers=_outliers(by_group),
        related=related,
        axis=axis_of(groups)[1] if question.by.startswith((OF_SAMPLE, OF_REGION)) else "",
        fits=fits,
        no_fit=no_fit,
        correlation=_correlation(points, other, question),
        other=other,
        other_label=other_label,
        curves=curves,
        means=mean_curves(curves),
        parameters=mean_parameters(curves, fits) if question.curves != "group" else (),
        design=design,
        variation=parts,
        no_variation=no_variation,
    )


def _having(tables: Sequence[RegionTable], quantity: str, channel: str) -> list[RegionTable]:
    """The tables with a quantity of a channel, in one unit. Raises ComparisonError."""
    having = [t for t in tables if quantity in t.columns.get(channel, {})]
    if not having:
        raise ComparisonError(
            f"No sample has a measured “{quantity}” of channel “{channel}”; measure all samples."
        )
    _check_units(having, quantity)
    return having


def _statistics(
    by_group: Mapping[str, Sequence[SamplePoint]], reference: str, unit: str
) -> tuple[GroupStatistics, ...]:
    """Of each group, beside the mean of the one of reference."""
    middle = units_of(by_group[reference], unit)
    mean = float(middle.mean()) if middle.size else math.nan
    return tuple(group_statistics(group, points, unit, mean) for group, points in by_group.items())


def _outliers(by_group: Mapping[str, Sequence[SamplePoint]]) -> tuple[Outlier, ...]:
    return tuple(
        outlier for group, points in by_group.items() for outlier in outliers_of(group, points)
    )


def _variation(
    points: Sequence[SamplePoint], question: Question
) -> tuple[tuple[Component, ...], str]:
    """Where the variation sits, where that is asked for, and why it is not known."""
    kind = PLOTS[question.shown_as]
    if not (question.design.has_terms or question.design.levels or "costs" in kind.options):
        return (), ""
    try:
        components, reasons = variation(points, question)
    except ComparisonError as exc:
        return (), str(exc)
    return components, " ".join(reasons)


def _check_units(tables: Sequence[RegionTable], quantity: str) -> None:
    """Refuse calibrated values in several units, or some without: a ComparisonError."""
    column = tables[0].quantity(quantity)
    if column.unit not in ("unit", "unit²"):
        return
    by_unit: dict[str, list[str]] = {}
    for table in tables:
        by_unit.setdefault(table.unit, []).append(table.sample)
    if len(by_unit) < 2:
        return
    units_text = "; ".join(
        f"{', '.join(names[:3])}{' …' if len(names) > 3 else ''}: "
        + ("no pixel size" if unit == "px" else unit)
        for unit, names in by_unit.items()
    )
    raise ComparisonError(
        f"{column.title} cannot be compared over samples of different units ({units_text}); give "
        "the pixel size of all of them in Look, or compare it in pixels."
    )


def _check_attributes(points: Sequence[SamplePoint], question: Question) -> None:
    """Refuse a comparison by, or pairs of, an attribute that nothing has: a ComparisonError."""
    by, pairs = question.by, question.pairs
    if by.startswith((OF_SAMPLE, OF_REGION)) and not points:
        whose = "sample" if by.startswith(OF_SAMPLE) else "region"
        name = by.split(":", 1)[1]
        if question.curves == "region":
            raise ComparisonError(
                "No region was followed through a stack; measure x, y and pixels of its planes, or "
                "choose a curve for each stack or group."
            )
        raise ComparisonError(
            f"No measured {whose} has the attribute “{name}” to compare by; give it in a table or "
            "by a name pattern, or choose another under By."
        )
    if pairs and points and not any(point.pair for point in points):
        name = pairs.split(":", 1)[-1]
        raise ComparisonError(
            f"No sample has “{name}” to be paired by; give it to the samples, or choose another "
            "under Paired by."
        )


def compare_all(
    tables: Sequence[RegionTable], question: Question, attributes: Attributes | None = None
) -> tuple[Comparison, ...]:
    """Compare each quantity of a question. Raises ComparisonError, as `compare`."""
    return tuple(compare(tables, question, attributes, key) for key in question.quantities)


def _fits(
    points: Sequence[SamplePoint], curves: Sequence[Curve], question: Question
) -> tuple[dict[str, Fit], str]:
    """A curve for each series by its name, and why some have none.

    Where there is one series only, it has no name.
    """
    if question.fit == "none" or not any(math.isfinite(point.x) for point in points):
        return {}, ""
    series = _series(points, curves, question)
    if len(series) > _MOST_FITS:
        return {}, (
            f"{len(series)} curves are more than the {_MOST_FITS} that are fitted; choose a curve "
            "for each stack or group."
        )
    fits: dict[str, Fit] = {}
    without: dict[str, str] = {}
    for name, (x, y) in series.items():
        checkpoint()
        try:
            fits[name] = fit_curve(question.fit, x, y)
        except ComparisonError as exc:
            without[name] = str(exc)
    if not without:
        return fits, ""
    name, why = next(iter(without.items()))
    others = f" {len(without) - 1} more curves have no fit either." if len(without) > 1 else ""
    return fits, f"{name + ': ' if name else ''}{why}{others}"


def _series(
    points: Sequence[SamplePoint], curves: Sequence[Curve], question: Question
) -> dict[str, tuple[Values, Values]]:
    """Places and values of each series that is fitted."""
    if question.curves != "group" and curves:
        return {curve.name: (curve.x, curve.y) for curve in curves}
    each = _each_sample(points, question)
    members: dict[str, list[SamplePoint]] = {}
    for point in points:
        members.setdefault(point.sample if each else point.group, []).append(point)
    if len(members) == 1:
        members = {"": next(iter(members.values()))}
    return {
        name: (
            np.array([member.x for member in group_points]),
            np.array([member.value for member in group_points]),
        )
        for name, group_points in members.items()
    }


def _each_sample(points: Sequence[SamplePoint], question: Question) -> bool:
    """Whether each sample is a series by itself: few, by an attribute of their regions."""
    by_region = question.by.startswith(OF_REGION)
    return by_region and len({point.sample for point in points}) <= _MOST_SERIES


def point_key(point: SamplePoint) -> tuple[str, str, str]:
    """Name a value within its comparison."""
    return point.sample, point.category, point.label


def _wants_other(question: Question) -> bool:
    """Whether the kind of plot sets two quantities against each other."""
    return "other_quantity" in PLOTS[question.shown_as].options


def _other(
    tables: Sequence[RegionTable],
    question: Question,
    channel: str,
    name: str,
    attributes: Attributes,
) -> tuple[dict[tuple[str, str, str], float], str]:
    """The quantity to the right of a scatter for each value, and what it is called."""
    if not _wants_other(question):
        return {}, ""
    other_channel = question.other_channel or channel
    key = question.other_quantity
    having = [t for t in tables if key in t.columns.get(other_channel, {})]
    if not having:
        raise ComparisonError(
            f"No sample has a measured “{key}” of channel “{other_channel}”; choose another."
        )
    plain = question.model_copy(update={"by": "group"} if question.by == "channel" else {})
    other_points, _ = observations(having, plain, key, other_channel, attributes)
    column = having[0].quantity(key)
    units = having[0].units.get(other_channel, "counts")
    label = _label(column, having[0].unit, units, other_channel, name, bare=False)
    return {point_key(point): point.value for point in other_points}, label


def _correlation(
    points: Sequence[SamplePoint],
    other: Mapping[tuple[str, str, str], float],
    question: Question,
) -> Correlation | None:
    if not _wants_other(question):
        return None
    x = np.array([other.get(point_key(point), math.nan) for point in points])
    return correlate(x, np.array([point.value for point in points]))
