"""PNM, MRC, NRRD, HDF5 and DICOM: each against an array that its own library wrote."""

from __future__ import annotations

import struct
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import h5py
import mrcfile
import nrrd
import numpy as np
import pydicom
import pytest
from PIL import Image
from pydicom.dataset import Dataset, FileMetaDataset

from rilievo.core.errors import FileError, FileOutside, FileTruncated, UnsupportedKind
from rilievo.core.files.reader import read_layout, read_sample
from rilievo.core.image.stack import Frame

RNG = np.random.default_rng(4)
GRAY = RNG.integers(0, 200, (9, 13)).astype(np.uint8)
DEEP = RNG.integers(0, 60_000, (9, 13)).astype(np.uint16)
STACK = RNG.integers(0, 4000, (5, 9, 13)).astype(np.uint16)
COLOURS = RNG.integers(0, 255, (9, 13, 3)).astype(np.uint8)


def gray(path: Path, frame: Frame | None = None, image: int = 0) -> np.ndarray:
    return read_sample(path, image, frame).first.pixels


# -- PNM


@pytest.mark.parametrize("values", [GRAY, DEEP])
def test_binary_graymaps(values: np.ndarray, tmp_path: Path) -> None:
    Image.fromarray(values).save(tmp_path / "a.pgm")
    sample = read_sample(tmp_path / "a.pgm")
    assert (sample.first.pixels == values).all() and sample.first.pixels.dtype == values.dtype
    assert sample.first.saturation == np.iinfo(values.dtype).max


def test_colours_and_plain_text_and_comments(tmp_path: Path) -> None:
    Image.fromarray(COLOURS).save(tmp_path / "a.ppm")
    sample = read_sample(tmp_path / "a.ppm")
    for k, name in enumerate(("red", "green", "blue")):
        assert (sample.channels[name].pixels == COLOURS[..., k]).all()
    rows = "\n".join(" ".join(map(str, row)) for row in DEEP % 1000)
    (tmp_path / "p.pgm").write_text(f"P2 # by hand\n# a line\n13 9\n999\n{rows}\n")
    plain = read_sample(tmp_path / "p.pgm").first
    assert (plain.pixels == DEEP % 1000).all() and plain.saturation == 1023
    (tmp_path / "b.pbm").write_text("P1\n3 2\n101\n0 1 1\n")
    assert gray(tmp_path / "b.pbm").tolist() == [[1, 0, 1], [0, 1, 1]]


def test_bitmaps_and_floats(tmp_path: Path) -> None:
    bits = GRAY > 100
    Image.fromarray(bits).save(tmp_path / "a.pbm")
    # There a 1 is black, which other programs turn over; here it stays as it stands.
    assert (gray(tmp_path / "a.pbm") == ~bits).all()
    values = RNG.normal(0, 1e6, (4, 3)).astype(np.float32)
    for order, scale in (("<", -1.0), (">", 1.0)):
        body = values[::-1].astype(f"{order}f4").tobytes()
        (tmp_path / "a.pfm").write_bytes(b"Pf\n3 4\n%f\n" % scale + body)
        assert (gray(tmp_path / "a.pfm") == values).all()


@pytest.mark.parametrize(
    "content",
    [b"P5\n4 4\n255\n" + bytes(15), b"P5\n4 4\n0\n" + bytes(16), b"P2\n2 1\n9\n3 x\n",
     b"P2\n2 1\n9\n3 12\n", b"P5\n4\n", b"P6\n2 2\n255\n" + bytes(11), b"Pf\n2 2\n0\n" + bytes(16)],
)  # fmt: skip
def test_damaged_anymaps_are_refused(content: bytes, tmp_path: Path) -> None:
    (tmp_path / "a.pgm").write_bytes(content)
    with pytest.raises(FileError, match=r"a\.pgm"):
        read_sample(tmp_path / "a.pgm")


# -- MRC


def write_mrc(path: Path, values: np.ndarray, *, volume: bool = True, voxel: float = 2.5) -> Path:
    with mrcfile.new(path) as file:
        file.set_data(values)
        if not volume and values.ndim == 3:
            file.set_image_stack()
        file.voxel_size = voxel
    return path


@pytest.mark.parametrize("dtype", [np.int8, np.int16, np.uint16, np.float32])
def test_mrc_of_every_number_type(dtype: Any, tmp_path: Path) -> None:
    values = (STACK % 100).astype(dtype)
    path = write_mrc(tmp_path / "a.mrc", values)
    layout = read_layout(path)
    assert (layout.z, layout.pages, layout.z_step, layout.unit) == (5, 1, 0.00025, "µm")
    for z in range(5):
        assert (gray(path, Frame(z=z)) == values[z]).all()
    sample = read_sample(path)
    assert len(sample.channels) == 5
    assert sample.first.calibration.pixel_size == pytest.approx(0.00025)


