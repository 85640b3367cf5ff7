"""A method fixed beforehand: what was changed since, each part taken back by itself."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from rilievo.core.compare.question import Question
from rilievo.core.errors import StudyError
from rilievo.core.method.method import Method, SampleException, checked_copy, step_use
from rilievo.core.study.preregistration import Preregistration, deviations
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from tests.outlines import outline, reject

DATE = "2031-05-06T07:08:09+00:00"
AGREED = Method(name="m", steps=(step_use("b", "background.level"),), outlines=(outline(200.0),))
AGREEMENT = Preregistration(DATE, AGREED, Question(channel="dye"))


def test_nothing_changed_is_no_deviation() -> None:
    assert AGREEMENT.is_made
    assert not Preregistration().is_made
    assert deviations(AGREEMENT, AGREED) == []
    # Another name of the method changes no number.
    assert deviations(AGREEMENT, AGREED.changed(name="other")) == []


def test_each_part_is_taken_back_by_itself() -> None:
    edited = SampleException(edits=reject((3, 4)), parameters={"b": {"level": 5.0}})
    now = AGREED.changed(
        steps=(step_use("b", "background.mesh"),),
        outlines=(outline(250.0),),
        measure=checked_copy(AGREED.measure, quantities=("mean",)),
        exceptions={"s": SampleException(edits=edited.edits)},
    )
    found = {one.title: one for one in deviations(AGREEMENT, now)}
    assert list(found) == ["Steps", "Regions", "Measuring", "Regions changed by hand"]
    regions = found["Regions"].taken_back
    assert regions is not None
    assert regions.outlines == AGREED.outlines
    assert regions.steps == now.steps
    steps = found["Steps"].taken_back
    assert steps is not None
    assert steps.steps == AGREED.steps
    assert steps.outlines == now.outlines
    by_hand = found["Regions changed by hand"].taken_back
    assert by_hand is not None
    assert by_hand.exceptions == {}
    assert any("200" in line.one and "250" in line.other for line in found["Regions"].lines)


def test_it_is_kept_in_the_study_and_moves_with_it(tmp_path: Path) -> None:
    dark = tmp_path / "frames" / "dark.tif"
    dark.parent.mkdir()
    dark.write_bytes(b"x")
    frames = step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]})
    preregistration = replace(AGREEMENT, method=AGREED.changed(steps=(frames,)))
    state = replace(StudyState(name="s"), preregistration=preregistration)
    save_study(state, tmp_path / "a.rilievo")
    loaded = load_study(tmp_path / "a.rilievo").state
    assert loaded.preregistration == preregistration
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    (tmp_path / "a.rilievo").rename(elsewhere / "a.rilievo")
    dark.parent.rename(elsewhere / "frames")
    moved = load_study(elsewhere / "a.rilievo").state
    assert str(elsewhere / "frames" / "dark.tif") in moved.preregistration.method.to_json()
    assert moved.preregistration.checksum == preregistration.checksum


def test_a_damaged_one_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(
        Preregistration, "to_json", lambda *_: '{"date": "x", "method": {}, "question": {}}'
    )
    save_study(StudyState(name="s"), tmp_path / "a.rilievo")
    with pytest.raises(StudyError):
        load_study(tmp_path / "a.rilievo")
