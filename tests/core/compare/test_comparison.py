from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from rilievo.core.compare import (
    UNGROUPED,
    Normalising,
    Question,
    attribute_names,
    compare,
    compare_all,
    confidence_interval,
)
from rilievo.core.compare.result_tables import groups_frame, tests_frame
from rilievo.core.compare.wording import heading, sentences
from rilievo.core.errors import ComparisonError
from rilievo.core.regions.region_set import CLASS_STRIDE, RegionAnnotation
from rilievo.core.table.table import RegionTable

DYE = Question(channel="dye")


def table(sample: str, group: str, values: list[float]) -> RegionTable:
    return RegionTable(
        sample=sample,
        file="",
        group=group,
        classes=("cell",),
        ids=np.arange(1, len(values) + 1),
        columns={"dye": {"mean": np.array(values, dtype=float)}},
    )


def test_samples_enter_with_the_mean_over_their_regions() -> None:
    tables = [
        table("a1", "a", [1.0, 3.0]),
        table("a2", "a", [4.0]),
        table("b1", "b", [10.0, 20.0, 30.0]),
        table("b2", "b", [16.0]),
    ]
    result = compare(tables, DYE)
    first, second = result.statistics
    assert (first.group, first.samples, first.regions) == ("a", 2, 3)
    assert first.mean == 3.0
    assert first.sd == pytest.approx(math.sqrt(2))
    assert second.mean == 18.0
    assert second.ratio == 6.0
    assert first.ratio == 1.0
    assert [p.value for p in result.points["b"]] == [20.0, 16.0]


def test_interval_against_the_published_t_table() -> None:
    # Student's t, 97.5 %: 12.706 for 1, 3.182 for 3, 2.262 for 9 degrees of freedom.
    for n, t in ((2, 12.706), (4, 3.182), (10, 2.262)):
        values = np.arange(n, dtype=float)
        low, high = confidence_interval(values)
        half = t * values.std(ddof=1) / math.sqrt(n)
        assert high - values.mean() == pytest.approx(half, rel=2e-4)
        assert values.mean() - low == pytest.approx(half, rel=2e-4)


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=30))
def test_interval_is_centred_on_the_mean(values: list[float]) -> None:
    low, high = confidence_interval(np.array(values))
    assert (low + high) / 2 == pytest.approx(np.mean(values), abs=1e-3)


def test_one_sample_has_no_spread() -> None:
    one = compare([table("a1", "a", [1.0, 2.0])], DYE).statistics[0]
    assert one.mean == 1.5
    assert math.isnan(one.sd)
    assert math.isnan(one.interval[0])


def test_samples_without_regions_are_named_and_left_out() -> None:
    result = compare(
        [table("a1", "a", [1.0]), table("a2", "a", []), table("b1", "b", [math.nan])], DYE
    )
    assert result.without_value == ("a2", "b1")
    assert [s.samples for s in result.statistics] == [1]
    assert " ".join(sentences(result)) == ""


def test_samples_without_a_group_form_one() -> None:
    result = compare([table("x", "", [1.0]), table("y", "b", [2.0])], DYE)
    assert result.groups == (UNGROUPED, "b")


def test_the_sentence_says_what_was_compared() -> None:
    tables = [table(f"a{i}", "control", [10.0 + i]) for i in range(3)]
    tables += [table(f"b{i}", "treated", [33.0 + 3 * i]) for i in range(3)]
    sentence = " ".join(sentences(compare(tables, DYE)))
    assert sentence.startswith(
        "treated: 36.00 ± 3.00, against control: 11.00 ± 1.00 (dye, mean per cell (counts); "
        "mean ± SD of 3 and 3 samples), ratio 3.27; Welch's t(2.439) = 13.7, p = 0.0023; "
        "Hedges' g = 8.92, 95 % interval "
    )


def test_nothing_measured_is_said() -> None:
    with pytest.raises(ComparisonError, match="measure all samples"):
        compare([], DYE)
    with pytest.raises(ComparisonError, match="area"):
        compare([table("a", "a", [1.0])], Question(quantities=("area",)))


def test_the_label_carries_the_unit() -> None:
    calibrated = RegionTable(
        sample="a",
        file="",
        group="g",
        classes=("droplet",),
        ids=np.array([1]),
        columns={"dye": {"area_unit": np.array([2.0]), "sd": np.array([1.0])}},
        unit="µm",
    )
    assert compare([calibrated], DYE, quantity="area_unit").label == "dye, area per droplet (µm²)"
    assert compare([calibrated], DYE, quantity="sd").label == "dye, SD per droplet (counts)"