def test_mrc_stacks_of_images_and_one_image(tmp_path: Path) -> None:
    path = write_mrc(tmp_path / "a.mrcs", STACK.astype(np.int16), volume=False)
    assert read_layout(path).pages == 5
    assert (gray(path, Frame(time=3)) == STACK[3]).all()
    one = write_mrc(tmp_path / "b.mrc", STACK[0].astype(np.float32))
    assert (gray(one) == STACK[0]).all()
    path.write_bytes(path.read_bytes()[:-30])
    with pytest.raises(FileTruncated):
        gray(path, Frame(time=4))


# -- NRRD


@pytest.mark.parametrize("encoding", ["raw", "gzip", "bzip2"])
@pytest.mark.parametrize("dtype", [np.uint8, np.int16, np.uint16, np.int32, np.float32, np.float64])
def test_nrrd_of_every_type_and_packing(dtype: Any, encoding: str, tmp_path: Path) -> None:
    values = (STACK % 100).astype(dtype)
    header = {
        "encoding": encoding, "space directions": [[0.5, 0, 0], [0, 0.5, 0], [0, 0, 2.0]],
        "space units": ["um", "um", "um"], "space dimension": 3,
    }  # fmt: skip
    path = tmp_path / "a.nrrd"
    nrrd.write(str(path), values, header, index_order="C")
    layout = read_layout(path)
    assert (layout.z, layout.z_step, layout.unit) == (5, 2.0, "µm")
    assert (gray(path, Frame(z=2)) == values[2]).all()
    sample = read_sample(path)
    assert len(sample.channels) == 5 and sample.first.calibration.pixel_size == 0.5


def test_nrrd_kinds_of_axes_and_what_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "c.nrrd"
    nrrd.write(str(path), COLOURS, {"kinds": ["RGB-color", "domain", "domain"]}, index_order="C")
    assert (read_sample(path).channels["blue"].pixels == COLOURS[..., 2]).all()
    kinds = {"kinds": ["domain", "domain", "time"], "spacings": [1.0, 1.0, 4.0],
             "units": ["mm", "mm", "s"]}  # fmt: skip
    nrrd.write(str(path), STACK, kinds, index_order="C")
    assert read_layout(path).seconds == (0, 4, 8, 12, 16)
    assert (gray(path, Frame(time=4)) == STACK[4]).all()
    nrrd.write(str(tmp_path / "d.nhdr"), STACK, index_order="C")
    with pytest.raises(FileOutside, match="another file"):
        read_sample(tmp_path / "d.nhdr")
    path.write_bytes(path.read_bytes()[:-40])
    with pytest.raises(FileError, match=r"c\.nrrd"):
        read_sample(path)


# -- HDF5


def test_hdf5_arrays_are_images_of_the_file(tmp_path: Path) -> None:
    path = tmp_path / "a.h5"
    with h5py.File(path, "w") as file:
        file["raw/dark"] = GRAY
        file.create_dataset("raw/stack", data=STACK, chunks=(1, 9, 13), compression="gzip")
        file["raw/stack"].attrs["DIMENSION_LABELS"] = ["time", "y", "x"]
        file["numbers"] = np.arange(5)
        file["text"] = "hello"
        file["colour"] = COLOURS
        file["raw/again"] = h5py.SoftLink("/raw")
    sample = read_sample(path)
    titles = [title.split(":")[0] for title in sample.images]
    assert titles == ["/colour", "/raw/dark", "/raw/stack"]
    assert (sample.channels["green"].pixels == COLOURS[..., 1]).all()
    assert (gray(path, image=1) == GRAY).all()
    assert read_layout(path, 2).time == 5
    assert (gray(path, Frame(time=3), 2) == STACK[3]).all()


def test_hdf5_begins_with_the_default_of_nexus(tmp_path: Path) -> None:
    path = tmp_path / "a.nxs"
    with h5py.File(path, "w") as file:
        file["a"] = GRAY
        group = file.create_group("entry/data")
        group["counts"] = DEEP
        group.attrs["signal"] = "counts"
        group.attrs["axes"] = ["y", "x"]
        file.attrs["default"], file["entry"].attrs["default"] = "entry", "data"
        file["entry"].attrs["title"] = "A scan"
    assert (gray(path) == DEEP).all()
    assert "A scan" in str(read_sample(path).metadata)


