from __future__ import annotations

import pytest

from rilievo.core.errors import StepError
from rilievo.core.method.method import step_use
from rilievo.core.method.picks import Pick
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.calibration_points import number_in, points_from_picks
from tests.core.helpers.measure_parts import spots


@pytest.mark.parametrize(
    ("text", "number"),
    [("step 0,15 OD", 0.15), ("64 h", 64), ("−2.5e3", -2500), ("white", None), ("", None)],
)
def test_numbers_in_names(text: str, number: float | None) -> None:
    assert number_in(text) == number


def test_points_are_read_before_the_step() -> None:
    sample, method = spots()
    picks = tuple(
        Pick(number=k, specimen=name, x=x, y=y, size=3, form="square", sample="spots")
        for k, (name, x, y) in enumerate((("0.5 OD", 7, 7), ("dark", 30, 20)), start=1)
    )
    method = method.changed(
        picks=picks,
        steps=(
            step_use("plus", "arithmetic.number", operation="add", number=5),
            step_use("c", "curve.calibrate"),
        ),
    )
    points = points_from_picks(Analysis(sample, method), "c", "a")
    assert [(p.intensity, p.value, p.label) for p in points] == [
        (105, 0.5, "0.5 OD"), (15, 0, "dark"),
    ]  # fmt: skip
    with pytest.raises(StepError, match="has no pick"):
        points_from_picks(Analysis(sample.renamed("other"), method), "c", "a")
