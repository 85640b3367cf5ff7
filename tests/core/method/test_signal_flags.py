from __future__ import annotations

from typing import Any

import pytest

from rilievo.core.method import step_edits
from rilievo.core.method.method import Method, step_use
from rilievo.core.method.signal_flags import marks_of


def test_marks_follow_from_the_steps_and_from_channels_that_are_read() -> None:
    method = Method(
        steps=(
            step_use("log", "curve.log").model_copy(update={"channels": ("blue",)}),
            step_use("mix", "arithmetic.image", other_channel="blue").model_copy(
                update={"channels": ("red",)}
            ),
            step_use("b", "background.mesh", scale=0.9).model_copy(update={"channels": ("green",)}),
        )
    )
    assert marks_of(method, "s", "blue") == ("not linear",)
    assert marks_of(method, "s", "red") == ("not linear",)
    assert marks_of(method, "s", "green") == ("altered by hand",)
    assert marks_of(step_edits.with_use(method, "log", on=False), "s", "red") == ()


@pytest.mark.parametrize(
    ("given", "marked"),
    [
        ({"operation": "subtract", "other_channel": "blue"}, False),
        ({"operation": "divide", "files": {"files": [{"file": "flat.tif"}]}}, False),
        ({"operation": "divide", "other_channel": "blue"}, True),
        ({"operation": "multiply", "other_channel": "blue"}, True),
        ({"operation": "minimum", "files": {"files": [{"file": "flat.tif"}]}}, True),
    ],
)
def test_whether_arithmetic_is_linear_depends_on_what_it_does(
    given: dict[str, Any], marked: bool
) -> None:
    method = Method(steps=(step_use("i", "arithmetic.image", **given),))
    assert (marks_of(method, "s", "red") == ("not linear",)) is marked
