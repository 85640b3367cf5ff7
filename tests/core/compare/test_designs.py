"""Designs: two factors, blocks, nested units; against published and exact analyses."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pytest
from scipy import stats

from rilievo.core.compare import Comparison, Question, choices_of, coerce_question, compare
from rilievo.core.compare.question import Design
from rilievo.core.compare.result_tables import (
    model_means_frame,
    terms_frame,
    tests_frame,
    variation_frame,
)
from rilievo.core.compare.wording import heading, sentences
from rilievo.core.errors import ComparisonError
from rilievo.core.table.table import RegionTable


def table(sample: str, group: str, values: list[float]) -> RegionTable:
    return RegionTable(
        sample=sample,
        file="",
        group=group,
        classes=("cell",),
        ids=np.arange(1, len(values) + 1),
        columns={"dye": {"mean": np.array(values, dtype=float)}},
    )


def compared(rows: list[tuple[str, list[float], Mapping[str, str]]], **asked: object) -> Comparison:
    """A sample a row: group, values of its regions, attributes."""
    tables = [table(f"s{k}", group, values) for k, (group, values, _) in enumerate(rows)]
    attributes = {f"s{k}": dict(known) for k, (_, _, known) in enumerate(rows)}
    return compare(tables, Question.model_validate({"channel": "dye", **asked}), attributes)


# Crampton 1947, J. Nutrition 33, 491: length of teeth by supplement and dose.
TEETH = {
    ("VC", "0.5"): "4.2 11.5 7.3 5.8 6.4 10 11.2 11.2 5.2 7",
    ("VC", "1"): "16.5 16.5 15.2 17.3 22.5 17.3 13.6 14.5 18.8 15.5",
    ("VC", "2"): "23.6 18.5 33.9 25.5 26.4 32.5 26.7 21.5 23.3 29.5",
    ("OJ", "0.5"): "15.2 21.5 17.6 9.7 14.5 10 8.2 9.4 16.5 9.7",
    ("OJ", "1"): "19.7 23.3 23.6 26.4 20 25.2 25.8 21.2 14.5 27.3",
    ("OJ", "2"): "25.5 26.4 22.4 24.5 24.8 30.9 26.4 27.3 29.4 23",
}


def test_two_factors_of_published_data() -> None:
    rows = [
        (group, [float(value)], {"dose": dose})
        for (group, dose), text in TEETH.items()
        for value in text.split()
    ]
    found = compared(rows, design=Design(factor="sample:dose"))
    assert found.design is not None
    terms = {term.name: term for term in found.design.terms}
    # As in the analysis of variance of these data in textbooks.
    for name, f, df1, p in (
        ("group", 15.572, 1, 0.0002312),
        ("dose", 92.000, 2, None),
        ("group × dose", 4.107, 2, 0.02186),
    ):
        term = terms[name]
        assert (term.f, term.df1, term.df2) == pytest.approx((f, df1, 54), abs=6e-4)
        if p is not None:
            assert term.p == pytest.approx(p, rel=5e-4)
    means = {(one.group, one.level): one.mean for one in found.design.means}
    assert means["VC", "0.5"] == pytest.approx(7.98)
    assert means["OJ", ""] == pytest.approx((13.23 + 22.70 + 26.06) / 3)
    assert "The effect depends on dose" in " ".join(sentences(found))
    assert len(found.design.at_levels["2"]) == 1
    assert found.design.at_levels["2"][0].difference == pytest.approx(26.06 - 26.14)


# Yates 1937, The Design and Analysis of Factorial Experiments: peas in 6 blocks.
PEAS = """
1 0 1 1 49.5|1 1 1 0 62.8|1 0 0 0 46.8|1 1 0 1 57.0|2 1 0 0 59.8|2 1 1 1 58.5|2 0 0 1 55.5
2 0 1 0 56.0|3 0 1 0 62.8|3 1 1 1 55.8|3 1 0 0 69.5|3 0 0 1 55.0|4 1 0 0 62.0|4 1 1 1 48.8
4 0 0 1 45.5|4 0 1 0 44.2|5 1 1 0 52.0|5 0 0 0 51.5|5 1 0 1 49.8|5 0 1 1 48.8|6 1 0 1 57.2
6 1 1 0 59.0|6 0 1 1 53.2|6 0 0 0 56.0
"""


def test_blocks_are_taken_out_of_published_data() -> None:
    rows = []
    for line in PEAS.replace("\n", "|").strip("|").split("|"):
        block, n, p, k, value = line.split()
        rows.append((f"N{n}", [float(value)], {"K": f"K{k}", "block": block, "P": f"P{p}"}))
    found = compared(rows, design=Design(factor="sample:K", blocks=("sample:block", "sample:P")))
    assert found.design is not None
    terms = {term.name: term for term in found.design.terms}
    # Sums of squares as published; what is no term here goes into the residual.
    residual = (185.2867 + 21.2817 + 0.4817) / 14
    for name, squares in (("group", 189.2817), ("K", 95.2017), ("P", 8.4017),
                          ("group × K", 33.1350)):  # fmt: skip
        assert terms[name].f == pytest.approx(squares / residual, rel=1e-5)
        assert (terms[name].df1, terms[name].df2) == pytest.approx((1, 14))
    assert terms["block"].f == pytest.approx(343.2950 / 5 / residual, rel=1e-5)
    assert "with block, P taken out" in " ".join(sentences(found))


def nested(
    effect: float, seed: int = 4, **sizes: float
) -> list[tuple[str, list[float], Mapping[str, str]]]:
    """Two groups of 3 animals of 2 dishes of 2 fields of 12 cells; numbers begin anew."""
    rng = np.random.default_rng(seed)
    rows = []
    for group, shift in (("control", 0.0), ("treated", effect)):
        for animal in range(3):
            a = rng.normal(0, sizes.get("animal", 4.0))
            for dish in range(2):
                d = rng.normal(0, sizes.get("dish", 2.0))
                for _ in range(2):
                    f = rng.normal(0, sizes.get("field", 1.0))
                    cells = 100 + shift + a + d + f + rng.normal(0, 3, 12)
                    rows.append(
                        (group, cells.tolist(), {"animal": str(animal + 1), "dish": str(dish + 1)})
                    )
    return rows


LEVELS = ("sample:animal", "sample:dish")


def _means(rows: list[tuple[str, list[float], Mapping[str, str]]]) -> dict[str, list[float]]:
    found: dict[tuple[str, str], list[float]] = {}
    for group, cells, known in rows:
        found.setdefault((group, known["animal"]), []).append(float(np.mean(cells)))
    return {
        group: [float(np.mean(own)) for (g, _), own in found.items() if g == group]
        for group in ("control", "treated")
    }


def test_the_unit_is_an_animal_and_all_below_is_averaged() -> None:
    rows = nested(10)
    means = _means(rows)
    found = compared(rows, unit="sample:animal", design=Design(levels=LEVELS, numbered_anew=True))
    assert {g: [p.value for p in own] for g, own in found.points.items()} == {
        group: pytest.approx(own) for group, own in means.items()
    }
    expected = stats.ttest_ind(means["treated"], means["control"], equal_var=False)
    assert found.versus[0].test.p == pytest.approx(expected.pvalue)
    assert found.points["control"][0].title == "animal 1"
    assert [s.samples for s in found.statistics] == [3, 3]
    assert "3 and 3 animals" in " ".join(sentences(found))


def test_modelled_levels_of_balanced_data_are_the_analysis_of_variance() -> None:
    rows = nested(10)
    means = _means(rows)
    found = compared(rows, design=Design(levels=LEVELS, numbered_anew=True, modelled=True))
    one = found.versus[0]
    expected = stats.ttest_ind(means["treated"], means["control"])
    assert one.test.p == pytest.approx(expected.pvalue, rel=1e-5)
    assert one.difference == pytest.approx(np.mean(means["treated"]) - np.mean(means["control"]))
    assert one.interval == pytest.approx(tuple(expected.confidence_interval()), rel=1e-5)
    assert one.n == (3, 3)
    names = [part.name for part in found.variation]
    assert names == ["animal", "dish", "sample", "region"]
    assert [part.count for part in found.variation] == [6, 12, 24, 288]
    assert [part.each for part in found.variation] == pytest.approx([3, 2, 2, 12])
    # Mean squares of cells within fields.
    within = np.mean([np.var(cells, ddof=1) for _, cells, _ in rows])
    assert found.variation[-1].variance == pytest.approx(within, rel=1e-5)
    text = " ".join(sentences(found))
    assert "Of the variation of single values lie" in text
    assert "between animals" in text
    assert heading(found)


def test_animals_in_both_groups_are_compared_with_themselves() -> None:
    rows = nested(3, animal=30.0)
    found = compared(rows, unit="sample:animal", design=Design(levels=LEVELS[:1], modelled=True))
    apart = compared(
        rows, unit="sample:animal",
        design=Design(levels=LEVELS[:1], modelled=True, numbered_anew=True),
    )  # fmt: skip
    # Without the differences between animals the interval is a fraction as wide.
    width, other = (np.ptp(one.versus[0].interval) for one in (found, apart))
    assert width < other / 3
    assert [part.count for part in found.variation][:1] == [3]


def test_a_level_with_one_unit_each_is_left_out_and_said() -> None:
    rows = [
        (group, cells, {**known, "well": f"{group} {known['animal']} {known['dish']} {k}"})
        for k, (group, cells, known) in enumerate(nested(5))
    ]
    levels = ("sample:animal", "sample:well")
    found = compared(rows, design=Design(levels=levels, numbered_anew=True, modelled=True))
    assert [part.name for part in found.variation] == ["animal", "sample", "region"]
    assert found.design is not None
    assert any("Each well has one sample" in note for note in found.design.notes)


def test_what_a_design_lacks_is_said() -> None:
    rows = nested(5)
    with pytest.raises(ComparisonError, match="needs “plate”, which is not known of s0"):
        compared(rows, design=Design(blocks=("sample:plate",)))
    same = [(g, cells, {**known, "day": "one"}) for g, cells, known in rows]
    with pytest.raises(ComparisonError, match="All samples are of one day"):
        compared(same, design=Design(factor="sample:day"))
    along = [(g, cells, {**known, "day": g}) for g, cells, known in rows]
    with pytest.raises(ComparisonError, match="goes with the other terms"):
        compared(along, design=Design(blocks=("sample:day",)))
    with pytest.raises(ComparisonError, match="Each group has one house"):
        compared(
            [(g, cells, {**known, "house": g}) for g, cells, known in rows],
            design=Design(levels=("sample:house",), modelled=True),
        )
    with pytest.raises(ComparisonError, match="twice"):
        compared(rows, design=Design(factor="sample:animal", blocks=("sample:animal",)))


def test_a_missing_cell_leaves_the_interaction_out() -> None:
    rows = [
        ("a", [1.0, 2.0], {"day": "1"}), ("a", [3.0], {"day": "1"}), ("a", [2.5], {"day": "2"}),
        ("b", [5.0], {"day": "1"}), ("b", [7.0], {"day": "1"}),
    ]  # fmt: skip
    found = compared(rows, design=Design(factor="sample:day"))
    assert found.design is not None
    assert [term.name for term in found.design.terms] == ["group", "day"]
    assert "No sample is b and 2: the interaction is left out." in found.design.notes


def test_tables_of_a_design() -> None:
    rows = [(g, c, {**known, "day": known["dish"]}) for g, c, known in nested(5)]
    found = compared(
        rows,
        design=Design(factor="sample:day", levels=LEVELS[:1], numbered_anew=True, modelled=True),
    )
    terms = terms_frame([found]).to_pandas()
    assert list(terms["term"]) == ["group", "day", "group × day"]
    means = model_means_frame([found]).to_pandas()
    assert set(means["level"]) == {"", "1", "2"}
    tests = tests_frame([found]).to_pandas()
    assert list(tests["at_level"]) == ["", "1", "2"]
    parts = variation_frame([found]).to_pandas()
    assert parts["share"].sum() == pytest.approx(1)


def test_a_question_keeps_only_terms_that_are_there() -> None:
    rows = nested(5)
    tables = [table(f"s{k}", group, values) for k, (group, values, _) in enumerate(rows)]
    attributes = {f"s{k}": dict(known) for k, (_, _, known) in enumerate(rows)}
    choices = choices_of(tables, attributes)
    asked = Question(
        channel="dye", unit="sample:gone",
        design=Design(factor="sample:gone", blocks=("group",), levels=("sample:animal",)),
    )  # fmt: skip
    kept = coerce_question(asked, choices)
    assert kept.unit == "sample"
    assert kept.design == Design(levels=("sample:animal",))
    assert coerce_question(kept, choices) is kept


def test_curves_go_through_the_units() -> None:
    doses = ("0", "1", "3", "10", "30")
    rng = np.random.default_rng(2)
    rows = []
    for dose in doses:
        for animal in range(2):
            level = 10 + 5 / (1 + (2 / max(float(dose), 1e-9)) ** 1.5) + rng.normal(0, 0.05)
            rows += [
                ("", [level + rng.normal(0, 0.02)], {"dose": dose, "animal": f"{dose} {animal}"})
                for _ in range(3)
            ]
    asked = {"by": "sample:dose", "shown_as": "series", "fit": "dose"}
    single = compared(rows, **asked)
    units = compared(rows, unit="sample:animal", **asked)
    assert single.fits[""].x.size == 30
    assert units.fits[""].x.size == 10
    assert units.fits[""].parameters[-1] == pytest.approx(2, rel=0.3)
    assert any("EC50" in sentence for sentence in sentences(units))
