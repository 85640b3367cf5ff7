"""Positions of a stage in one file: each a stack by itself."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import tifffile

from rilievo.cli.image_inputs import by_plane
from rilievo.core.files.plane_choice import PlaneChoice, with_frames
from rilievo.core.files.reader import read_layout
from rilievo.core.files.sample_parts import Part
from rilievo.core.files.sample_ref import SampleRef, samples_for
from rilievo.core.files.stage_positions import further_positions, with_positions
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.study.stacks import stacks_of
from rilievo.core.study.study import StudyState

TIMES = 5


def write(path: Path, times: tuple[int, ...]) -> Path:
    with tifffile.TiffWriter(path, ome=True) as file:
        for k, count in enumerate(times):
            values = np.stack([np.full((9, 12), 100 * k + t, np.uint16) for t in range(count)])
            file.write(values, metadata={"axes": "TYX", "Name": f"position {k + 1}"},
                       photometric="minisblack")  # fmt: skip
    return path


def test_stacks_alike_in_one_file_are_positions(tmp_path: Path) -> None:
    path = write(tmp_path / "three.ome.tif", (TIMES, TIMES, TIMES))
    assert further_positions(path, read_layout(path)) == (1, 2)
    other = write(tmp_path / "other.ome.tif", (TIMES, TIMES, TIMES - 1))
    assert further_positions(other, read_layout(other)) == (1,)
    plain = write(tmp_path / "plain.ome.tif", (1, 1))
    assert further_positions(plain, read_layout(plain)) == ()


def test_each_position_is_a_stack_of_its_own(tmp_path: Path) -> None:
    path = write(tmp_path / "three.ome.tif", (TIMES, TIMES, TIMES))
    layout = read_layout(path)
    one = SampleRef(path, "three", parts=(Part(path),))
    proposals = [
        plane
        for position in with_positions(one, further_positions(path, layout))
        for plane in with_frames(position, layout, PlaneChoice("each"))
    ]
    assert [p.name for p in proposals[::TIMES]] == ["three t1", "three p2 t1", "three p3 t1"]
    assert [p.attributes["position"] for p in proposals[::TIMES]] == ["1", "2", "3"]
    state = StudyState().with_samples(proposals)
    stacks = stacks_of(state.samples)
    assert len({id(stack) for stack in stacks.values()}) == 3
    assert all(len(stack.times) == TIMES for stack in stacks.values())
    assert with_positions(one, ()) == [one]


def test_positions_are_measured_without_the_window_too(tmp_path: Path) -> None:
    path = write(tmp_path / "two.ome.tif", (TIMES, TIMES))
    items = by_plane(samples_for([path]), "each")
    assert len(items) == 2 * TIMES
    cache = AnalysisCache()
    samples = [cache.sample(item.sources, item.name) for item in items]
    values = [int(sample.first.pixels[0, 0]) for sample in samples]
    assert values == [*range(TIMES), *range(100, 100 + TIMES)]
    assert len({item.name for item in items}) == 2 * TIMES
