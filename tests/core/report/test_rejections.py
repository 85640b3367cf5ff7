"""Rejections by group against Fisher's and rank tests of known tables."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from rilievo.core.batch import Outcome
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.method.method import Method, SampleException
from rilievo.core.report.page import Contents, report_page
from rilievo.core.report.rejections import rejections_of
from rilievo.core.table.table import RegionTable
from tests.outlines import reject


def outcome(name: str, group: str, kept: int) -> Outcome:
    table = RegionTable(
        sample=name, file="", group=group, classes=("cell",), ids=np.arange(1, kept + 1),
        columns={"dye": {"mean": np.ones(kept)}},
    )  # fmt: skip
    return Outcome(SampleRef(Path(f"{name}.tif"), name, group), table, ())


def study(rejected: dict[str, int]) -> tuple[list[Outcome], Method]:
    """Samples of ten regions each, so many of which were rejected; the letter is the group."""
    outcomes = [outcome(name, name[0], 10 - count) for name, count in rejected.items()]
    exceptions = {
        name: SampleException(edits=reject(*((k, k) for k in range(count))))
        for name, count in rejected.items()
        if count
    }
    return outcomes, Method(name="m", exceptions=exceptions)


def test_shares_and_p_by_ranks_of_samples() -> None:
    rejected = {"a1": 0, "a2": 1, "a3": 0, "a4": 1, "b1": 4, "b2": 5, "b3": 3, "b4": 6}
    found = rejections_of(*study(rejected))
    assert [(g.group, g.rejected, g.kept) for g in found.groups] == [("a", 2, 38), ("b", 18, 22)]
    expected = stats.mannwhitneyu([0, 0.1, 0, 0.1], [0.4, 0.5, 0.3, 0.6], method="exact").pvalue
    assert found.p == pytest.approx(expected, abs=0.01)
    assert "b: 18 of 40 (45.0 %)" in found.sentence
    assert "may be the cause" in found.sentence


def test_like_groups_and_few_samples() -> None:
    like = rejections_of(*study({"a1": 1, "a2": 2, "b1": 1, "b2": 2, "c1": 2, "c2": 1}))
    assert like.p > 0.5
    assert "do not differ demonstrably" in like.sentence
    assert "Too few samples" in rejections_of(*study({"a1": 1, "b1": 2})).sentence
    assert rejections_of(*study({"a1": 0, "b1": 0})).sentence == ""
    assert rejections_of(*study({"a1": 3})).sentence == ""


def test_it_stands_in_the_report() -> None:
    outcomes, method = study({"a1": 0, "a2": 1, "b1": 4, "b2": 5})
    assert "Regions rejected by hand: a: 1 of 20" in report_page(Contents(outcomes, method))