def facts(names: list[str], attribute: str = "hours") -> dict[int, RegionAnnotation]:
    return {
        k: RegionAnnotation(name=f"piece {text}", attributes={attribute: text})
        for k, text in enumerate(names, start=1)
    }


def fading(sample: str, factor: float, group: str = "") -> RegionTable:
    hours = ["16 h", "0 h", "4 h", "64 h"]
    values = [factor * (10 + 90 * math.exp(-float(h[:-2]) / 20)) for h in hours]
    return replace(table(sample, group, values), known=facts(hours))


def test_several_groups_are_tested_together_and_against_the_control() -> None:
    rng = np.random.default_rng(2)
    values = {"a": rng.normal(10, 1, 5), "b": rng.normal(10, 1, 5), "c": rng.normal(20, 1, 5)}
    tables = [table(f"{g}{k}", g, [v]) for g, own in values.items() for k, v in enumerate(own)]
    result = compare(tables, DYE)
    theirs = stats.f_oneway(*values.values(), equal_var=False)
    assert result.overall is not None
    assert result.overall.test.p == pytest.approx(theirs.pvalue)
    ps = [stats.ttest_ind(values["a"], values[g], equal_var=False).pvalue for g in "bc"]
    assert [v.corrected for v in result.versus] == pytest.approx([ps[0], 2 * ps[1]])
    assert [v.first for v in result.versus] == ["a", "a"]
    text = " ".join(sentences(result))
    assert text.count("no difference was shown") == 1
    assert "in 80 % of studies takes" in text
    pairs = compare(tables, DYE.model_copy(update={"every_pair": True})).versus
    assert [(v.first, v.second) for v in pairs] == [("a", "b"), ("a", "c"), ("b", "c")]
    turned = compare(tables, DYE.model_copy(update={"against": "c", "test": "ranks"}))
    assert turned.reference == "c"
    assert turned.of_group("a").ratio == pytest.approx(values["a"].mean() / values["c"].mean())
    ranked = stats.mannwhitneyu(values["a"], values["c"], method="exact").pvalue
    assert turned.versus[0].test.p == pytest.approx(ranked)


def test_the_unit_is_the_sample_unless_the_user_says_region() -> None:
    tables = [table(f"a{k}", "a", [k + 1.0, k + 2.0]) for k in range(3)]
    tables += [table(f"b{k}", "b", [k + 2.0, k + 4.0]) for k in range(3)]
    by_sample = compare(tables, DYE)
    by_region = compare(tables, DYE.model_copy(update={"unit": "region"}))
    assert by_sample.versus[0].n == (3, 3)
    assert by_region.versus[0].n == (6, 6)
    assert "taken as independent" in " ".join(sentences(by_region))
    assert "taken as independent" not in " ".join(sentences(by_sample))


def test_compartments_are_paired_by_sample() -> None:
    def two(sample: str, first: float, second: float) -> RegionTable:
        one = table(sample, "g", [first, second])
        return replace(one, classes=("cell", "rest"), ids=np.array([1, CLASS_STRIDE + 1]))

    values = [(10.0, 5.0), (20.0, 14.0), (15.0, 11.0), (12.0, 6.0)]
    tables = [two(f"s{k}", a, b) for k, (a, b) in enumerate(values)]
    question = Question(channel="dye", by="class", pairs="sample")
    result = compare(tables, question)
    theirs = stats.ttest_rel([b for _, b in values], [a for a, _ in values])
    assert result.groups == ("cell", "rest")
    assert result.versus[0].test.p == pytest.approx(theirs.pvalue)
    assert result.versus[0].difference == pytest.approx(-5.25)
    assert "4 pairs" in " ".join(sentences(result))


def test_before_and_after_are_paired_by_an_attribute() -> None:
    tables = [table(f"{g}{k}", g, [v + 3 * k]) for g, v in (("before", 5.0), ("after", 7.0))
              for k in range(3)]  # fmt: skip
    told = {t.sample: {"animal": t.sample[-1]} for t in tables if t.sample != "after2"}
    result = compare(tables, Question(channel="dye", pairs="sample:animal"), told)
    assert result.versus[0].n == (2, 2)
    assert result.versus[0].difference == pytest.approx(2.0)
    assert result.versus[0].why_not.startswith("The values do not differ")


