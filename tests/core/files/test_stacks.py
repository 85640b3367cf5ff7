"""Planes in depth and time of every format: each is the one that was written, and no other."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
import zarr
from astropy.io import fits
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.errors import FileError, UnsupportedKind
from rilievo.core.files.projections import focus_measure
from rilievo.core.files.reader import read_layout, read_sample
from rilievo.core.image.stack import PROJECTIONS, Frame, StackLayout

TIMES, CHANNELS, DEPTHS, HEIGHT, WIDTH = 5, 2, 3, 20, 30


@pytest.fixture(scope="module")
def values() -> np.ndarray:
    """Counts by time, channel, depth, y, x; all differ from plane to plane."""
    shape = (TIMES, CHANNELS, DEPTHS, HEIGHT, WIDTH)
    return np.random.default_rng(7).integers(0, 4000, shape).astype(np.uint16)


@pytest.fixture(scope="module")
def ome(values: np.ndarray, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("ome") / "series.ome.tif"
    facts = {
        "axes": "TCZYX", "PhysicalSizeX": 0.2, "PhysicalSizeY": 0.2, "PhysicalSizeZ": 0.7,
        "TimeIncrement": 2.5, "Channel": {"Name": ["dye", "reference"]},
    }  # fmt: skip
    tifffile.imwrite(path, values, metadata=facts)
    return path


def as_other_order(path: Path, values: np.ndarray) -> Path:
    tifffile.imwrite(path, values.transpose(0, 2, 1, 3, 4), ome=True, metadata={"axes": "TZCYX"})
    return path


def as_packed_tiles(path: Path, values: np.ndarray) -> Path:
    tifffile.imwrite(
        path, values, metadata={"axes": "TCZYX"}, ome=True, compression="zlib", tile=(16, 16)
    )
    return path


def as_zarr(path: Path, values: np.ndarray) -> Path:
    group = zarr.open_group(str(path), mode="w", zarr_format=2)
    group.create_array("0", data=values, chunks=(1, 1, 1, HEIGHT, WIDTH))
    axes = [
        {"name": "t", "type": "time", "unit": "second"}, {"name": "c", "type": "channel"},
        {"name": "z", "type": "space", "unit": "micrometer"},
        {"name": "y", "type": "space", "unit": "micrometer"},
        {"name": "x", "type": "space", "unit": "micrometer"},
    ]  # fmt: skip
    scale = {"type": "scale", "scale": [2.5, 1.0, 0.7, 0.2, 0.2]}
    data = [{"path": "0", "coordinateTransformations": [scale]}]
    group.attrs["multiscales"] = [{"version": "0.4", "axes": axes, "datasets": data}]
    return path


@pytest.mark.parametrize(
    ("name", "write"),
    [
        ("a.ome.tif", as_other_order),
        ("b.ome.tif", as_packed_tiles),
        ("c.zarr", as_zarr),
    ],
)
def test_each_plane_is_the_one_that_was_written(
    values: np.ndarray, tmp_path: Path, name: str, write: Callable[[Path, np.ndarray], Path]
) -> None:
    path = write(tmp_path / name, values)
    layout = read_layout(path)
    assert (layout.time, layout.z, layout.pages) == (TIMES, DEPTHS, 1)
    assert len(layout.frames()) == layout.count == TIMES * DEPTHS
    for frame in layout.frames():
        sample = read_sample(path, 0, frame)
        assert len(sample.channels) == CHANNELS
        for k, plane in enumerate(sample.channels.values()):
            assert (plane.pixels == values[frame.time, k, frame.z]).all()


def test_depth_and_time_are_said_where_the_file_knows_them(ome: Path, tmp_path: Path) -> None:
    layout = read_layout(ome)
    assert layout.z_step == 0.7 and layout.seconds == (0.0, 2.5, 5.0, 7.5, 10.0)
    sample = read_sample(ome, 0, Frame(2, 3))
    assert sample.channel_names == ("dye", "reference")
    assert {k: sample.attributes[k] for k in ("z", "time", "depth (µm)", "time (s)")} == {
        "z": "3", "time": "4", "depth (µm)": "1.4", "time (s)": "7.5",
    }  # fmt: skip
    assert sample.first.calibration.pixel_size == 0.2
    again = read_layout(as_zarr(tmp_path / "z.zarr", np.zeros((5, 2, 3, 4, 4), np.uint8)))
    assert (again.z_step, again.seconds) == (0.7, layout.seconds)


@pytest.mark.parametrize("options", [{}, {"compression": "zlib"}, {"rowsperstrip": 7}])
def test_pages_without_a_meaning_are_taken_as_either(
    values: np.ndarray, write_tiff: Callable[..., Path], options: dict[str, Any]
) -> None:
    pages = values[:, 0].reshape(-1, HEIGHT, WIDTH)
    path = write_tiff("p.tif", pages, photometric="minisblack", metadata=None, **options)
    layout = read_layout(path)
    assert layout == StackLayout(pages=TIMES * DEPTHS)
    for k in (0, 4, TIMES * DEPTHS - 1):
        for frame in (Frame(z=k), Frame(time=k)):
            assert (read_sample(path, 0, frame).first.pixels == pages[k]).all()
    assert layout.taken_as("z").z == layout.taken_as("time").time == len(pages)
    with pytest.raises(UnsupportedKind, match="no plane “z 16”, but 15 planes"):
        read_sample(path, 0, Frame(z=15))


def test_one_directory_for_all_planes(values: np.ndarray, write_tiff: Callable[..., Path]) -> None:
    pages = values[:, 0].reshape(-1, HEIGHT, WIDTH)
    path = write_tiff("s.tif", pages, photometric="minisblack")
    assert (read_sample(path, 0, Frame(time=9)).first.pixels == pages[9]).all()


def test_colours_of_one_page(write_tiff: Callable[..., Path]) -> None:
    colours = np.random.default_rng(1).integers(0, 255, (4, 9, 11, 3)).astype(np.uint8)
    path = write_tiff("c.tif", colours, photometric="rgb", metadata=None)
    sample = read_sample(path, 0, Frame(z=2))
    assert (sample.channels["green"].pixels == colours[2, ..., 1]).all()
    assert (sample.channels["blue"].pixels == colours[2, ..., 2]).all()


def test_cubes_of_fits_and_arrays(values: np.ndarray, tmp_path: Path) -> None:
    cube = values[:, 0, 0]
    unit = fits.PrimaryHDU(cube)
    unit.header["CTYPE3"], unit.header["CUNIT3"], unit.header["CDELT3"] = "TIME", "s", 30.0
    unit.writeto(tmp_path / "light.fits")
    layout = read_layout(tmp_path / "light.fits")
    assert (layout.time, layout.seconds[:3]) == (TIMES, (0.0, 30.0, 60.0))
    sample = read_sample(tmp_path / "light.fits", 0, Frame(time=3))
    assert (sample.first.pixels == cube[3]).all() and sample.bottom_up
    assert sample.attributes["time (s)"] == "90"
    np.save(tmp_path / "a.npy", cube)
    assert read_layout(tmp_path / "a.npy").pages == TIMES
    assert (read_sample(tmp_path / "a.npy", 0, Frame(z=4)).first.pixels == cube[4]).all()


def test_a_file_that_changes_is_read_anew(
    values: np.ndarray, write_tiff: Callable[..., Path]
) -> None:
    for k in range(6):
        pages = values[:, 0, 0] + k
        path = write_tiff("x.tif", pages, photometric="minisblack", metadata=None)
        found = read_sample(path, 0, Frame(time=2))
        assert (found.first.pixels == pages[2]).all()
    other = read_sample(path, 0, Frame(time=1))
    assert other.identity != found.identity and other.checksum == found.checksum


@pytest.mark.parametrize("how", [how for how in PROJECTIONS if how != "sharpest"])
@pytest.mark.parametrize("along", ["z", "time"])
def test_projections_are_what_numpy_makes_of_the_planes(
    ome: Path, values: np.ndarray, how: Any, along: Any
) -> None:
    layout = read_layout(ome)
    first, last = (0, 2) if along == "z" else (1, 4)
    frames = layout.projections(how, along, first, last)
    assert len(frames) == (TIMES if along == "z" else DEPTHS)
    sample = read_sample(ome, 0, frames[1])
    planes = values[1, 1] if along == "z" else values[1:5, 1, 1]
    make = {"sd": lambda v, axis: v.std(axis=axis, ddof=1)}.get(how) or getattr(np, how)
    expected = make(planes.astype(np.float64), axis=0)
    assert sample.channels["reference"].pixels == pytest.approx(expected, rel=1e-12)
    assert sample.attributes["projection"] == f"{how} of {along}"


def test_undefined_and_saturated_pixels_of_projections(tmp_path: Path) -> None:
    planes = np.array([[[1.0, np.nan, 3]], [[2, np.nan, np.nan]], [[6, np.nan, 5]]])
    np.save(tmp_path / "f.npy", planes)

    def made(how: Any) -> list[float]:
        return read_sample(tmp_path / "f.npy", 0, Frame(None, None, how, "z", 0, 2)).first.pixels[0]

    nan = np.nan
    assert made("mean") == pytest.approx([3, nan, 4], nan_ok=True)
    assert made("median") == pytest.approx([2, nan, 4], nan_ok=True)
    assert made("max") == pytest.approx([6, nan, 5], nan_ok=True)
    assert made("sum") == pytest.approx([9, nan, nan], nan_ok=True)
    assert made("sd") == pytest.approx([7**0.5, nan, 2**0.5], nan_ok=True)
    counts = np.array([[[255, 3]], [[7, 9]]], np.uint8)
    np.save(tmp_path / "i.npy", counts)
    for how in PROJECTIONS:
        plane = read_sample(tmp_path / "i.npy", 0, Frame(None, None, how, "z", 0, 1)).first
        saturated = plane.saturated()
        assert saturated is not None
        assert saturated.tolist() == [[True, False]], how


def test_the_sharpest_plane_is_the_one_in_focus(tmp_path: Path) -> None:
    from scipy.ndimage import gaussian_filter  # noqa: PLC0415 (of the test alone)

    scene = np.random.default_rng(3).uniform(0, 1000, (64, 64))
    planes = np.stack([gaussian_filter(scene, 0.5 + abs(k - 4)) for k in range(9)])
    np.save(tmp_path / "focus.npy", planes)
    sample = read_sample(tmp_path / "focus.npy", 0, Frame(None, None, "sharpest", "z", 0, 8))
    assert (sample.first.pixels == planes[4]).all()
    assert "z 5" in sample.notes[-1]
    # Of a ramp of slope 3 both Sobel differences are known: 8 times the slope along it.
    ramp = np.tile(3.0 * np.arange(20), (20, 1))
    assert focus_measure(ramp[:, 1:-1]) == pytest.approx(24.0**2, rel=0.2)
    assert focus_measure(np.full((3, 3), np.nan)) == -np.inf


frames = st.builds(
    Frame,
    st.none() | st.integers(0, 999),
    st.none() | st.integers(0, 999),
).filter(lambda frame: frame.text)


@given(frames)
def test_a_plane_in_words_is_read_back(frame: Frame) -> None:
    assert Frame.parse(frame.text) == frame


@given(st.sampled_from(list(PROJECTIONS)), st.sampled_from(["z", "time"]), st.integers(1, 40))
def test_a_projection_in_words_is_read_back(how: Any, along: Any, length: int) -> None:
    layout = StackLayout(z=length, time=length)
    for frame in layout.projections(how, along):
        assert Frame.parse(frame.text) == frame
        assert len(frame.planes()) == length


@pytest.mark.parametrize(
    "text", ["", "z", "z 0", "time 3 z 2", "max of z 3–1", "brightest of z 1–3", "z 1 z 2"]
)
def test_words_that_are_no_plane_are_refused(text: str) -> None:
    with pytest.raises(ValueError, match=r"plane|projection"):
        Frame.parse(text)


def test_a_format_without_planes_says_so(tmp_path: Path) -> None:
    from PIL import Image  # noqa: PLC0415 (of the test alone)

    Image.fromarray(np.zeros((4, 4), np.uint8)).save(tmp_path / "a.png")
    assert read_layout(tmp_path / "a.png") == StackLayout()
    with pytest.raises(FileError, match="no single planes"):
        read_sample(tmp_path / "a.png", 0, Frame(z=1))


def test_dates_of_pages_tell_when_they_were_recorded(tmp_path: Path) -> None:
    def write(name: str, seconds: list[int | None]) -> Path:
        path = tmp_path / name
        with tifffile.TiffWriter(path) as file:
            for k, second in enumerate(seconds):
                date = None if second is None else f"2026:05:01 10:00:{second:02}"
                file.write(np.full((8, 9), k, np.uint16), metadata=None, datetime=date)
        return path

    dated = write("dated.tif", [1, 4, 4, 10])
    assert read_layout(dated).dated == (0.0, 3.0, 3.0, 9.0)
    assert read_layout(dated).pages == 4
    for name, seconds in (("same", [5, 5, 5]), ("back", [5, 9, 7, 8]), ("none", [None] * 3)):
        assert read_layout(write(f"{name}.tif", seconds)).dated == ()
    assert read_layout(write("gap.tif", [1, None, 7])).dated == ()
