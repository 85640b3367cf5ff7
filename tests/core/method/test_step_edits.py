"""Methods in words and side by side, the history of a study, the library, written planes."""

from __future__ import annotations

from typing import Any

import pytest

from rilievo.core.errors import MethodError
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method, SampleException, step_use
from tests.core.helpers.history import said, two_steps
from tests.outlines import reject


def test_exceptions_of_a_step_that_is_another_one_elsewhere() -> None:
    method = step_edits.with_parameters(two_steps(), "mesh", "s", tile=16.0)
    other = Method(steps=(step_use("mesh", "curve.log"),))
    assert ("Only for s", "Background mesh: tile side", "16 px", "–") in said(method, other)
    taken = step_edits.taken_over(other, method)
    assert taken.exceptions == {}
    rejected = method.with_exception(
        "s", SampleException(parameters={"mesh": {"tile": 16.0}}, edits=reject((1, 2)))
    )
    assert step_edits.taken_over(other, rejected).exceptions["s"].edits == reject((1, 2))
    again = step_edits.taken_over(two_steps(), rejected)
    assert again.exceptions == rejected.exceptions


def test_an_exception_that_equals_the_common_setting_is_none() -> None:
    method = step_edits.with_parameters(two_steps(), "mesh", "s", tile=16.0)
    assert step_edits.samples_apart(method, "mesh") == {"s": {"tile": 16.0}}
    assert step_edits.parameters_for(method, "mesh", "s").model_dump()["tile"] == 16
    assert step_edits.parameters_for(method, "mesh", "t").model_dump()["tile"] == 32
    back = step_edits.with_parameters(method, "mesh", "s", tile=32.0)
    assert back.exceptions == {}


def test_a_copy_takes_its_exceptions_along_and_reset_clears_them() -> None:
    method = step_edits.with_parameters(two_steps(), "mesh", "s", tile=16.0)
    copied, copy_id = step_edits.duplicated(method, "mesh")
    assert [use.id for use in copied.steps] == ["mesh", copy_id, "smooth"]
    assert step_edits.samples_apart(copied, copy_id) == {"s": {"tile": 16.0}}
    plain = step_edits.reset(copied, "mesh")
    assert step_edits.samples_apart(plain, "mesh") == {}
    assert plain.steps[0].parameters.model_dump()["tile"] is None
    assert step_edits.samples_apart(plain, copy_id) == {"s": {"tile": 16.0}}


@pytest.mark.parametrize(
    ("fields", "sentence"),
    [
        ({"tile": -3}, "Tile side must be between 2 and 4096 px. Got -3."),
        ({"tile": "wide"}, "Tile side must be between 2 and 4096 px. Got 'wide'."),
        (
            {"statistic": "most"},
            "Level of a tile should be 'median', 'mode' or 'mean'. Got 'most'.",
        ),
    ],
)
def test_a_wrong_value_is_explained(fields: dict[str, Any], sentence: str) -> None:
    with pytest.raises(MethodError) as caught:
        step_edits.with_parameters(two_steps(), "mesh", **fields)
    assert str(caught.value) == sentence
