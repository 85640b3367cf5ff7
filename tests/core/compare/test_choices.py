from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from rilievo.core.compare import Question, choices_of, coerce_question
from rilievo.core.compare.choices import Choices, fitting_question
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Method
from rilievo.core.regions.region_set import CLASS_STRIDE, RegionAnnotation
from rilievo.core.table.table import RegionTable


@pytest.fixture
def tables() -> list[RegionTable]:
    values = {"mean": np.ones(2), "area": np.ones(2)}
    facts = {1: RegionAnnotation(name="early", attributes={"hours": "1"})}
    return [
        RegionTable(
            sample=f"s{k}", file="", group="g", classes=("cell", "rest"),
            ids=np.array([1, CLASS_STRIDE + 1]), columns={"red": values, "dye": values},
            known=facts if k else {},
        )
        for k in range(2)
    ]  # fmt: skip


def test_what_can_be_chosen_follows_from_what_was_measured(tables: list[RegionTable]) -> None:
    told = {
        "s0": {"replicate": "1", "dose": "3", "lens": "10×"},
        "s1": {"replicate": "2", "dose": "5", "lens": "10×"},
    }
    choices = choices_of(tables, told)
    assert choices.quantities == {"mean": "Mean", "area": "Area"}
    assert choices.channels == ("red", "dye")
    # What is the same everywhere tells nothing apart.
    assert list(choices.by) == ["group", "class", "channel", "sample:replicate", "sample:dose"]
    assert choices.pairs == {
        "": "nothing", "sample": "sample", "replicate": "replicate number",
        "sample:dose": "dose of the sample",
    }  # fmt: skip
    assert choices.references == ("cell", "rest", "early")
    assert choices_of([], {}) == Choices(
        by={"group": "group"},
        pairs=choices_of([], {}).pairs,
        curves={"group": "group"},
        units={"sample": "sample", "region": "region"},
        terms={"group": "group"},
    )


def test_a_question_is_made_to_fit(tables: list[RegionTable]) -> None:
    choices = choices_of(tables, {})
    good = Question(channel="dye", quantities=("area",), by="class", pairs="sample")
    assert coerce_question(good, choices) is good
    lost = Question(
        channel="gone", quantities=("sum", "area"), by="sample:dose", pairs="sample:x",
        region_class="moss", other_quantity="flux",
    )  # fmt: skip
    found = coerce_question(lost, choices, "dye")
    assert found.quantities == ("area",)
    assert (found.channel, found.by, found.pairs) == ("dye", "group", "")
    assert (found.region_class, found.other_quantity) == ("", "mean")
    stars = replace(tables[0], columns={"gray": {"flux": np.ones(2), "fwhm": np.ones(2)}})
    assert coerce_question(Question(), choices_of([stars], {})).quantities == ("flux",)
    # Pairs by sample need several values of a sample.
    assert coerce_question(Question(pairs="sample"), choices).pairs == ""
    assert coerce_question(Question(), Choices()) == Question()


@pytest.mark.parametrize(
    ("found_on", "asked", "expected"),
    [
        (None, "", "gfp"),  # the class is found on the first channel
        ("gfp", "", "dapi"),
        ("dapi", "", "gfp"),
        ("dapi", "red", "red"),
        ("dapi", "gone", "gfp"),
    ],
)
def test_a_channel_that_is_left_open_is_one_that_the_class_is_not_found_on(
    found_on: str | None, asked: str, expected: str
) -> None:
    choices = Choices(quantities={"mean": "Mean"}, channels=("dapi", "gfp", "red"))
    method = Method(outlines=(ClassDefinition(channel=found_on),))
    assert fitting_question(Question(channel=asked), choices, method).channel == expected


def test_of_one_channel_there_is_no_other() -> None:
    choices = Choices(quantities={"mean": "Mean"}, channels=("gray",))
    assert fitting_question(Question(), choices, Method()).channel == "gray"