def test_regions_are_a_series_by_their_attribute() -> None:
    tables = [fading("p1", 1.0), fading("p2", 1.2), fading("p3", 0.8)]
    question = Question(channel="dye", by="region:hours", shown_as="series", fit="decay")
    result = compare(tables, question)
    assert result.groups == ("0 h", "4 h", "16 h", "64 h")
    assert [p.x for p in result.points["16 h"]] == [16, 16, 16]
    # Few samples are a series each, so that their own curves can be compared.
    for name, size in (("p1", 1.0), ("p2", 1.2), ("p3", 0.8)):
        truth = (10 * size, 90 * size, 20)
        assert result.fits[name].parameters == pytest.approx(truth, rel=1e-6)
    assert " ".join(sentences(result)).count("half-life 13.86") == 3
    first = Normalising(by="first")
    own = compare(tables, question.model_copy(update={"normalising": first}))
    assert [p.value for p in own.points["0 h"]] == pytest.approx([1, 1, 1])
    assert own.of_group("64 h").sd == pytest.approx(0, abs=1e-12)
    assert own.label.endswith("per cell, relative to the first of each series")
    assert own.statistics[0].raw_mean == pytest.approx(100)


def test_dates_and_numbers_of_samples_are_an_axis() -> None:
    tables = [table(f"n{k}", "", [2.0 * k]) for k in range(4)]
    told = {
        f"n{k}": {"date": f"2026-03-0{k + 1}T21:00:00", "dose": f"{9 - k} µl"} for k in range(4)
    }
    by_date = compare(tables, Question(channel="dye", by="sample:date", fit="line"), told)
    assert by_date.axis == "days"
    assert [p.x for p in by_date.all_points] == [0, 1, 2, 3]
    assert by_date.fits[""].parameters == pytest.approx((0, 2), abs=1e-9)
    by_dose = compare(tables, Question(channel="dye", by="sample:dose"), told)
    assert by_dose.groups == ("6 µl", "7 µl", "8 µl", "9 µl")
    assert attribute_names(tables, told) == {
        "sample:date": "date of the sample",
        "sample:dose": "dose of the sample",
    }
    with pytest.raises(ComparisonError, match="to compare by"):
        compare(tables, Question(channel="dye", by="taste"))


def test_normalising_to_a_control_and_to_a_reference_region() -> None:
    tables = [table("a1", "a", [4.0]), table("a2", "a", [6.0]), table("b1", "b", [20.0])]
    control = compare(tables, Question(normalising=Normalising(by="control", reference="a")))
    assert [s.mean for s in control.statistics] == [1, 4]
    assert [s.raw_mean for s in control.statistics] == [5, 20]
    less = Normalising(by="control", how="difference")
    assert [s.mean for s in compare(tables, Question(normalising=less)).statistics] == [0, 15]
    with pytest.raises(ComparisonError, match="“x” has no measured sample"):
        compare(tables, Question(normalising=Normalising(by="control", reference="x")))

    cards = [replace(table(f"s{k}", "g", [8.0 * k, 2.0 * k]), classes=("cell", "card"),
                     ids=np.array([1, CLASS_STRIDE + 1])) for k in (1, 2, 4)]  # fmt: skip
    to_card = Normalising(by="reference", reference="card")
    assert [p.value for p in compare(cards, Question(normalising=to_card)).all_points] == [4, 4, 4]
    matched = Normalising(by="matched", reference="card")
    result = compare(cards, Question(normalising=matched))
    # The cards' mean is 14/3; each sample is scaled to it.
    assert [p.value for p in result.all_points] == pytest.approx([56 / 3] * 3)
    assert "(counts)" in result.label
    shifted = Normalising(by="matched", how="difference", reference="card")
    values = [p.value for p in compare(cards, Question(normalising=shifted)).all_points]
    assert values == pytest.approx([6 + 14 / 3, 12 + 14 / 3, 24 + 14 / 3])
    with pytest.raises(ComparisonError, match="to relate to"):
        compare(cards, Question(normalising=Normalising(by="matched", reference="door")))


