"""Picks and specimens against brute force."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.errors import MethodError
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.image.neighbourhood import covered, neighbourhood_statistics
from rilievo.core.method.method import Method, step_use
from rilievo.core.method.picks import Pick, next_number, pick_frame, pick_rows, specimen_frame
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Contents
from tests.core.helpers.measuring import run_batch

PIXELS = np.random.default_rng(8).integers(0, 1000, (15, 21)).astype(np.uint16)


@given(st.integers(0, 20), st.integers(0, 14), st.integers(0, 12))
def test_a_disc_holds_the_centres_within_it(x: int, y: int, half: int) -> None:
    size = 2 * half + 1
    part, inside = covered(x, y, size, "disc", PIXELS.shape)
    expected = {
        (i, k)
        for k in range(15)
        for i in range(21)
        if (i - x) ** 2 + (k - y) ** 2 <= (size / 2) ** 2
    }
    assert inside is not None
    rows, columns = np.nonzero(inside)
    assert {
        (int(c) + part.x, int(r) + part.y) for r, c in zip(rows, columns, strict=True)
    } == expected
    found = neighbourhood_statistics(plane_from_native(PIXELS), part, inside)
    values = np.array([PIXELS[k, i] for i, k in expected], float)
    assert found.count == values.size
    assert found.mean == pytest.approx(values.mean())
    assert found.total == pytest.approx(values.sum())


def test_rows_say_native_and_signal(make_sample: Callable[..., Sample]) -> None:
    sample = make_sample(PIXELS, PIXELS + 5)
    picks = [
        Pick(number=1, x=4, y=5, size=3),
        Pick(number=2, x=4, y=5, sample="another"),
        Pick(number=3, x=400, y=5),
    ]
    less = {
        name: plane.with_pixels(plane.as_float() - 100, None)
        for name, plane in sample.channels.items()
    }
    rows = pick_rows(sample, picks, lambda channel: less[channel], "g")
    assert [(row["pick"], row["channel"]) for row in rows] == [(1, "ch1"), (1, "ch2")]
    around = PIXELS[4:7, 3:6].astype(float)
    assert rows[0]["mean"] == pytest.approx(around.mean() - 100)
    assert rows[0]["native_mean"] == pytest.approx(around.mean())
    assert rows[1]["sd"] == pytest.approx(around.std(ddof=1))


def test_picks_of_a_specimen_are_averaged() -> None:
    common = {"sample": "a", "group": "", "channel": "gray"}
    rows = [
        {**common, "pick": n, "name": "", "specimen": specimen, "mean": mean}
        for n, specimen, mean in ((1, "wool", 10.0), (2, "wool", 14.0), (3, "", 7.0))
    ]
    frame = specimen_frame(rows).to_pandas().set_index("specimen")
    assert (frame.loc["wool", "n"], frame.loc["wool", "mean"]) == (2, 12.0)
    assert frame.loc["wool", "sd"] == pytest.approx(np.sqrt(8))
    assert np.isnan(frame.loc["pick 3", "sd"])
    assert pick_frame([]).to_pandas().empty


def test_picks_are_part_of_the_method_and_its_run(
    write_tiff: Callable[..., Path], tmp_path: Path
) -> None:
    method = Method(
        steps=(step_use("b", "background.level", level=50.0),),
        picks=(Pick(number=1, x=2, y=3, specimen="s"), Pick(number=4, x=7, y=3, sample="b")),
    )
    again = Method.from_json(method.to_json())
    assert again == method
    assert next_number(again.picks) == 5
    files = [write_tiff("a.tif", PIXELS), write_tiff("b.tif", PIXELS[::-1].copy())]
    write_outputs(Contents(run_batch(samples_for(files), method), method), tmp_path / "out")
    picks = pandas.read_csv(tmp_path / "out" / "picks.csv")
    assert list(zip(picks["sample"], picks["pick"], strict=True)) == [("a", 1), ("b", 1), ("b", 4)]
    assert picks["mean"].tolist() == [PIXELS[3, 2] - 50, PIXELS[11, 2] - 50, PIXELS[11, 7] - 50]
    assert len(pandas.read_csv(tmp_path / "out" / "specimens.csv")) == 3
    with pytest.raises(MethodError, match="two picks with the same number"):
        method.changed(picks=(method.picks[0], method.picks[0]))
