"""Curves of followed regions, stacks and groups, their means, baselines and fits."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from rilievo.core.compare import compare
from rilievo.core.compare.choices import choices_of, coerce_question
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.question import Normalising, Question
from rilievo.core.compare.result_tables import curves_frame, mean_curves_frame
from rilievo.core.compare.series_curves import curves_of, mean_curves
from rilievo.core.compare.wording import heading, sentences
from rilievo.core.errors import ComparisonError
from rilievo.core.regions.region_set import RegionAnnotation
from rilievo.core.report.figures import comparison_figure
from rilievo.core.table.table import RegionTable

SECONDS = np.arange(30) * 10.0
STACKS = {"a1": "a", "a2": "a", "a3": "a", "b1": "b"}
BASE = Question(quantities=("mean",), by="sample:time (s)", shown_as="series")


def value(stack: str, track: int, time: float) -> float:
    """A decay with a time constant by group and stack, a level by track."""
    tau = (80.0 if stack[0] == "a" else 160.0) * (1 + 0.02 * int(stack[1]))
    return 20.0 * track + 100.0 * track * float(np.exp(-time / tau))


def table_of(stack: str, k: int, *, tracked: bool = True) -> RegionTable:
    """Two regions whose order changes from time to time, and one that nothing followed."""
    tracks = [1, 2] if k % 2 else [2, 1]
    values = [value(stack, track, SECONDS[k]) for track in tracks] + [999.0]
    ids = np.array([1, 2, 3])
    known = {
        region: RegionAnnotation(attributes={"track": str(track)})
        for region, track in zip((1, 2), tracks, strict=True)
    }
    if stack == "b1" and k == 4:
        known[1] = RegionAnnotation(
            attributes={"track": str(tracks[0]), "track event": "merges into track 2"}
        )
    return RegionTable(
        sample=f"{stack} t{k + 1}",
        file=f"{stack}.tif",
        group=STACKS[stack],
        ids=ids,
        classes=("drop",),
        columns={"gray": {"mean": np.array(values)}},
        known=known if tracked else {},
        attributes={"stack": stack, "time": str(k + 1), "time (s)": f"{SECONDS[k]:g}"},
    )


TABLES = [table_of(stack, k) for stack in STACKS for k in range(SECONDS.size)]
ATTRIBUTES = {table.sample: dict(table.attributes) for table in TABLES}


def test_each_followed_region_has_its_own_curve() -> None:
    found = compare(TABLES, BASE.model_copy(update={"curves": "region"}), ATTRIBUTES)
    assert [curve.name for curve in found.curves[:2]] == ["a1 · track 2", "a1 · track 1"]
    assert len(found.curves) == 2 * len(STACKS)
    for curve in found.curves:
        stack, track = curve.name.split(" · track ")
        np.testing.assert_array_equal(curve.x, SECONDS)
        expected = [value(stack, int(track), time) for time in SECONDS]
        np.testing.assert_array_equal(curve.y, expected)
        assert (curve.group, curve.stack) == (STACKS[stack], stack)
    # What is tested is still one value a sample: the mean of its followed regions.
    first = found.points["0"][0]
    assert first.value == np.mean([value("a1", track, 0.0) for track in (1, 2)])
    assert sorted(first.regions.tolist()) == [1, 2]


def test_a_curve_for_each_stack_and_for_each_group() -> None:
    by_stack = compare(TABLES, BASE.model_copy(update={"curves": "stack"}), ATTRIBUTES)
    assert [curve.name for curve in by_stack.curves] == list(STACKS)
    expected = [(value("a2", 1, t) + value("a2", 2, t) + 999.0) / 3 for t in SECONDS]
    np.testing.assert_allclose(by_stack.curves[1].y, expected, rtol=1e-14)
    by_group = compare(TABLES, BASE, ATTRIBUTES)
    assert [(curve.name, curve.stack) for curve in by_group.curves] == [("a", ""), ("b", "b1")]


def test_the_mean_is_over_stacks_with_students_interval() -> None:
    """Three stacks of two curves each are three units, not six."""
    found = compare(TABLES, BASE.model_copy(update={"curves": "region"}), ATTRIBUTES)
    mean = next(one for one in found.means if one.group == "a")
    assert (mean.unit, mean.between, mean.count.tolist()) == ("stack", False, [3] * SECONDS.size)
    # At the beginning all stacks are alike, and the interval has no width.
    assert mean.low[0] == mean.high[0] == 180.0
    for k, time in list(enumerate(SECONDS))[1:]:
        units = [np.mean([value(s, t, time) for t in (1, 2)]) for s in ("a1", "a2", "a3")]
        low, high = stats.t.interval(0.95, 2, np.mean(units), stats.sem(units))
        np.testing.assert_allclose(
            [mean.mean[k], mean.low[k], mean.high[k]], [np.mean(units), low, high], rtol=1e-9
        )
    alone = next(one for one in found.means if one.group == "b")
    assert (alone.unit, alone.count[0]) == ("followed region", 2)


def test_curves_without_common_places_are_read_between_their_points() -> None:
    tables, attributes = [], {}
    for stack, shift in (("a1", 0.0), ("a2", 5.0)):
        for k in range(6):
            table = table_of(stack, k)
            attributes[table.sample] = {"stack": stack, "at": f"{10 * k + shift:g}"}
            tables.append(table)
    found = compare(tables, BASE.model_copy(update={"by": "sample:at"}), attributes)
    (mean,) = found.means
    assert mean.between
    first, last = mean.x.searchsorted([5.0, 50.0])
    assert mean.count.tolist() == [1, *[2] * 10, 1]
    assert (first, last) == (1, 10)
    at_5 = [np.mean([_stack_mean("a1", 0), _stack_mean("a1", 1)]), _stack_mean("a2", 0)]
    assert mean.mean[1] == pytest.approx(np.mean(at_5), rel=1e-12)
    assert np.isnan(mean.low[0])


def _stack_mean(stack: str, k: int) -> float:
    return float(np.mean([value(stack, 1, SECONDS[k]), value(stack, 2, SECONDS[k]), 999.0]))


@pytest.mark.parametrize("how", ["ratio", "difference"])
def test_each_curve_is_related_to_its_own_baseline(how: str) -> None:
    normalising = Normalising.model_validate(
        {"by": "baseline", "how": how, "first": 10.0, "last": 30.0}
    )
    question = BASE.model_copy(update={"curves": "region", "normalising": normalising})
    found = compare(TABLES, question, ATTRIBUTES)
    for curve in found.curves:
        stack, track = curve.name.split(" · track ")
        plain = np.array([value(stack, int(track), time) for time in SECONDS])
        level = plain[1:4].mean()
        expected = plain / level if how == "ratio" else plain - level
        np.testing.assert_allclose(curve.y, expected, rtol=1e-12, atol=1e-12)
    words = "relative to" if how == "ratio" else "less"
    assert found.related == f"{words} the mean of each series from 10 to 30"
    nowhere = normalising.model_copy(update={"first": 1e5, "last": 2e5})
    with pytest.raises(ComparisonError, match="No series has a value from 100000 to 200000"):
        compare(TABLES, question.model_copy(update={"normalising": nowhere}), ATTRIBUTES)


def test_fits_of_followed_regions_are_summed_up_by_stack() -> None:
    question = BASE.model_copy(update={"curves": "region", "fit": "decay"})
    found = compare(TABLES, question, ATTRIBUTES)
    assert len(found.fits) == 8
    assert found.fits["b1 · track 2"].parameters[2] == pytest.approx(160.0 * 1.02, rel=1e-6)
    first, second = found.parameters
    constants = [80.0 * (1 + 0.02 * n) for n in (1, 2, 3)]
    low, high = stats.t.interval(0.95, 2, np.mean(constants), stats.sem(constants))
    assert (first.group, first.count, first.unit) == ("a", 3, "stack")
    np.testing.assert_allclose([first.mean, *first.interval], [np.mean(constants), low, high],
                               rtol=1e-5)  # fmt: skip
    assert (second.count, second.unit) == (2, "followed region")
    said = sentences(found)
    assert heading(found).startswith("a: τ = 83.2")
    assert "the mean of 3 stacks." in said[0]
    assert "tell nothing of how stacks differ" in said[1]
    assert "b1 · track 2 merges into track 2 at 40" in said[-1]


def test_tables_of_curves_have_a_row_a_parameter_and_a_row_a_place() -> None:
    question = BASE.model_copy(update={"curves": "region", "fit": "decay"})
    found = compare(TABLES, question, ATTRIBUTES)
    fitted = curves_frame([found]).to_pandas()
    assert len(fitted) == 8 * 3
    row = fitted[(fitted["series"] == "a2 · track 1") & (fitted["parameter"] == "τ")].iloc[0]
    assert row["value"] == pytest.approx(80.0 * 1.04, rel=1e-6)
    assert (row["stack"], row["group"], row["points"]) == ("a2", "a", SECONDS.size)
    means = mean_curves_frame([found]).to_pandas()
    assert len(means) == 2 * SECONDS.size
    assert means["at"].tolist()[:3] == [0.0, 10.0, 20.0]


def test_a_plot_has_a_line_a_curve_and_its_dots_lead_to_the_region() -> None:
    question = BASE.model_copy(update={"curves": "region", "fit": "decay"})
    figure, ((axes, dots),) = comparison_figure([compare(TABLES, question, ATTRIBUTES)])
    lines = [p for c in axes.collections for p in c.get_paths() if len(p.vertices) == 30]
    assert len(lines) >= 8
    assert len(dots) == 8 * SECONDS.size
    assert {dot.region for dot in dots if dot.sample == "a1 t1"} == {1, 2}
    assert [text.get_text() for text in axes.get_legend().get_texts()] == ["a", "b"]
    assert figure.axes[1].get_ylabel() == "Residual"
    assert "curves" in PLOTS["series"].options


def test_what_was_not_followed_is_told() -> None:
    plain = [table_of("a1", k, tracked=False) for k in range(4)]
    with pytest.raises(ComparisonError, match="No region was followed through a stack"):
        compare(plain, BASE.model_copy(update={"curves": "region"}), ATTRIBUTES)
    assert tuple(choices_of(plain, ATTRIBUTES).curves) == ("group", "stack")
    assert tuple(choices_of(TABLES, ATTRIBUTES).curves) == ("group", "stack", "region")
    asked = BASE.model_copy(update={"curves": "region"})
    assert coerce_question(asked, choices_of(plain, ATTRIBUTES)).curves == "group"


def test_nothing_makes_no_curves() -> None:
    assert curves_of([]) == ()
    assert mean_curves(()) == ()
