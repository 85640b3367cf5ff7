"""The two harvests of the Lipid study come out as they were put in; each set can be verified."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Findings
from rilievo.core.report.study_report import study_contents
from rilievo.core.report.verify import verify
from rilievo.core.study.study_file import load_study
from rilievo.demo.lipid import true_means
from rilievo.demo.sets import DEMO_SETS, write_demo_study

pytestmark = pytest.mark.slow


def test_both_factors_and_their_interaction_are_found(tmp_path: Path) -> None:
    study, _ = write_demo_study("lipid", tmp_path)
    state = load_study(study).state
    comparison = Findings.of(study_contents(state)).comparisons[1][0]
    design = comparison.design
    assert design is not None
    assert [term.name for term in design.terms] == ["group", "harvest", "group × harvest"]
    assert all(term.p < 0.001 for term in design.terms)
    truth = true_means()
    means = {(one.group, one.level): one for one in design.means}
    for key, true in truth.items():
        low, high = means[key].interval
        assert low < true < high, key
    for level, results in design.at_levels.items():
        for one in results:
            true = truth[one.second, level] - truth[one.first, level]
            assert one.interval[0] < true < one.interval[1]
    # What the second harvest has more, in the starved culture beside the replete one.
    more = [truth[group, "day 2"] - truth[group, "day 1"] for group in ("replete", "starved")]
    found = [
        means[group, "day 2"].mean - means[group, "day 1"].mean for group in ("replete", "starved")
    ]
    assert np.diff(found)[0] == pytest.approx(np.diff(more)[0], rel=0.15)


@pytest.mark.parametrize("key", ["lipid", "nights", "swatches"])
def test_each_set_is_the_same_when_it_is_verified(key: str, tmp_path: Path) -> None:
    assert key in DEMO_SETS
    study, _ = write_demo_study(key, tmp_path)
    state = load_study(study).state
    contents = study_contents(state)
    write_outputs(contents, tmp_path / "out")
    found = verify(tmp_path / "out")
    assert found.is_same, found.sentences()
    assert found.numbers > 100
