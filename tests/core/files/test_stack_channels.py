"""Channels made of many planes of the stack that a sample is one plane of."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from pydantic import ValidationError

from rilievo.core.errors import FileError
from rilievo.core.files import stack_channels
from rilievo.core.files.channel_preparation import (
    Derived,
    MetadataOverrides,
    Over,
    Reading,
    Term,
    linear_light,
    prepared,
)
from rilievo.core.files.sample_parts import Part, read_parts
from rilievo.core.image.image import Sample
from rilievo.core.image.stack import PROJECTIONS, Frame
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache

TIMES, DEPTHS, HEIGHT, WIDTH = 6, 3, 24, 32
VALUES = np.random.default_rng(5).integers(0, 250, (TIMES, DEPTHS, HEIGHT, WIDTH)).astype(np.uint8)
MADE: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    "max": lambda planes: planes.max(0),
    "mean": lambda planes: planes.mean(0),
    "sum": lambda planes: planes.sum(0, dtype=float),
    "median": lambda planes: np.median(planes, 0),
    "sd": lambda planes: planes.std(0, ddof=1),
}


@pytest.fixture(scope="module")
def series(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("stack") / "series.ome.tif"
    tifffile.imwrite(path, VALUES, metadata={"axes": "TZYX", "PhysicalSizeX": 0.5})
    return path


def plane_of(path: Path, time: int, z: int) -> Sample:
    return read_parts((Part(path, frame=Frame(z=z, time=time)),), f"{time} {z}")


def over(how: str, along: str, first: int = 1, last: int | None = None) -> Derived:
    planes = Over.model_validate({"how": how, "along": along, "first": first, "last": last})
    return Derived(name="made", way="projection", terms=(Term(channel="gray"),), over=planes)


@pytest.mark.parametrize("how", list(MADE))
def test_a_channel_over_planes_is_what_it_says_on_every_plane(series: Path, how: str) -> None:
    for time, z in ((0, 1), (5, 1), (2, 0)):
        sample = plane_of(series, time, z)
        along_time = prepared(sample, Reading(derived=(over(how, "time", 2, 5),)))
        np.testing.assert_allclose(
            along_time.channels["made"].pixels, MADE[how](VALUES[1:5, z]), rtol=1e-12
        )
        along_z = prepared(sample, Reading(derived=(over(how, "z"),)))
        np.testing.assert_allclose(
            along_z.channels["made"].pixels, MADE[how](VALUES[time]), rtol=1e-12
        )
        np.testing.assert_array_equal(along_z.channels["gray"].pixels, VALUES[time, z])


def test_every_projection_can_be_a_channel_and_ranges_are_cut(series: Path) -> None:
    sample = plane_of(series, 0, 0)
    for how in PROJECTIONS:
        made = prepared(sample, Reading(derived=(over(how, "time", 3, 900),)))
        assert made.channels["made"].shape == (HEIGHT, WIDTH)
    sharpest = made.channels["made"].pixels
    assert any(np.array_equal(sharpest, VALUES[time, 0]) for time in range(2, TIMES))


def test_each_plane_is_read_as_the_method_says_before(series: Path) -> None:
    """Light instead of codes and a declared saturation hold for the planes, not for the mean."""
    sample = plane_of(series, 0, 0)
    mean = over("mean", "time")
    overrides = MetadataOverrides(saturation=240.0, pixel_size=3.0)
    plane = prepared(sample, Reading(derived=(mean,)), overrides).channels["made"]
    np.testing.assert_array_equal(plane.saturated(), (VALUES[:, 0] >= 240).any(0))
    assert plane.calibration.pixel_size == 3.0
    made = prepared(sample, Reading(undo_srgb=True, derived=(mean,)))
    light = np.mean([linear_light(VALUES[t, 0], 255.0).astype(float) for t in range(TIMES)], 0)
    np.testing.assert_allclose(made.channels["made"].pixels, light, rtol=1e-6)


def test_a_sample_by_itself_has_no_such_channel(series: Path) -> None:
    reading = Reading(derived=(over("mean", "time"),))
    whole = read_parts((Part(series),), "whole")
    largest = read_parts((Part(series, frame=Frame(projection="max", along="z", last=2)),), "max")
    for sample in (whole, largest):
        assert sample.stack is None
        assert "made" not in prepared(sample, reading).channels
    no_time = read_parts((Part(series, frame=Frame(z=1)),), "z")
    assert no_time.stack is not None
    assert no_time.stack.axes == ("z",)
    assert "made" not in prepared(no_time, reading).channels


def test_channels_of_several_files_know_their_own_stack(series: Path, tmp_path: Path) -> None:
    other = tmp_path / "other.ome.tif"
    tifffile.imwrite(other, VALUES[::-1], metadata={"axes": "TZYX"})
    frame = Frame(z=0, time=0)
    parts = (Part(series, channel="a", frame=frame), Part(other, channel="b", frame=frame))
    derived = over("max", "time", 1, 2).model_copy(update={"terms": (Term(channel="b"),)})
    made = prepared(read_parts(parts, "both"), Reading(derived=(derived,)))
    np.testing.assert_array_equal(made.channels["made"].pixels, VALUES[:-3:-1, 0].max(0))


def test_regions_found_on_a_projection_are_the_same_on_all_planes(tmp_path: Path) -> None:
    """A spot that is dark in half of the times is measured in all of them."""
    y, x = np.mgrid[:40, :50]
    planes = np.full((8, 40, 50), 100, np.uint16)
    spot = np.hypot(x - 20, y - 15) < 6
    for time in range(8):
        planes[time][spot] += 50 * time
    path = tmp_path / "flashing.ome.tif"
    tifffile.imwrite(path, planes, metadata={"axes": "TYX"})
    outline = ClassDefinition(
        region_class="spot",
        channel="made",
        threshold=ThresholdUse.model_validate({}),
    )
    method = Method(reading=Reading(derived=(over("mean", "time"),)), outlines=(outline,))
    cache, means = AnalysisCache(), []
    for time in range(8):
        sample = cache.sample((Part(path, frame=Frame(time=time)),), str(time))
        sample = Analysis(sample, method, cache).sample
        regions = Analysis(sample, method, cache).regions()
        assert regions.count == 1
        np.testing.assert_array_equal(regions.labels > 0, spot)
        means.append(float(Analysis(sample, method, cache).table().column("gray", "mean")[0]))
    assert means == [100.0 + 50 * time for time in range(8)]


@pytest.mark.parametrize(
    "fields",
    [
        {"way": "projection", "terms": (Term(channel="gray"),)},
        {"terms": (Term(channel="gray"),), "over": Over()},
        {"way": "projection", "terms": (Term(channel="a"), Term(channel="b")), "over": Over()},
    ],
)
def test_what_is_no_projection_is_refused(fields: dict) -> None:
    with pytest.raises(ValidationError, match="projection"):
        Derived(name="x", **fields)
    with pytest.raises(ValidationError, match="rises"):
        Over(first=4, last=2)


def test_a_method_without_one_is_written_as_before() -> None:
    assert "over" not in Derived(name="x", terms=(Term(channel="gray"),)).model_dump_json()


def test_pages_can_be_channels_in_turn(tmp_path: Path) -> None:
    """Of a plain file of twelve pages: six times of two channels, each with its own mean."""
    pages = VALUES[:, :2].reshape(2 * TIMES, HEIGHT, WIDTH)
    path = tmp_path / "plain.tif"
    tifffile.imwrite(path, pages, photometric="minisblack", metadata=None)
    for time in (0, 4):
        sample = read_parts((Part(path, frame=Frame(time=time, channels=2)),), "t")
        assert sample.channel_names == ("channel 1", "channel 2")
        assert sample.attributes["time"] == str(time + 1)
        derived = over("mean", "time").model_copy(update={"terms": (Term(channel="channel 2"),)})
        made = prepared(sample, Reading(derived=(derived,)))
        for k in range(2):
            np.testing.assert_array_equal(
                sample.channels[f"channel {k + 1}"].pixels, VALUES[time, k]
            )
        np.testing.assert_allclose(made.channels["made"].pixels, VALUES[:, 1].mean(0), rtol=1e-12)
    largest = Frame(projection="max", along="time", last=TIMES - 1, channels=2)
    whole = read_parts((Part(path, frame=largest),), "max")
    np.testing.assert_array_equal(whole.channels["channel 2"].pixels, VALUES[:, 1].max(0))
    with pytest.raises(FileError):
        read_parts((Part(path, frame=Frame(time=TIMES, channels=2)),), "beyond")


def test_a_projection_is_made_once_for_all_planes(
    series: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    read: list[str] = []
    plain = stack_channels.read_sample

    def counted(path: Path, image: int, frame: Frame, **given: bool) -> Sample:
        read.append(frame.text)
        return plain(path, image, frame, **given)

    monkeypatch.setattr(stack_channels, "read_sample", counted)
    method, cache = Method(reading=Reading(derived=(over("mean", "time"),))), AnalysisCache()
    for time in range(TIMES):
        sample = cache.sample((Part(series, frame=Frame(z=1, time=time)),), str(time))
        assert "made" in Analysis(sample, method, cache).sample.channels
    assert sorted(read) == [f"z 2 time {k + 1}" for k in range(TIMES)]
