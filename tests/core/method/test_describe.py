from __future__ import annotations

from typing import Any

import pytest

from rilievo.core.image.calibration_frames import Frames
from rilievo.core.method.describe import reported_numbers, shown_value, summary_of
from rilievo.core.method.method import step_use
from rilievo.core.parameters import Rectangle
from tests.core.helpers.history import two_steps


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (None, "–"),
        ((), "–"),
        (True, "yes"),
        (64.0, "64 px"),
        ("subtracted", "subtracted"),
        (Rectangle(x=1, y=2, width=3, height=4), "3 × 4 px at 1, 2"),
        (Frames.model_validate({"files": [{"file": "/a/d1.fits"}]}), "d1.fits"),
        (
            Frames.model_validate({"files": [{"file": f"/a/d{k}.fits"} for k in range(8)]}),
            "median of d0.fits, d1.fits, d2.fits, d3.fits, d4.fits, d5.fits and 2 more",
        ),
        ("x" * 500, "x" * 159 + "…"),
    ],
)
def test_values_are_written_as_people_write_them(value: Any, text: str) -> None:
    assert shown_value(value, "px" if isinstance(value, float) else "") == text


def test_a_step_in_one_line_and_what_it_told() -> None:
    use = two_steps().steps[0]
    assert summary_of(use) == "tile side 32 px"
    assert summary_of(step_use("a", "curve.log")) == "as it is when added"
    numbers = {"level": 240.04, "standard_error": float("nan"), "range": 0.0, "tilt": 0.0,
               "negative": 0.0, "undefined": 3.0}  # fmt: skip
    said = reported_numbers(numbers, lambda v: f"{v:.4g}")
    assert said == [
        "level 240 counts",
        "3 px newly undefined",
    ]