def test_hdf5_opens_nothing_outside_itself(tmp_path: Path) -> None:
    with h5py.File(tmp_path / "other.h5", "w") as file:
        file["secret"] = GRAY
    with h5py.File(tmp_path / "a.h5", "w") as file:
        file["link"] = h5py.ExternalLink("other.h5", "/secret")
        file.create_dataset(
            "stored", (9, 13), "u1", external=[(str(tmp_path / "other.h5"), 0, 117)]
        )
        layout = h5py.VirtualLayout((9, 13), "u1")
        layout[:] = h5py.VirtualSource("other.h5", "secret", (9, 13))
        file.create_virtual_dataset("virtual", layout)
    with pytest.raises(UnsupportedKind, match="no array"):
        read_sample(tmp_path / "a.h5")


# -- DICOM


def write_dicom(path: Path, values: np.ndarray, **facts: Any) -> Path:
    data = Dataset()
    data.file_meta = FileMetaDataset()
    data.file_meta.TransferSyntaxUID = pydicom.uid.ExplicitVRLittleEndian
    data.SOPClassUID = pydicom.uid.SecondaryCaptureImageStorage
    data.SOPInstanceUID = "1.2.3"
    colour = values.shape[-1] == 3
    data.Rows, data.Columns = values.shape[-3:-1] if colour else values.shape[-2:]
    data.SamplesPerPixel = 3 if colour else 1
    if colour:
        data.PlanarConfiguration = 0
    data.PhotometricInterpretation = "RGB" if colour else "MONOCHROME2"
    data.BitsAllocated = data.BitsStored = 8 * values.itemsize
    data.HighBit, data.PixelRepresentation = data.BitsStored - 1, int(values.dtype.kind == "i")
    data.PatientName = "Somebody^Secret"
    data.Modality = "OT"
    for name, value in facts.items():
        setattr(data, name, value)
    data.PixelData = values.tobytes()
    data.save_as(path, enforce_file_format=True)
    return path


@pytest.mark.parametrize("values", [GRAY.repeat(2, axis=1), DEEP, DEEP.astype(np.int16)])
def test_dicom_pixels_and_spacing(values: np.ndarray, tmp_path: Path) -> None:
    path = write_dicom(tmp_path / "a.dcm", values, PixelSpacing=[0.4, 0.2])
    sample = read_sample(path)
    assert (sample.first.pixels == values).all() and sample.first.pixels.dtype == values.dtype
    # Row spacing, which is the height of a pixel, comes first.
    assert sample.first.calibration.sides == (200.0, 400.0)
    assert sample.first.calibration.unit == "µm"
    assert "Secret" not in str(sample.metadata) and "OT" in str(sample.metadata)


def test_dicom_is_rescaled_and_says_so(tmp_path: Path) -> None:
    facts = {"RescaleSlope": 2, "RescaleIntercept": -1024, "RescaleType": "HU", "BitsStored": 12,
             "HighBit": 11}  # fmt: skip
    sample = read_sample(write_dicom(tmp_path / "a.dcm", DEEP % 4096, **facts))
    assert (sample.first.pixels == (DEEP % 4096) * 2.0 - 1024).all()
    assert "times 2 plus -1024" in sample.notes[0] and "HU" in sample.notes[0]
    plain = read_sample(write_dicom(tmp_path / "b.dcm", DEEP % 4096, BitsStored=12, HighBit=11))
    assert plain.first.saturation == 4095


def test_dicom_frames_are_time_depth_or_asked_about(tmp_path: Path) -> None:
    values = STACK[..., :12]
    path = write_dicom(tmp_path / "t.dcm", values, NumberOfFrames=5, FrameTime=40)
    layout = read_layout(path)
    assert layout.time == 5 and layout.seconds == pytest.approx((0, 0.04, 0.08, 0.12, 0.16))
    assert (gray(path, Frame(time=3)) == values[3]).all()
    path = write_dicom(tmp_path / "z.dcm", values, NumberOfFrames=5, SpacingBetweenSlices=1.5)
    assert (read_layout(path).z, read_layout(path).z_step) == (5, 1500)
    path = write_dicom(tmp_path / "p.dcm", values, NumberOfFrames=5)
    assert read_layout(path).pages == 5 and len(read_sample(path).channels) == 5
    colours = write_dicom(tmp_path / "c.dcm", COLOURS[:, :12])
    assert (read_sample(colours).channels["red"].pixels == COLOURS[:, :12, 0]).all()
    path.write_bytes(path.read_bytes()[:-200])
    with pytest.raises(FileError, match=r"p\.dcm"):
        read_sample(path)


# -- all of them