def test_outliers_are_named_with_their_robust_z() -> None:
    values = [10.0, 11, 9, 10.5, 9.5, 40]
    result = compare([table(f"a{k}", "a", [v]) for k, v in enumerate(values)], DYE)
    middle, away = np.median(values), np.median(np.abs(np.array(values) - np.median(values)))
    samples = [one for one in result.outliers if one.region == 0]
    assert [(one.sample, one.value) for one in samples] == [("a5", 40)]
    assert samples[0].z == pytest.approx(0.6745 * (40 - middle) / away, rel=1e-4)
    few = compare([table(f"a{k}", "a", [v]) for k, v in enumerate(values[-3:])], DYE)
    assert few.outliers == ()


def test_two_quantities_are_correlated_sample_by_sample() -> None:
    rng = np.random.default_rng(1)
    x, tables = rng.normal(50, 5, 8), []
    y = 2 * x + rng.normal(0, 3, 8)
    for k in range(8):
        one = table(f"s{k}", "ab"[k % 2], [y[k]])
        tables.append(replace(one, columns={"dye": {"mean": np.array([y[k]])},
                                            "red": {"area": np.array([x[k]])}}))  # fmt: skip
    question = Question(
        channel="dye", shown_as="scatter", other_quantity="area", other_channel="red"
    )
    result = compare(tables, question)
    assert result.correlation is not None
    assert result.correlation.r == pytest.approx(stats.pearsonr(x, y).statistic)
    assert "red, area per cell (px²)" in " ".join(sentences(result))
    assert "nothing about cause" in " ".join(sentences(result))


def test_several_quantities_give_several_comparisons() -> None:
    one = replace(table("a", "a", [1.0]), columns={"dye": {"mean": np.ones(1), "area": np.ones(1)}})
    both = compare_all([one], Question(quantities=("mean", "area")))
    assert [c.quantity for c in both] == ["mean", "area"]
    assert heading(both[0]) == "One group: nothing to compare with yet"


def test_assumptions_are_said() -> None:
    few = [table(f"{g}{k}", g, [k + 5.0 * (g == "b")]) for g in "ab" for k in range(3)]
    said = " ".join(compare(few, DYE).assumptions)
    assert "a: n = 3; b: n = 3." in said
    assert "sees only gross deviations" in said
    assert "Brown–Forsythe" in said
    ranked = " ".join(compare(few, Question(test="ranks")).assumptions)
    # 3 and 3 values have 20 orders: the smallest two-sided p is 0.1.
    assert "smallest p that is possible is 0.1:" in ranked
    odd = [table(f"{g}{k}", g, [v]) for g in "ab" for k, v in enumerate([1.0] * 3 + [2] * 9 + [90])]
    assert "Not normally distributed: a, b" in " ".join(compare(odd, DYE).assumptions)


def test_regions_instead_of_samples_find_what_is_not_there() -> None:
    """Two groups without a difference; a tenth of the variance lies between samples."""
    rng, found = np.random.default_rng(9), {"sample": 0, "region": 0}
    for _ in range(150):
        tables = [
            table(f"{g}{k}", g, (rng.normal(0, 0.32) + rng.normal(0, 0.95, 40)).tolist())
            for g in "ab"
            for k in range(4)
        ]
        for unit in ("sample", "region"):
            asked = DYE.model_copy(update={"unit": unit})
            found[unit] += compare(tables, asked).versus[0].test.p < 0.05
    assert found["sample"] <= 13, "about 5 %"
    assert found["region"] > 40, "several times as many"


def test_comparisons_as_tables_for_files() -> None:
    tables = [table(f"{g}{k}", g, [k + v]) for g, v in (("a", 1.0), ("b", 5.0), ("c", 9.0)) for k in
              range(3)]  # fmt: skip
    result = compare(tables, DYE)
    groups, tests = groups_frame([result]).to_pandas(), tests_frame([result]).to_pandas()
    assert groups["group"].tolist() == ["a", "b", "c"]
    assert groups["mean"].tolist() == [2, 6, 10]
    assert groups["sem"].tolist() == pytest.approx([1 / math.sqrt(3)] * 3)
    assert groups.loc[0, "mean_high_95"] == pytest.approx(2 + 4.302653 / math.sqrt(3), rel=1e-6)
    assert tests["second"].tolist() == ["", "b", "c"]
    theirs = stats.ttest_ind([5, 6, 7], [1, 2, 3], equal_var=False)
    assert tests.loc[1, ["statistic", "p"]].tolist() == pytest.approx(
        [theirs.statistic, theirs.pvalue]
    )
    assert tests.loc[1, "p_corrected"] >= tests.loc[1, "p"]
    alone = compare([table("a", "a", [1.0]), table("b", "b", [2.0])], DYE)
    assert "at least 2" in tests_frame([alone]).to_pandas().loc[0, "remark"]


