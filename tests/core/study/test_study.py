from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from rilievo.core.method.method import SampleException
from rilievo.core.study.study import StudyState
from tests.core.helpers.study import some_files
from tests.outlines import reject


def test_files_are_named_grouped_and_put_together(state: StudyState) -> None:
    assert [e.name for e in state.samples] == ["dark-1", "dark-2", "light-1"]
    assert [e.group for e in state.samples] == ["dark", "dark", "light"]
    assert [e.replicate for e in state.samples] == ["1", "2", "1"]
    assert len({e.id for e in state.samples}) == 3


def test_the_same_file_is_not_added_twice_and_names_stay_apart(
    state: StudyState, tmp_path: Path
) -> None:
    known = state.samples[0].path
    other = some_files(tmp_path / "other", ["dark-1.tif"])
    grown = state.with_files([known, *other])
    assert len(grown.samples) == 4
    assert sorted(e.name for e in grown.samples)[:2] == ["dark-1", "dark-1 (2)"]
    assert len({e.id for e in grown.samples}) == 4


def test_removing_a_sample_forgets_what_the_method_said_of_it(state: StudyState) -> None:
    name = state.samples[0].name
    marked = replace(
        state, method=state.method.with_exception(name, SampleException(edits=reject((1, 1))))
    )
    less = marked.without([state.samples[0].id])
    assert name not in less.method.exceptions
    assert len(less.samples) == 2
