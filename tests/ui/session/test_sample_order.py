"""Sorting and filtering of samples, of plain values."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from rilievo.core.study.study import SampleEntry
from rilievo.core.table.table import RegionTable
from rilievo.ui.session.sample_order import (
    CHECKS,
    COUNT,
    NAME,
    STUDY,
    SampleFacts,
    arranged,
    natural,
    orders,
    summaries_of,
)


def entry(k: int, name: str, group: str, **attributes: str) -> SampleEntry:
    return SampleEntry(id=k, name=name, path=Path(f"/{name}.tif"), group=group,
                       attributes=attributes)  # fmt: skip


ENTRIES = [
    entry(1, "b10", "salt", dose="10 mM"),
    entry(2, "b2", "salt", dose="2 mM"),
    entry(3, "a1", "acid"),
    entry(4, "b1", "salt", dose="0.5 mM"),
]
FACTS = SampleFacts(
    checks={1: 0, 2: 3, 3: 1, 4: 0},
    counts={1: 5, 2: 0, 3: None, 4: 9},
    summaries={1: {"mean_of_means": 2.0}, 2: {"mean_of_means": float("nan")},
               4: {"mean_of_means": 7.0}},
)  # fmt: skip


def ids(order: str, words: str = "") -> list[list[int]]:
    return [[e.id for e in section.entries] for section in arranged(ENTRIES, order, words, FACTS)]


def test_orders() -> None:
    assert ids(STUDY) == [[1, 2, 4], [3]]
    assert ids(NAME) == [[4, 2, 1], [3]]
    # Most first; what is not known comes last.
    assert ids(CHECKS) == [[2, 3, 1, 4]]
    assert ids(COUNT) == [[4, 1, 2, 3]]
    assert ids("summary:mean_of_means") == [[4, 1, 2, 3]]
    # By the numbers in the text, those without at the end.
    assert ids("attribute:dose") == [[4, 2, 1, 3]]
    assert ids("attribute:none of these") == [[1, 2, 3, 4]]


def test_filters() -> None:
    assert ids(STUDY, "acid") == [[3]]
    assert ids(STUDY, "SALT b1") == [[1, 4]]
    assert ids(STUDY, "mm 2") == [[2]]
    assert ids(COUNT, "checks") == [[2, 3]]
    assert ids(STUDY, "none") == [[2]]
    assert ids(STUDY, "zebra") == [] and ids(COUNT, "zebra") == []


def test_two_comes_before_ten() -> None:
    assert sorted(["s10", "s2", "S1", "", "10"], key=natural) == ["", "10", "S1", "s2", "s10"]


def test_what_there_is_to_sort_by() -> None:
    assert list(orders(ENTRIES, []).values()) == [
        "study order", "name", "regions", "checks", "dose",
    ]  # fmt: skip
    columns = {"gray": {"area": np.array([4.0, 6.0]), "mean": np.array([1.0, 3.0])}}
    table = RegionTable("b2", "b2.tif", "salt", ("cell",), np.array([1, 2]), columns)
    assert "mean of means" in orders(ENTRIES, [table]).values()
    found = summaries_of({2: table})
    assert found[2]["mean_of_means"] == 2.0 and found[2]["area_total"] == 10.0
    assert summaries_of({}) == {}


@pytest.mark.parametrize("order", [STUDY, NAME, CHECKS, COUNT, "attribute:dose", "summary:x"])
def test_no_samples(order: str) -> None:
    assert arranged([], order, "", FACTS) == []
