from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.threshold_from_picks import (
    ColourProposal,
    Proposal,
    level_between,
    proposed,
    ranges_around,
)
from tests.outlines import outline


def test_the_level_between_picks() -> None:
    found = level_between(np.array([10.0, 12, 30]), np.array([1.0, 2, 3]))
    assert found is not None
    assert (found.level, found.keep, found.right) == (6.5, "bright", 1.0)
    dark = level_between(np.array([1.0, 2]), np.array([8.0, 9, 1.5]))
    assert dark is not None
    assert dark.keep == "dark"
    assert dark.right == pytest.approx(4 / 5)
    assert level_between(np.array([1.0]), np.array([np.nan])) is None


@given(st.lists(st.integers(0, 20), min_size=1, max_size=6),
       st.lists(st.integers(0, 20), min_size=1, max_size=6))  # fmt: skip
def test_no_level_does_better(inside: list[int], outside: list[int]) -> None:
    a, b = np.array(inside, float), np.array(outside, float)
    found = level_between(a, b)
    assert found is not None

    def score(level: float, keep: str) -> float:
        above = (a > level).mean() + (b <= level).mean()
        return float(above if keep == "bright" else 2 - above)

    if len({*inside, *outside}) > 1:
        best = max(score(t, k) for t in np.arange(0.5, 20.5) for k in ("bright", "dark"))
        assert score(found.level, found.keep) == pytest.approx(best)


def test_ranges_around_picks_go_around_the_circle_of_hues() -> None:
    inside = {"hue": np.array([350.0, 5.0]), "value": np.array([100.0, 110.0])}
    outside = {"hue": np.array([30.0, 200.0]), "value": np.array([105.0, 300.0])}
    found = ranges_around(inside, outside)
    assert found is not None
    hue, value = found.ranges
    assert hue.lower is not None
    assert hue.upper is not None
    assert hue.lower > 300
    assert 5 < hue.upper < 30
    assert (value.lower, value.upper) == (95, 115)
    assert found.right == 1.0
    assert ranges_around({}, outside) is None


def test_picks_propose_a_level_from_the_signal_of_all_their_samples() -> None:
    bright, dark = np.zeros((6, 6), np.float32), np.zeros((6, 6), np.float32)
    bright[2, 3], dark[4, 4] = 90, 30
    samples = {"a": Sample("a", {"g": Plane(bright)}), "b": Sample("b", {"g": Plane(dark)})}
    picks = [
        {"x": 3, "y": 2, "inside": True, "sample": "a"},
        {"x": 4, "y": 4, "inside": True, "sample": "b"},
        {"x": 0, "y": 0, "inside": False, "sample": "b"},
        {"x": 99, "y": 0, "inside": False, "sample": "a"},
        {"x": 0, "y": 0, "inside": True, "sample": "gone"},
    ]
    method = Method(
        steps=(step_use("l", "background.level", level=10),),
        outlines=(outline(picks=picks),),
    )
    found = proposed(
        {name: Analysis(one, method) for name, one in samples.items()}, method.outlines[0]
    )
    assert isinstance(found, Proposal)
    # Signals 80 and 20 inside, −10 outside: the level lies between 20 and −10.
    assert (found.level, found.keep, found.right) == (5.0, "bright", 1.0)


@pytest.mark.parametrize("space", ["channels", "hsv"])
def test_picks_propose_ranges_of_colours(space: str) -> None:
    planes = {name: np.full((4, 4), 50, np.float32) for name in ("red", "green", "blue")}
    planes["red"][1, 1], planes["green"][1, 1] = 200, 20
    sample = Sample("a", {name: Plane(values) for name, values in planes.items()})
    picks = [
        {"x": 1, "y": 1, "inside": True, "sample": "a"},
        {"x": 3, "y": 3, "inside": False, "sample": "a"},
    ]
    use = {"way": "colour", "parameters": {"space": space}}
    method = Method(outlines=(outline(picks=picks, threshold=use),))
    found = proposed(
        {name: Analysis(one, method) for name, one in {"a": sample}.items()}, method.outlines[0]
    )
    assert isinstance(found, ColourProposal)
    names = {"hue", "saturation", "value"} if space == "hsv" else {"red", "green", "blue"}
    assert {one.channel for one in found.ranges} == names
    assert found.right == 1.0
