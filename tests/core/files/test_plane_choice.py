"""How the planes of files become samples."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.files.plane_choice import (
    PlaneChoice,
    offered_choices,
    proposed_choice,
    with_frames,
)
from rilievo.core.files.sample_parts import Part
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.stack import PROJECTIONS, Frame, StackLayout
from rilievo.core.study.stacks import stacks_of
from rilievo.core.study.study import StudyState

KNOWN = StackLayout(z=3, time=12, z_step=0.5, seconds=tuple(range(12)))


@pytest.mark.parametrize(
    "text",
    [
        "channels",
        "each",
        "z",
        "time",
        *(f"{how} of z" for how in PROJECTIONS),
        "mean of time 2-9",
        "time of 2 channels",
        "max of z 1-4 of 3 channels",
    ],
)
def test_a_choice_is_read_back_as_it_is_written(text: str) -> None:
    assert PlaneChoice.parse(text).text == text
    assert PlaneChoice.parse(text).title


@pytest.mark.parametrize("text", ["", "all", "max", "max of y", "best of z", "max of z 0-3",
                                  "each of 2 channels"])  # fmt: skip
def test_other_words_are_refused_with_what_can_be_written(text: str) -> None:
    with pytest.raises(ValueError, match=r"max of z|counted from 1"):
        PlaneChoice.parse(text)


def test_each_plane_is_a_sample_that_knows_its_place() -> None:
    parts = (Part(Path("d/cells-dye.tif"), channel="dye"), Part(Path("d/cells-ref.tif")))
    one = SampleRef(parts[0].path, "cells", "low", parts, attributes={"dose": "2"})
    made = with_frames(one, KNOWN, PlaneChoice("each"))
    assert len(made) == 36
    assert made[0].name == "cells t01 z1" and made[-1].name == "cells t12 z3"
    assert made[4].parts[1] == Part(Path("d/cells-ref.tif"), frame=Frame(1, 1))
    assert made[4].attributes == {
        "dose": "2", "stack": "cells", "z": "2", "depth (µm)": "0.5", "time": "2", "time (s)": "1",
    }  # fmt: skip
    assert made[4].group == "low"
    assert with_frames(one, StackLayout(), PlaneChoice("each")) == [one]
    assert with_frames(one, KNOWN, PlaneChoice()) == [one]


def test_projections_leave_the_other_axis() -> None:
    one = SampleRef(Path("cells.tif"), "cells", parts=(Part(Path("cells.tif")),))
    made = with_frames(one, KNOWN, PlaneChoice.parse("max of z 1-2"))
    assert [p.name for p in made[:2]] == ["cells t01 max", "cells t02 max"] and len(made) == 12
    assert made[3].parts[0].frame == Frame(None, 3, "max", "z", 0, 1)
    # What has no such axis is taken plane by plane.
    assert len(with_frames(one, StackLayout(time=4), PlaneChoice.parse("max of z"))) == 4
    with pytest.raises(ValueError, match="planes 1 to 3"):
        with_frames(one, KNOWN, PlaneChoice.parse("max of z 2-4"))


@pytest.mark.parametrize(
    ("layouts", "expected"),
    [
        ({"a.tif": StackLayout()}, "channels"),
        ({"a.tif": StackLayout(pages=2)}, "channels"),
        ({"a.tif": StackLayout(pages=60)}, "time"),
        ({"a_z.tif": StackLayout(pages=60)}, "z"),
        ({"zebra.tif": StackLayout(pages=60)}, "time"),
        ({"a.tif": KNOWN, "b.tif": StackLayout(pages=2)}, "each"),
    ],
)
def test_what_planes_most_likely_are(layouts: dict[str, StackLayout], expected: str) -> None:
    assert proposed_choice(layouts).text == expected


@given(st.integers(1, 6), st.integers(1, 6), st.integers(1, 3))
def test_planes_find_each_other_in_a_study(z: int, time: int, files: int) -> None:
    layout = StackLayout(z=z, time=time)
    proposals = [
        one
        for k in range(files)
        for one in with_frames(
            SampleRef(Path(f"/none/s{k}.tif"), f"s{k}", parts=(Part(Path(f"/none/s{k}.tif")),)),
            layout,
            PlaneChoice("each"),
        )
    ]
    state = StudyState().with_samples(proposals)
    stacks = stacks_of(state.samples)
    if layout.count == 1:
        assert not stacks
        return
    assert len(state.samples) == len(stacks) == files * layout.count
    assert len(set(map(id, stacks.values()))) == files
    for entry in state.samples:
        stack, frame = stacks[entry.id], entry.sources[0].frame
        assert frame is not None
        assert stack.place_of(entry.id) == (frame.time or 0, frame.z or 0)
        assert (len(stack.times), len(stack.depths)) == (time, z)
        assert stack.nearest(frame.time or 0, frame.z or 0) == entry.id
        # Beyond the ends the nearest there is.
        assert stack.nearest(99, 99) == stack.planes[time - 1, z - 1]


def test_channels_in_turn_are_offered_where_they_divide_the_pages() -> None:
    offered = offered_choices([StackLayout(pages=60), StackLayout(pages=12)])
    assert [one for one in offered if "channels" in one] == [
        f"{along} of {count} channels" for count in (2, 3, 4) for along in ("time", "z")
    ]
    assert not [one for one in offered_choices([StackLayout(pages=35)]) if "2 ch" in one]
    assert "time of 2 channels" not in offered_choices([StackLayout(pages=4)])
    assert not [one for one in offered_choices([KNOWN]) if "channels" in one]
    choice = PlaneChoice.parse("time of 2 channels")
    assert choice.title == "time, 2 channels in turn"
    one = SampleRef(Path("cells.tif"), "cells", parts=(Part(Path("cells.tif")),))
    made = with_frames(one, StackLayout(pages=60), choice)
    assert len(made) == 30 and made[29].name == "cells t30"
    assert made[29].parts[0].frame == Frame(time=29, channels=2)
    assert made[29].attributes["time"] == "30"
    with pytest.raises(ValueError, match="61 pages are not several times 2 channels"):
        with_frames(one, StackLayout(pages=61), choice)


@pytest.mark.parametrize(
    "frame",
    [Frame(time=3, channels=2), Frame(z=1, time=2), Frame(None, 3, "max", "z", 0, 4, 3),
     Frame(None, None, "mean", "time", 1, 5, 2)],
)  # fmt: skip
def test_a_frame_is_read_back_as_it_is_written(frame: Frame) -> None:
    assert Frame.parse(frame.text) == frame


def test_pages_with_dates_are_times_and_know_their_seconds() -> None:
    dated = StackLayout(pages=4, dated=(0.0, 2.0, 4.0, 7.0))
    assert proposed_choice({"a.tif": dated}).text == "time"
    assert proposed_choice({"a_z.tif": dated}).text == "z"
    assert dated.taken_as("time").seconds == (0.0, 2.0, 4.0, 7.0)
    assert dated.taken_as("z").seconds == ()
    in_turn = dated.of_channels(2).taken_as("time")
    assert (in_turn.time, in_turn.seconds) == (2, (0.0, 4.0))
