from __future__ import annotations

from rilievo.core.method import step_edits
from rilievo.core.method.diff import compared, differences
from rilievo.core.method.method import Method, SampleException, step_use
from rilievo.core.method.picks import Pick
from tests.core.helpers.history import said, two_steps
from tests.outlines import reject


def test_nothing_differs_from_itself() -> None:
    method = two_steps()
    assert differences(method, method) == []
    assert len(compared(method, method)) > 20


def test_a_changed_parameter_is_the_only_difference() -> None:
    method = two_steps()
    changed = step_edits.with_parameters(method, "mesh", tile=48.0)
    assert said(method, changed) == [("Background mesh", "Tile side", "32 px", "48 px")]
    renamed = step_edits.with_use(method, "mesh", name="Lamp")
    assert said(method, renamed) == [("Background mesh", "Name", "Background mesh", "Lamp")]
    off = step_edits.with_use(method, "smooth", on=False)
    assert said(method, off) == [("Gaussian smoothing", "On", "–", "no")]
    moved = step_edits.moved(method, "smooth", 0)
    assert [line[:2] for line in said(method, moved)] == [("Steps", "Order")]


def test_steps_of_another_study_are_paired_by_their_kind() -> None:
    other = Method(steps=(step_use("m2", "background.mesh", tile=32), step_use("p", "curve.log")))
    lines = said(two_steps(), other)
    assert ("Gaussian smoothing", "The step", "in it", "not in it") in lines
    assert ("Logarithm", "The step", "not in it", "in it") in lines
    assert not [line for line in lines if line[0] == "Background mesh"]


def test_exceptions_and_picks_name_their_sample() -> None:
    method = two_steps()
    apart = step_edits.with_parameters(method, "mesh", "field 3", tile=16.0)
    apart = apart.with_exception(
        "field 3",
        SampleException(parameters=apart.exceptions["field 3"].parameters, edits=reject((1, 2))),
    )
    picked = apart.changed(picks=(Pick(number=1, x=3, y=4, sample="field 9"),))
    found = differences(method, picked)
    assert [(d.what, d.other, d.sample) for d in found] == [
        ("Background mesh: tile side", "16 px", "field 3"),
        ("Regions changed by hand", "1", "field 3"),
        ("Pick 1", "1 px square at 3, 4", "field 9"),
    ]
