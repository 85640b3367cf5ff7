"""The comparison under other choices: each is what measuring by hand with that choice gives."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import measured
from rilievo.core.compare import Question, compare
from rilievo.core.errors import Cancelled, ComparisonError
from rilievo.core.files.sample_ref import SampleRef, samples_for
from rilievo.core.method.class_definition import ClassDefinition, clean_use
from rilievo.core.method.method import Method, SampleException, checked_copy, step_use
from rilievo.core.report.page import Contents, report_page
from rilievo.core.report.sensitivity import (
    alternatives,
    alternatives_frame,
    run_alternatives,
    sentences,
)
from rilievo.core.study.preregistration import Preregistration
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline, reject

QUESTION = Question(channel="gray")
METHOD = Method(
    name="m",
    steps=(step_use("b", "background.level"),),
    outlines=(
        ClassDefinition(
            clean=(clean_use("split_distance"), clean_use("keep", quantity="area", lower=20.0))
        ),
    ),
)


@pytest.fixture
def items(write_tiff: Callable[..., Path]) -> list[SampleRef]:
    """Two groups of three fields with spots, brighter in the second, and one faint large spot."""
    rng = np.random.default_rng(3)
    found = []
    for group, level in (("a", 300.0), ("b", 420.0)):
        for k in range(3):
            values = rng.normal(100, 4, (60, 80))
            for x in (10, 30, 50):
                values[10:20, x : x + 10] += level + rng.normal(0, 12)
            values[30:50, 20:50] += 150
            path = write_tiff(f"{group}-{k}.tif", values.astype(np.uint16))
            found.append(replace(samples_for([path])[0], group=group))
    return found


def by_hand(items: list[SampleRef], method: Method, question: Question = QUESTION) -> float:
    tables = measured(run_batch(items, method))
    return compare(tables, question, {}).versus[0].difference


def test_each_choice_is_what_measuring_with_it_gives(items: list[SampleRef]) -> None:
    results = run_alternatives(items, METHOD, QUESTION)
    found = {one.title: one.difference for one in results}
    assert results[0].title == "As it is"
    assert found["As it is"] == pytest.approx(by_hand(items, METHOD))
    first = METHOD.outlines[0]
    for title, factor in (("Threshold −10 %", 0.9), ("Threshold +10 %", 1.1)):
        other = checked_copy(first, threshold=checked_copy(first.threshold, factor=factor))
        assert found[title] == pytest.approx(by_hand(items, METHOD.changed(outlines=(other,))))
    triangle = checked_copy(first, threshold=checked_copy(first.threshold, way="triangle"))
    expected = by_hand(items, METHOD.changed(outlines=(triangle,)))
    assert found["Threshold: Triangle"] == pytest.approx(expected)
    mesh = METHOD.changed(steps=(step_use("b", "background.mesh"),))
    assert found["Background mesh"] == pytest.approx(by_hand(items, mesh))
    ranks = checked_copy(QUESTION, test="ranks")
    assert found["Tested by ranks"] == pytest.approx(by_hand(items, METHOD, ranks))
    kinds = {one.kind for one in results}
    assert kinds == {"as it is", "threshold", "background", "split", "limits", "test"}
    assert "Limit of smallest area −20 %" in found
    assert {"Split half as strong", "Split twice as strong"} <= found.keys()


def test_a_level_by_hand_and_rejected_regions(items: list[SampleRef]) -> None:
    edits = reject((12, 12))
    method = METHOD.changed(
        outlines=(outline(200.0),), exceptions={items[3].name: SampleException(edits=edits)}
    )
    results = {one.title: one for one in run_alternatives(items, method, QUESTION)}
    plain = method.changed(exceptions={})
    assert results["With rejected regions"].difference == pytest.approx(by_hand(items, plain))
    assert results["As it is"].difference != results["With rejected regions"].difference
    lower = method.changed(outlines=(outline(180.0),))
    assert results["Threshold −10 %"].difference == pytest.approx(by_hand(items, lower))


def test_what_flips_is_named_and_what_fails_is_said(items: list[SampleRef]) -> None:
    # At twice the level of the dim group it has no regions.
    method = METHOD.changed(steps=(), outlines=(outline(480.0),))
    results = run_alternatives(items, method, checked_copy(QUESTION, against="b"))
    assert all(one.versus is None or not one.flips or one.title for one in results)
    few = run_alternatives(items, METHOD, QUESTION)
    ranks = next(one for one in few if one.kind == "test")
    # Three against three: no rank test can show it, and means do.
    assert ranks.flips
    said = " ".join(sentences(few))
    assert f" of {few[0].label} is " in said
    assert "(counts)" in few[0].label
    assert "Another conclusion follows from: " in said
    assert "Tested by ranks" in said
    frame = alternatives_frame(few).to_pandas()
    assert frame["another_conclusion"].sum() == sum(one.flips for one in few)
    page = report_page(Contents(list(run_batch(items, METHOD)), METHOD, choices=few))
    assert "What would change the answer" in page
    assert "another conclusion" in page


def test_without_groups_it_is_refused_and_it_can_be_stopped(items: list[SampleRef]) -> None:
    with pytest.raises(ComparisonError):
        run_alternatives([], METHOD, QUESTION)

    def stop(fraction: float) -> None:
        if fraction > 0.2:
            raise Cancelled

    with pytest.raises(Cancelled):
        run_alternatives(items, METHOD, QUESTION, stop)


def test_choices_of_several_classes_are_told_apart() -> None:
    two = METHOD.changed(
        outlines=(METHOD.outlines[0], checked_copy(METHOD.outlines[0], region_class="rest"))
    )
    titles = [one.title for one in alternatives(two, QUESTION)]
    assert len(titles) == len(set(titles))
    assert "rest: Threshold +10 %" in titles
    assert all(math.isfinite(len(one.method.outlines)) for one in alternatives(two, QUESTION))


def test_deviations_from_an_agreed_method_have_their_effects(items: list[SampleRef]) -> None:
    agreed = METHOD.changed(outlines=(outline(200.0),))
    now = METHOD.changed(outlines=(outline(150.0),), steps=(step_use("b", "background.mesh"),))
    preregistration = Preregistration("2031-05-06", agreed)
    found = run_alternatives(
        items, now, QUESTION, preregistration=preregistration, all_choices=False
    )
    values = {one.title: one.difference for one in found}
    assert list(values) == ["As it is", "As agreed", "As agreed: steps", "As agreed: regions"]
    assert values["As it is"] == pytest.approx(by_hand(items, now))
    assert values["As agreed"] == pytest.approx(by_hand(items, agreed))
    steps = now.changed(steps=agreed.steps)
    assert values["As agreed: steps"] == pytest.approx(by_hand(items, steps))
    regions = now.changed(outlines=agreed.outlines)
    assert values["As agreed: regions"] == pytest.approx(by_hand(items, regions))
    outcomes = list(run_batch(items, now))
    page = report_page(Contents(outcomes, now, choices=found, preregistration=preregistration))
    assert "The method agreed beforehand" in page
    assert "What was changed since stands here" in page
    same = report_page(Contents(outcomes, now, preregistration=Preregistration("2031-05-06", now)))
    assert "of it was changed since" in same