def test_the_heading_is_the_plainest_true_line() -> None:
    def of(*groups: tuple[str, float, float]) -> str:
        tables = [table(f"{g}{k}", g, [m + s * k]) for g, m, s in groups for k in range(4)]
        return heading(compare(tables, DYE))

    # The larger difference, although the smaller one has the smaller p.
    assert of(("a", 10, 0.01), ("b", 20, 0.01), ("c", 40, 1.0)) == "c: 4.14 × a"
    assert of(("a", 10, 3.0), ("b", 11, 3.0)) == "No difference was shown between a and b"
    assert of(("a", 10, 1.0)) == "One group: nothing to compare with yet"
    assert of(("a", -10, 0.1), ("b", 10, 0.1)) == "b: +20 against a"


@pytest.mark.parametrize("test", ["means", "ranks"])
@pytest.mark.parametrize("pairs", ["", "sample"])
def test_values_that_differ_by_rounding_alone_have_no_spread(test: str, pairs: str) -> None:
    """Three equal values against three equal ones: no p, and a sentence that says why."""
    values = {"a": [0.1 + 0.2, 0.3, 0.3], "b": [0.7, 0.1 * 7, 0.7]}
    tables = [
        table(f"{g}{k}" if not pairs else f"{k}", g, [v])
        for g, own in values.items()
        for k, v in enumerate(own)
    ]
    question = DYE.model_copy(update={"test": test, "pairs": pairs})
    (versus,) = compare(tables, question).versus
    if test == "ranks":
        # Ranks see that all of one group lie above the other: one of 20 orders, twice.
        assert versus.test.p > 0.05 or math.isnan(versus.test.p)
    else:
        assert math.isnan(versus.test.p)
        assert math.isnan(versus.effect.value)
        assert "no test is possible" in " ".join(sentences(compare(tables, question)))


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.lists(st.sampled_from([1.0, 1.0 + 1e-15, 2.0, math.nan]), min_size=1, max_size=3),
        min_size=1,
        max_size=4,
    ),
    st.sampled_from(["means", "ranks"]),
    st.sampled_from(["dots", "series", "scatter"]),
    st.sampled_from(["none", "line"]),
)
def test_nan_is_never_printed(
    groups: list[list[float]], test: str, shown_as: str, fit: str
) -> None:
    tables = [
        table(f"g{i}-{k}", f"g{i}", [v, v])
        for i, own in enumerate(groups)
        for k, v in enumerate(own)
    ]
    update = {"test": test, "shown_as": shown_as, "fit": fit, "other_quantity": "mean"}
    try:
        found = compare(tables, DYE.model_copy(update=update))
    except ComparisonError:
        return
    texts = [heading(found), *sentences(found), *found.assumptions]
    texts += [
        groups_frame([found]).to_pandas().to_csv(index=False),
        tests_frame([found]).to_pandas().to_csv(index=False),
    ]
    for text in texts:
        assert "nan" not in text.lower().replace("nanometre", ""), text


def test_an_attribute_that_nothing_has_is_said() -> None:
    tables = [table("a1", "a", [1.0]), table("b1", "b", [2.0])]
    for update, said in (
        ({"by": "sample:dose"}, "No measured sample has the attribute “dose”"),
        ({"by": "region:hours"}, "No measured region has the attribute “hours”"),
        ({"pairs": "sample:animal"}, "No sample has “animal” to be paired by"),
    ):
        with pytest.raises(ComparisonError, match=said):
            compare(tables, DYE.model_copy(update=update))


def test_units_that_cannot_be_one_are_refused() -> None:
    def sized(sample: str, unit: str) -> RegionTable:
        columns = {"dye": {"area_unit": np.array([12.4])}}
        return replace(table(sample, "a", [1.0]), columns=columns, unit=unit)

    question = DYE.model_copy(update={"quantities": ("area_unit",)})
    with pytest.raises(ComparisonError, match="b: no pixel size"):
        compare([sized("a", "µm"), sized("b", "px")], question)
    assert compare([sized("a", "µm"), sized("b", "µm")], question).unit == "µm"
