"""The same samples measured twice: by two people's changes by hand, or by two methods."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rilievo.core.atomic_write import cannot_write, write_bytes_safely, write_text_safely
from rilievo.core.batch import Measurer
from rilievo.core.compare.agreement import (
    IntraclassCorrelation,
    LimitsOfAgreement,
    absolute_agreement,
    consistency,
    limits_of_agreement,
)
from rilievo.core.compare.plots.figure_look import PLAIN, FigureLook
from rilievo.core.errors import ComparisonError
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.method import Method, checked_copy
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.progress import no_report
from rilievo.core.regions.overlap import match_regions
from rilievo.core.report.figures import figure_bytes
from rilievo.core.result_frame import ResultFrame
from rilievo.core.wording.numbers import p_text

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_GOOD, _TREND = 0.8, 0.05


@dataclass(frozen=True)
class RegionPair:
    """A region that both found. overlap : pixels of both over pixels of either."""

    sample: str
    first: int
    second: int
    overlap: float
    values: tuple[float, float]


@dataclass(frozen=True)
class SamplePair:
    """A sample measured twice: means over all its regions, and how the regions match."""

    sample: str
    values: tuple[float, float]
    regions: tuple[int, int]
    matched: int
    score: float


@dataclass(frozen=True, eq=False)
class TwoMeasurements:
    """What two measurers found of one quantity.

    names : of the measurers. label : of the quantity, with its unit. failures : samples that one
    of them could not measure, with the reason.
    """

    names: tuple[str, str]
    label: str
    pairs: tuple[RegionPair, ...]
    samples: tuple[SamplePair, ...]
    failures: dict[str, str]

    def values(self, unit: str) -> NDArray[np.float64]:
        """Return shape (n, 2): values of matched regions, or ("sample") means of samples."""
        of: Sequence[RegionPair | SamplePair] = self.samples if unit == "sample" else self.pairs
        return np.array([pair.values for pair in of], np.float64).reshape(-1, 2)

    def limits(self, unit: str) -> LimitsOfAgreement:
        """Return the limits of agreement, second − first."""
        values = self.values(unit)
        return limits_of_agreement(values[:, 0], values[:, 1])

    def absolute(self, unit: str) -> IntraclassCorrelation:
        """Return the intraclass correlation for absolute agreement."""
        return absolute_agreement(self.values(unit))

    def consistency(self, unit: str) -> IntraclassCorrelation:
        """Return the intraclass correlation without a common offset."""
        return consistency(self.values(unit))


def measure_twice(
    samples: Sequence[SampleRef],
    methods: tuple[Method, Method],
    names: tuple[str, str],
    *,
    quantity: str = "mean",
    channel: str = "",
    region_class: str = "",
    report: Callable[[float], None] = no_report,
    measurer: Measurer | None = None,
) -> TwoMeasurements:
    """Measure samples by two methods, with their changes by hand, and match the regions.

    channel, region_class : "" for the first. measurer : reads the samples. Raises ComparisonError
    where a class or quantity is not in both.
    """
    first, second = methods
    if quantity not in QUANTITIES:
        raise ComparisonError(f"There is no quantity “{quantity}”.")
    class_name = region_class or first.class_names[0]
    if class_name not in first.class_names or class_name not in second.class_names:
        raise ComparisonError(
            f"The class “{class_name}” is not in both methods; choose one that both have: "
            f"{', '.join(n for n in first.class_names if n in second.class_names) or 'none'}."
        )
    lean = [_only(method, quantity) for method in methods]
    samples_measured, failures = (measurer or Measurer()).each(
        samples,
        lean,
        lambda ref, analyses: _of_sample(ref, analyses, class_name, quantity, channel),
        report,
    )
    if not samples_measured:
        raise ComparisonError(
            "No sample could be measured by both: "
            + (next(iter(failures.values()), "there is none"))
        )
    pairs = tuple(pair for of_sample in samples_measured.values() for pair in of_sample[0])
    means = tuple(of_sample[1] for of_sample in samples_measured.values())
    label = [of_sample[2] for of_sample in samples_measured.values()][-1]
    return TwoMeasurements(names, label, pairs, means, failures)


def _only(method: Method, quantity: str) -> Method:
    return method.changed(
        measure=checked_copy(method.measure, quantities=(quantity,), derived=(), pairs=())
    )


def _of_sample(
    item: SampleRef, analyses: Sequence[Analysis], name: str, quantity: str, channel: str
) -> tuple[list[RegionPair], SamplePair, str]:
    labels, values, label = [], [], ""
    for analysis in analyses:
        index = analysis.method.class_index(name)
        regions = analysis.regions(index)
        table = analysis.table(item.group)
        of = channel or table.channels[0]
        if of not in table.channels:
            raise ComparisonError(f"There is no channel “{of}” in “{item.name}”.")
        in_class = table.of_class(index)
        values.append(
            dict(zip(table.ids[in_class].tolist(), table.column(of, quantity)[in_class].tolist(),
                     strict=True))
        )  # fmt: skip
        labels.append(regions.labels)
        column = table.quantity(quantity)
        unit = column.unit_text(table.unit, table.units.get(of, "counts"))
        label = f"{of}, {column.title.lower()}{f' ({unit})' if unit else ''}"
    if labels[0].shape != labels[1].shape:
        raise ComparisonError(
            f"The two methods give “{item.name}” different sizes, so that its regions cannot be "
            "matched."
        )
    matched = match_regions(labels[0], labels[1])
    first_values, other = values
    pairs = [
        RegionPair(
            item.name, a, b, float(overlap), (first_values.get(a, math.nan), other.get(b, math.nan))
        )
        for a, b, overlap in zip(
            matched.first.tolist(), matched.second.tolist(), matched.overlap.tolist(), strict=True
        )
    ]
    means = tuple(float(np.nanmean(list(v.values()))) if v else math.nan for v in values)
    sample_pair = SamplePair(
        item.name, (means[0], means[1]), (len(first_values), len(other)), len(pairs), matched.score
    )
    return pairs, sample_pair, label


def sentences(measurements: TwoMeasurements) -> list[str]:
    """Return how far both agree, as sentences."""
    first, second = measurements.names
    counts = [sum(sample.regions[k] for sample in measurements.samples) for k in (0, 1)]
    overlaps = [pair.overlap for pair in measurements.pairs]
    sentences_made = []
    if sum(counts):
        share = 2 * len(measurements.pairs) / sum(counts)
        sentences_made.append(
            f"{first} found {counts[0]} regions, {second} {counts[1]}; {len(measurements.pairs)} "
            f"of them are the same (score {share:.2f}"
            + (f", mean overlap {np.mean(overlaps):.2f})." if overlaps else ").")
        )
    for unit, what in (("sample", "sample means"), ("region", "matched regions")):
        sentences_made += _of_limits(measurements, unit, what)
    if len(measurements.pairs) > len(measurements.samples):
        sentences_made.append(
            "Regions of one sample are not independent of each other: the intervals of matched "
            "regions are too narrow."
        )
    sentences_made += [
        f"{name} could not be measured: {why}" for name, why in measurements.failures.items()
    ]
    return sentences_made


def _of_limits(measurements: TwoMeasurements, unit: str, what: str) -> list[str]:
    limits = measurements.limits(unit)
    if math.isnan(limits.low):
        return [f"Too few {what} for limits of agreement ({limits.n}; three are needed)."]
    absolute = measurements.absolute(unit)
    low, high = absolute.interval
    sentences_made = [
        f"Of {limits.n} {what}, {measurements.names[1]} − {measurements.names[0]} of "
        f"{measurements.label} is {limits.bias:+.4g} on average (95 % interval "
        f"{limits.bias_interval[0]:.4g} to {limits.bias_interval[1]:.4g}); 95 % of the differences "
        f"lie between {limits.low:.4g} and {limits.high:.4g}. Intraclass correlation (absolute "
        f"agreement) {absolute.value:.3f}, 95 % interval {low:.3f} to {high:.3f}."
    ]
    if limits.slope_p < _TREND:
        way = "grows" if limits.slope > 0 else "falls"
        sentences_made.append(
            f"The difference {way} with the value ({p_text(limits.slope_p)}): limits that are the "
            "same for small and large values do not fit."
        )
    return sentences_made


def write_agreement(measurements: TwoMeasurements, folder: Path) -> None:
    """Write pairs of regions, samples, limits and the plot into a folder. Raises FileUnreadable."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(folder, exc) from exc
    pairs_frame(measurements).write_csv(folder / "pairs.csv")
    samples_frame(measurements).write_csv(folder / "samples.csv")
    agreement_frame(measurements).write_csv(folder / "agreement.csv")
    write_text_safely(folder / "agreement.txt", "\n".join(sentences(measurements)) + "\n")
    svg = figure_bytes(lambda: agreement_figure(measurements), "svg", PLAIN)
    write_bytes_safely(folder / "agreement.svg", svg)


