"""Stacks: finding the planes of a long file, reading one, a projection, following regions.

pytest bench/bench_stacks.py --benchmark-only
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

from rilievo.core.files.reader import read_layout, read_sample
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.stack import Frame
from rilievo.core.regions.tracks import Places, tracks_through
from rilievo.core.study.stacks import stacks_of
from rilievo.core.study.study import StudyState

PLANES = 2000


@pytest.fixture(scope="module")
def long_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """2 000 pages of 512², one after another, each with a directory of its own."""
    path = tmp_path_factory.mktemp("long") / "long.tif"
    page = np.random.default_rng(1).integers(0, 4000, (512, 512)).astype(np.uint16)
    with tifffile.TiffWriter(path, bigtiff=True) as file:
        for k in range(PLANES):
            file.write(page + k % 7, metadata=None, photometric="minisblack")
    return path


def test_layout_of_2000_pages(benchmark: Any, long_file: Path) -> None:
    def look() -> None:
        # As another state of the file: nothing is kept open of it.
        long_file.touch()
        assert read_layout(long_file).count == PLANES

    benchmark.pedantic(look, rounds=5)


def test_planes_one_after_another(benchmark: Any, long_file: Path) -> None:
    places = iter(range(10**9))
    benchmark(lambda: read_sample(long_file, 0, Frame(time=next(places) % PLANES), checksum=False))


@pytest.mark.parametrize("how", ["max", "sd", "median"])
def test_projection_of_100_planes(benchmark: Any, long_file: Path, how: Any) -> None:
    frame = Frame(None, None, how, "time", 0, 99)
    benchmark.pedantic(lambda: read_sample(long_file, 0, frame, checksum=False), rounds=3)


@pytest.mark.parametrize("count", [10, 1000, 10_000])
def test_tracks_through_20_times(benchmark: Any, count: int) -> None:
    rng = np.random.default_rng(count)
    start = rng.uniform(0, 12 * np.sqrt(count), (count, 2))
    times = []
    for _ in range(20):
        at = start + rng.normal(0, 0.5, start.shape)
        times.append(Places(at[:, 0], at[:, 1], np.full(count, 3.0)))
    benchmark.pedantic(lambda: tracks_through(times), rounds=2)


def test_stacks_of_a_study(benchmark: Any, long_file: Path) -> None:
    from rilievo.core.files.plane_choice import PlaneChoice, with_frames  # noqa: PLC0415
    from rilievo.core.files.sample_parts import Part  # noqa: PLC0415

    whole = SampleRef("long", (Part(long_file),))
    made = with_frames(whole, read_layout(long_file), PlaneChoice.parse("time"))
    state = StudyState().with_samples(made)
    benchmark(lambda: stacks_of(state.samples))