@pytest.mark.parametrize(
    ("name", "write", "module", "package"),
    [
        ("a.mrc", lambda path: write_mrc(path, STACK.astype(np.int16)), "mrcfile", "mrcfile"),
        ("a.nrrd", lambda path: nrrd.write(str(path), STACK), "nrrd", "pynrrd"),
        ("a.dcm", lambda path: write_dicom(path, DEEP), "pydicom", "pydicom"),
    ],
)
def test_without_the_package_it_says_how_to_install_it(
    name: str, write: Callable[[Path], Any], module: str, package: str, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    write(tmp_path / name)
    monkeypatch.setitem(sys.modules, module, None)
    with pytest.raises(UnsupportedKind, match=rf"{package}.*rilievo\[formats\]"):
        read_sample(tmp_path / name)


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(4))
def test_damaged_files_are_refused_or_read(seed: int, tmp_path: Path) -> None:
    """Never another error, never the end of the process."""
    rng = np.random.default_rng(seed)
    with h5py.File(tmp_path / "a.h5", "w") as file:
        file.create_dataset("stack", data=STACK, chunks=(1, 9, 13), compression="gzip")
    write_mrc(tmp_path / "a.mrc", STACK.astype(np.int16))
    nrrd.write(str(tmp_path / "a.nrrd"), STACK)
    write_dicom(tmp_path / "a.dcm", DEEP)
    Image.fromarray(DEEP).save(tmp_path / "a.pgm")
    refused = 0
    for name, times in (("a.h5", 6), ("a.mrc", 60), ("a.nrrd", 60), ("a.dcm", 60), ("a.pgm", 60)):
        whole = (tmp_path / name).read_bytes()
        for k in range(times):
            data = bytearray(whole)
            for place in rng.integers(0, min(len(data), 1400), 4):
                data[place] = rng.integers(256)
            path = tmp_path / f"{k}-{name}"
            path.write_bytes(data[: int(rng.integers(40, len(data)))] if k % 3 == 0 else data)
            for read in (read_layout, read_sample):
                try:
                    read(path)
                except FileError:
                    refused += 1
            path.unlink()
    assert refused > 50


# -- what is damaged without a word from the libraries


def test_a_packed_nrrd_is_checked_to_its_end(tmp_path: Path) -> None:
    path = tmp_path / "a.nrrd"
    nrrd.write(str(path), DEEP, {"encoding": "gzip"}, index_order="C")
    data = bytearray(path.read_bytes())
    # The last eight bytes are the checksum and the length.
    data[-8] ^= 1
    path.write_bytes(data)
    with pytest.raises(FileError, match="cannot be unpacked"):
        read_sample(path)
    data[-8] ^= 1
    path.write_bytes(data[:-4])
    with pytest.raises(FileTruncated):
        read_sample(path)
    nrrd.write(str(path), DEEP, {"encoding": "gzip"}, index_order="C")
    path.write_bytes(path.read_bytes().replace(b"sizes: 13 9", b"sizes: 13 8"))
    with pytest.raises(FileError, match="more numbers than its header says"):
        read_sample(path)


def test_blocks_of_hdf5_that_were_never_written_are_undefined(tmp_path: Path) -> None:
    path = tmp_path / "a.h5"
    values = RNG.integers(1, 4000, (3, 20, 30)).astype(np.uint16)
    with h5py.File(path, "w") as file:
        array = file.create_dataset("data", shape=values.shape, dtype="u2", chunks=(1, 8, 16))
        array[0] = values[0]
        array[2, 8:, 16:] = values[2, 8:, 16:]
        file.create_dataset("nothing", shape=(20, 30), dtype="f4")
    whole = read_sample(path, frame=Frame(time=0))
    assert not whole.defects
    np.testing.assert_array_equal(whole.first.pixels, values[0])
    part = read_sample(path, frame=Frame(time=2))
    inside = np.zeros((20, 30), bool)
    inside[8:, 16:] = True
    np.testing.assert_array_equal(np.isfinite(part.first.pixels), inside)
    np.testing.assert_array_equal(part.first.pixels[inside], values[2][inside])
    assert "blocks that are not in the file" in part.defects[0].text
    for image, frame in ((0, Frame(time=1)), (1, None)):
        with pytest.raises(FileTruncated, match="does not hold its pixels"):
            read_sample(path, image, frame)


def test_an_hdf5_file_whose_index_lists_a_block_twice_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.h5"
    values = RNG.integers(1, 4000, (90, 110)).astype(np.uint16)
    with h5py.File(path, "w") as file:
        file.create_dataset("data", data=values, chunks=(45, 55), fletcher32=True)
    data = bytearray(path.read_bytes())
    # The key of the last block: its size, its filters, and where it begins along each axis.
    key = data.rindex(struct.pack("<IIQQQ", 45 * 55 * 2 + 4, 0, 45, 55, 0))
    data[key + 8 : key + 32] = bytes(24)
    path.write_bytes(data)
    with pytest.raises(FileError, match="damaged index of its blocks"):
        read_sample(path)