def pairs_frame(measurements: TwoMeasurements) -> ResultFrame:
    """Return a row for each region that both found."""
    columns = ["sample", "region_first", "region_second", "overlap", "first", "second"]
    rows = [(p.sample, p.first, p.second, p.overlap, *p.values) for p in measurements.pairs]
    return ResultFrame.of_rows(columns, rows)


def samples_frame(measurements: TwoMeasurements) -> ResultFrame:
    """Return a row for each sample."""
    columns = ["sample", "first", "second", "regions_first", "regions_second", "matched", "score"]
    rows = [(s.sample, *s.values, *s.regions, s.matched, s.score) for s in measurements.samples]
    return ResultFrame.of_rows(columns, rows)


def agreement_frame(measurements: TwoMeasurements) -> ResultFrame:
    """Return limits and correlations, a row each for samples and regions."""
    rows = []
    for unit in ("sample", "region"):
        limits, absolute, alike = (
            measurements.limits(unit), measurements.absolute(unit), measurements.consistency(unit),
        )  # fmt: skip
        rows.append(
            (unit, limits.n, limits.bias, *limits.bias_interval, limits.sd, limits.low,
             *limits.low_interval, limits.high, *limits.high_interval, absolute.value,
             *absolute.interval, alike.value, *alike.interval)
        )  # fmt: skip
    columns = [
        "unit", "n", "bias", "bias_low_95", "bias_high_95", "sd", "lower_limit",
        "lower_limit_low_95", "lower_limit_high_95", "upper_limit", "upper_limit_low_95",
        "upper_limit_high_95", "icc_absolute", "icc_absolute_low_95", "icc_absolute_high_95",
        "icc_consistency", "icc_consistency_low_95", "icc_consistency_high_95",
    ]  # fmt: skip
    return ResultFrame.of_rows(columns, rows)


