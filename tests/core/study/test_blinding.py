"""A blinded study hides what tells samples apart, and gives all of it back."""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path

import pytest

from rilievo.core.errors import StudyError
from rilievo.core.method.class_definition import ClassDefinition, OutlinePick
from rilievo.core.method.method import Method, SampleException
from rilievo.core.method.picks import Pick
from rilievo.core.study.blinding import (
    blinded,
    opened_names,
    renamed,
    unblinded,
)
from rilievo.core.study.history import HistoryEntry, edits_made, history_frame, were_blind
from rilievo.core.study.sealed_study import BLIND, UNBLIND
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.study.study_file import load_study, save_study
from tests.outlines import reject


def order(seed: int) -> random.Random:
    return random.Random(seed)  # noqa: S311 (no secret)


@pytest.fixture
def full(tmp_path: Path) -> StudyState:
    entries = tuple(
        SampleEntry(
            id=k,
            name=f"{group}-{k}",
            path=tmp_path / f"{group}-{k}.tif",
            group=group,
            replicate=str(k),
            attributes={"dose": str(k)},
        )
        for k, group in enumerate(["low", "low", "high", "high"], start=1)
    )
    method = Method(
        name="m",
        exceptions={"low-2": SampleException(edits=reject((3, 4)))},
        picks=(Pick(number=1, x=1, y=2, sample="high-3"), Pick(number=2, x=1, y=2)),
        outlines=(ClassDefinition(picks=(OutlinePick(x=1, y=1, inside=True, sample="high-4"),)),),
    )
    return StudyState(name="s", samples=entries, method=method)


def test_everything_that_tells_samples_apart_is_hidden(full: StudyState) -> None:
    hidden = blinded(full, order(3))
    for entry in hidden.samples:
        assert (entry.group, entry.replicate, entry.attributes) == ("", "", {})
        assert entry.name.startswith("blind ")
    text = hidden.method.to_json()
    assert "low" not in text
    assert "high" not in text
    assert [e.id for e in hidden.samples] != [e.id for e in full.samples]
    # Codes go by the random order, and not by names.
    assert [e.name for e in hidden.samples] == [f"blind {k:02}" for k in range(1, 5)]


def test_orders_are_random() -> None:
    entries = tuple(SampleEntry(id=k, name=str(k), path=Path(f"{k}.tif")) for k in range(9))
    state = StudyState(samples=entries)
    orders = {tuple(e.id for e in blinded(state).samples) for _ in range(5)}
    assert len(orders) > 3


def test_all_comes_back(full: StudyState) -> None:
    back = unblinded(blinded(full, order(3)))
    assert back.samples == full.samples
    assert back.method == full.method
    assert not back.blinding.is_on
    assert len(opened_names(back)) == 4


def test_what_is_done_meanwhile_belongs_to_the_same_samples(full: StudyState) -> None:
    hidden = blinded(full, order(3))
    third = next(entry for entry in hidden.samples if entry.id == 3)
    method = hidden.method.with_exception(third.name, SampleException(edits=reject((9, 9))))
    added = SampleEntry(id=9, name="low-1", path=Path("other.tif"))
    kept = tuple(e for e in hidden.samples if e.id != 4)
    back = unblinded(replace(hidden, method=method, samples=(*kept, added)))
    assert back.method.exception_for("high-3").edits == reject((9, 9))
    assert back.method.exception_for("low-2").edits == reject((3, 4))
    assert [e.id for e in back.samples] == [1, 2, 3, 9]
    assert back.samples[-1].name == "low-1 2"


def test_it_stays_blinded_in_its_file(full: StudyState, tmp_path: Path) -> None:
    hidden = blinded(full, order(1))
    save_study(hidden, tmp_path / "b.rilievo")
    loaded = load_study(tmp_path / "b.rilievo").state
    assert loaded.blinding == hidden.blinding
    assert unblinded(loaded).samples == full.samples


def test_what_cannot_be_is_refused(full: StudyState) -> None:
    with pytest.raises(StudyError, match="not blinded"):
        unblinded(full)
    with pytest.raises(StudyError, match="already"):
        blinded(blinded(full))
    with pytest.raises(StudyError, match="two samples"):
        blinded(replace(full, samples=full.samples[:1]))
    labels = ClassDefinition(source="label_image", label_image={"file": "/x/{sample}.tif"})
    with pytest.raises(StudyError, match="label images"):
        blinded(replace(full, method=full.method.changed(outlines=(labels,))))


def test_the_history_tells_what_was_blind(full: StudyState) -> None:
    def entry(text: str, method: Method) -> HistoryEntry:
        return HistoryEntry("2031-01-01T00:00:00+00:00", text, "", (), method)

    names = blinded(full, order(1)).blinding.names
    codes = {name: code for code, name in names.items()}
    hidden = renamed(full.method, codes)
    more = hidden.with_exception(codes["low-1"], SampleException(edits=reject((1, 1), (2, 2))))
    history = [
        entry("Reject 1", full.method), entry(BLIND, hidden), entry("Reject 2", more),
        entry(UNBLIND, renamed(more, names)),
        entry("Reject 3", renamed(more, names).with_exception(
            "high-4", SampleException(edits=reject((5, 5))))),
    ]  # fmt: skip
    assert were_blind(history) == [False, False, True, False, False]
    assert edits_made(history) == (2, 2)
    assert history_frame(history).to_pandas()["blind"].tolist() == [
        False,
        False,
        True,
        False,
        False,
    ]


def test_two_samples_can_be_hidden_and_one_cannot(full: StudyState) -> None:
    assert blinded(replace(full, samples=full.samples[:2])).blinding.is_on
    with pytest.raises(StudyError, match="two samples"):
        blinded(replace(full, samples=full.samples[:1]))