def agreement_figure(
    measurements: TwoMeasurements,
    size: tuple[float, float] = (7.0, 4.5),
    dpi: float = 100.0,
    look: FigureLook = PLAIN,
) -> Figure:
    """Return differences against means: regions small, samples large, bias and limits of samples.

    Where samples are too few, the limits are those of regions.
    """
    from matplotlib.figure import Figure  # noqa: PLC0415 (slow to import)

    figure = Figure(figsize=size, dpi=dpi, facecolor=look.ground, layout="constrained")
    axes = figure.add_subplot()
    look.dress(axes)
    for unit, area, colour, alpha in (
        ("region", 14, "#0072B2", 0.45), ("sample", 62, look.ink, 0.9),
    ):  # fmt: skip
        values = measurements.values(unit)
        axes.scatter(values.mean(axis=1), values[:, 1] - values[:, 0], s=area, color=colour,
                     alpha=alpha, linewidths=0, zorder=3)  # fmt: skip
    limits = measurements.limits("sample")
    if math.isnan(limits.low):
        limits = measurements.limits("region")
    for at, ends, style in (
        (limits.bias, limits.bias_interval, "solid"),
        (limits.low, limits.low_interval, "dashed"),
        (limits.high, limits.high_interval, "dashed"),
    ):
        if math.isfinite(at):
            axes.axhline(at, color=look.ink, linewidth=1.4, linestyle=style, zorder=2)
            axes.axhspan(*ends, color=look.ink, alpha=0.07, linewidth=0, zorder=1)
    axes.axhline(0, color=look.faint, linewidth=0.8, zorder=1)
    axes.set_xlabel(f"Mean of both: {measurements.label}", color=look.ink, fontsize=9.5)
    first, second = measurements.names
    axes.set_ylabel(f"{second} − {first}", color=look.ink, fontsize=9.5)
    return figure
