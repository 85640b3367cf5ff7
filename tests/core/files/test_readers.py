"""Every kind of file that is read, and a sentence for every one that is not."""

from __future__ import annotations

import copy
import io
import struct
import zlib
from collections.abc import Callable
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
import tifffile
from astropy.io import fits
from PIL import Image

from rilievo.core import errors
from rilievo.core.files import READERS, images_below, read_sample, sample_name
from rilievo.core.files import reader_helpers as shared
from rilievo.core.files.reader_helpers import LUMA_WEIGHTS, unique_names

RNG = np.random.default_rng(3)


def values(dtype: str, shape: tuple[int, ...] = (7, 9)) -> np.ndarray:
    if np.dtype(dtype).kind == "f":
        return RNG.normal(0, 1e3, shape).astype(dtype)
    info = np.iinfo(dtype)
    pixels = RNG.integers(info.min, info.max, shape, dtype=dtype, endpoint=True)
    pixels.flat[:2] = info.min, info.max
    return pixels


@pytest.mark.parametrize(
    "dtype", ["uint8", "int8", "uint16", "int16", "uint32", "int32", "float32", "float64"]
)
@pytest.mark.parametrize("order", ["<", ">"])
def test_gray_tiff_keeps_every_value(write_tiff: Callable, dtype: str, order: str) -> None:
    pixels = values(dtype)
    sample = read_sample(write_tiff("a.tif", pixels, byteorder=order))
    assert sample.channel_names == ("gray",)
    plane = sample.channels["gray"]
    assert plane.pixels.dtype == np.dtype(dtype)
    np.testing.assert_array_equal(plane.pixels, pixels)
    np.testing.assert_array_equal(plane.as_float().astype(np.float64), pixels.astype(np.float64))


def test_pages_become_channels(write_tiff: Callable) -> None:
    pixels = values("uint16", (3, 5, 6))
    sample = read_sample(write_tiff("a.tif", pixels, photometric="minisblack"))
    assert sample.channel_names == ("page 1", "page 2", "page 3")
    np.testing.assert_array_equal(sample.channels["page 2"].pixels, pixels[1])


def test_ome_tiff_gives_names_size_and_depth(write_tiff: Callable) -> None:
    pixels = values("uint16", (2, 6, 8)) % 4096
    metadata = {
        "axes": "CYX",
        "Channel": {"Name": ["nuclei", "stain"]},
        "PhysicalSizeX": 0.25,
        "PhysicalSizeXUnit": "µm",
        "SignificantBits": 12,
    }
    path = write_tiff("a.ome.tif", pixels, ome=True, photometric="minisblack", metadata=metadata)
    sample = read_sample(path)
    assert sample.name == "a"
    assert sample.channel_names == ("nuclei", "stain")
    plane = sample.channels["stain"]
    assert (plane.calibration.pixel_size, plane.calibration.unit) == (0.25, "µm")
    assert plane.saturation == 4095
    np.testing.assert_array_equal(plane.pixels, pixels[1])


def test_resolution_per_centimetre_is_a_pixel_size(write_tiff: Callable) -> None:
    path = write_tiff(
        "a.tif", values("uint8"), resolution=(20000, 20000), resolutionunit="CENTIMETER"
    )
    assert read_sample(path).first.calibration.pixel_size == pytest.approx(0.5)
    inches = write_tiff("b.tif", values("uint8"), resolution=(300, 300), resolutionunit="INCH")
    assert read_sample(inches).first.calibration.pixel_size is None


@pytest.mark.parametrize("planar", ["contig", "separate"])
def test_rgb_tiff_has_colours_and_brightness(write_tiff: Callable, planar: str) -> None:
    pixels = values("uint8", (7, 9, 3))
    stored = pixels if planar == "contig" else np.moveaxis(pixels, 2, 0)
    path = write_tiff("a.tif", stored, photometric="rgb", planarconfig=planar)
    sample = read_sample(path)
    assert sample.channel_names == ("red", "green", "blue", "brightness")
    np.testing.assert_array_equal(sample.channels["green"].pixels, pixels[..., 1])
    expected = pixels.astype(np.float64) @ np.array(LUMA_WEIGHTS)
    np.testing.assert_allclose(sample.channels["brightness"].pixels, expected, rtol=1e-6)
    assert sample.channels["brightness"].saturation == 255


@pytest.mark.parametrize("dtype", ["uint8", "uint16"])
@pytest.mark.parametrize("depth", [1, 2, 3, 4])
def test_png_of_every_kind(tmp_path: Path, dtype: str, depth: int) -> None:
    pixels = values(dtype, (5, 6, depth) if depth > 1 else (5, 6))
    path = tmp_path / "a.png"
    path.write_bytes(imagecodecs.png_encode(pixels))
    sample = read_sample(path)
    colour = depth >= 3
    first = pixels[..., 0] if depth > 1 else pixels
    name = "red" if colour else "gray"
    np.testing.assert_array_equal(sample.channels[name].pixels, first)
    assert ("brightness" in sample.channels) == colour
    assert bool(sample.notes) == (depth in (2, 4))


def test_fits_scaling_and_blank(tmp_path: Path) -> None:
    stored = np.array([[0, 1, 2], [3, 4, -32768]], np.int16)
    unit = fits.PrimaryHDU(stored)
    unit.header["BSCALE"], unit.header["BZERO"], unit.header["BLANK"] = 0.5, 10.0, -32768
    unit.header["FILTER"], unit.header["EXPTIME"] = "V", 30.0
    # The cards must reach the file as they are: astropy would otherwise scale the data.
    path = tmp_path / "a.fits"
    header = unit.header.copy()
    for card in ("BSCALE", "BZERO"):
        header.remove(card, ignore_missing=True)
    fits.PrimaryHDU(stored, header).writeto(path)
    data = path.read_bytes()
    end = data.index(b"END" + b" " * 77)
    cards = b"".join(
        f"{name:<8}= {value:>20}".ljust(80).encode()
        for name, value in (("BSCALE", 0.5), ("BZERO", 10.0))
    )
    head = (data[:end] + cards + b"END").ljust(2880)
    path.write_bytes(head + data[2880:])
    sample = read_sample(path)
    expected = stored * 0.5 + 10.0
    expected[1, 2] = np.nan
    np.testing.assert_array_equal(sample.first.pixels, expected)
    assert sample.bottom_up
    assert sample.attributes == {"filter": "V", "exposure": "30.0"}


def test_fits_unsigned_and_float(tmp_path: Path) -> None:
    unsigned = values("uint16")
    fits.PrimaryHDU(unsigned).writeto(tmp_path / "u.fits")
    plane = read_sample(tmp_path / "u.fits").first
    np.testing.assert_array_equal(plane.pixels, unsigned)
    assert plane.pixels.dtype == np.uint16
    cube = values("float64", (2, 4, 5))
    units = fits.HDUList([fits.PrimaryHDU(), fits.ImageHDU(cube)])
    units.writeto(tmp_path / "c.fit")
    sample = read_sample(tmp_path / "c.fit")
    assert sample.channel_names == ("plane 1", "plane 2")
    np.testing.assert_array_equal(sample.channels["plane 2"].pixels, cube[1])


def png_header(width: int, height: int) -> bytes:
    body = struct.pack(">IIBBBBB", width, height, 16, 0, 0, 0, 0)
    chunk = b"IHDR" + body
    return (
        b"\x89PNG\r\n\x1a\n"
        + struct.pack(">I", len(body))
        + chunk
        + struct.pack(">I", zlib.crc32(chunk))
    )


def encoded(pixels: np.ndarray, kind: str, **options: object) -> bytes:
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, kind, **options)
    return buffer.getvalue()


@pytest.mark.parametrize("colour", [False, True])
@pytest.mark.parametrize(
    ("kind", "suffix", "options", "lossy"),
    [
        ("JPEG", "jpg", {"quality": 95}, True),
        ("WEBP", "webp", {"quality": 90}, True),
        ("WEBP", "webp", {"lossless": True}, False),
        ("BMP", "bmp", {}, False),
    ],
)
def test_photographs(
    tmp_path: Path, colour: bool, kind: str, suffix: str, options: dict, lossy: bool
) -> None:
    row = np.linspace(0, 255, 40).astype(np.uint8)
    pixels = np.tile(row, (30, 1))
    if colour or kind == "WEBP":
        pixels = np.stack([pixels, pixels[:, ::-1], pixels // 2], axis=-1)
    path = tmp_path / f"a.{suffix}"
    path.write_bytes(encoded(pixels, kind, **options))
    sample = read_sample(path)
    assert any("altered pixel values" in note for note in sample.notes) == lossy
    name, expected = ("green", pixels[..., 1]) if pixels.ndim == 3 else ("gray", pixels)
    found = sample.channels[name].pixels.astype(int)
    assert np.abs(found - expected).max() <= (12 if lossy else 0)


def test_numpy_arrays(tmp_path: Path) -> None:
    for name, pixels, channels in (
        ("plane", values("float64"), ("gray",)),
        ("stack", values("uint16", (2, 7, 9)), ("plane 1", "plane 2")),
        ("colour", values("uint8", (7, 9, 3)), ("red", "green", "blue", "brightness")),
        ("big", values("int16").astype(">i2"), ("gray",)),
    ):
        np.save(tmp_path / f"{name}.npy", pixels)
        sample = read_sample(tmp_path / f"{name}.npy")
        assert sample.channel_names == channels
        first = pixels if pixels.ndim == 2 else pixels[0] if len(channels) == 2 else pixels[..., 0]
        np.testing.assert_array_equal(sample.first.pixels, first)


@pytest.mark.parametrize(
    "options",
    [
        {"compression": "lzw"},
        {"compression": "zlib", "predictor": True},
        {"compression": "zstd"},
        {"tile": (16, 16)},
        {"bigtiff": True},
        {"tile": (32, 32), "compression": "lzw", "byteorder": ">"},
    ],
)
def test_common_forms_of_tiff(write_tiff: Callable, options: dict) -> None:
    pixels = values("uint16", (50, 70))
    sample = read_sample(write_tiff("a.tif", pixels, **options))
    np.testing.assert_array_equal(sample.first.pixels, pixels)
    assert sample.notes == []


def test_tiff_depths_below_the_type(write_tiff: Callable) -> None:
    one = RNG.random((9, 16)) > 0.5
    sample = read_sample(write_tiff("one.tif", one))
    np.testing.assert_array_equal(sample.first.pixels, one.astype(np.uint8))
    twelve = (values("uint16", (8, 16)) % 4096).astype(np.uint16)
    path = write_tiff("twelve.tif", twelve, bitspersample=12, compression="none")
    sample = read_sample(path)
    np.testing.assert_array_equal(sample.first.pixels, twelve)
    assert sample.first.saturation == 4095
    half = RNG.normal(size=(5, 6)).astype(np.float16)
    found = read_sample(write_tiff("half.tif", half)).first.pixels
    np.testing.assert_array_equal(found, half.astype(np.float32))


def test_colour_tables_and_lossy_tiff(write_tiff: Callable) -> None:
    table = np.zeros((3, 256), np.uint16)
    table[0], table[1] = np.arange(256) * 257, 255 * 257
    numbers = values("uint8", (6, 7))
    sample = read_sample(write_tiff("p.tif", numbers, colormap=table))
    np.testing.assert_array_equal(sample.channels["red"].pixels, numbers)
    assert sample.channels["red"].pixels.dtype == np.uint8
    assert "colour table" in sample.notes[0]
    lossy = write_tiff("j.tif", values("uint8", (32, 32)), compression="jpeg")
    assert "altered pixel values" in read_sample(lossy).notes[0]


def test_the_largest_level_of_a_pyramid_is_taken(tmp_path: Path) -> None:
    full = values("uint16", (64, 64))
    with tifffile.TiffWriter(tmp_path / "p.ome.tif") as file:
        file.write(full, subifds=1, metadata={"axes": "YX"})
        file.write(full[::2, ::2], subfiletype=1)
    np.testing.assert_array_equal(read_sample(tmp_path / "p.ome.tif").first.pixels, full)


def broken_files(folder: Path) -> dict[str, tuple[Path, type[errors.FileError]]]:
    def put(name: str, content: bytes) -> Path:
        (folder / name).write_bytes(content)
        return folder / name

    tifffile.imwrite(folder / "whole.tif", values("uint16", (64, 64)))
    tiff = (folder / "whole.tif").read_bytes()
    png = imagecodecs.png_encode(values("uint8", (64, 64)))
    fits.PrimaryHDU(values("int16", (64, 64))).writeto(folder / "whole.fits")
    tifffile.imwrite(folder / "complex.tif", np.ones((4, 4), np.complex64))
    jpeg = encoded(values("uint8", (64, 64, 3)), "JPEG")
    np.save(folder / "whole.npy", values("uint16", (64, 64)))
    npy = (folder / "whole.npy").read_bytes()
    np.save(folder / "objects.npy", np.array([[{}, 1]], object))
    np.save(folder / "line.npy", np.arange(9))
    fits.PrimaryHDU().writeto(folder / "nothing.fits")
    fits.PrimaryHDU(np.ones(9, np.float32)).writeto(folder / "spectrum.fits")
    return {
        "missing": (folder / "no such.tif", errors.FileMissing),
        "folder": (folder, errors.NotAnImage),
        "empty": (put("empty.tif", b""), errors.FileEmpty),
        "text": (put("text.tif", b"sample,mean\n1,2\n"), errors.NotAnImage),
        "cut tiff": (put("cut.tif", tiff[: len(tiff) // 2]), errors.FileTruncated),
        "cut tiff head": (put("head.tif", tiff[:6]), errors.FileTruncated),
        "cut png": (put("cut.png", png[: len(png) // 2]), errors.FileTruncated),
        "cut png head": (put("head.png", png[:20]), errors.FileTruncated),
        "cut fits": (
            put("cut.fits", (folder / "whole.fits").read_bytes()[:4000]),
            errors.FileTruncated,
        ),
        "huge png": (put("huge.png", png_header(2**30, 2**30)), errors.TooLarge),
        "no pixel png": (put("zero.png", png_header(0, 5)), errors.FileEmpty),
        "complex": (folder / "complex.tif", errors.UnsupportedKind),
        "gif": (put("a.gif", b"GIF89a" + bytes(60)), errors.UnsupportedKind),
        "broken jpeg": (put("a.jpg", b"\xff\xd8\xff\xe0" + bytes(60)), errors.NotAnImage),
        "cut jpeg": (put("cut.jpg", jpeg[: len(jpeg) // 2]), errors.FileTruncated),
        "cut npy": (put("cut.npy", npy[: len(npy) // 2]), errors.FileTruncated),
        "npy of objects": (folder / "objects.npy", errors.UnsupportedKind),
        "npy of one axis": (folder / "line.npy", errors.UnsupportedKind),
        "no image": (folder / "nothing.fits", errors.FileEmpty),
        "spectrum": (folder / "spectrum.fits", errors.UnsupportedKind),
    }


KINDS = [
    "missing", "folder", "empty", "text", "cut tiff", "cut tiff head", "cut png",
    "cut png head", "cut fits", "huge png", "no pixel png", "complex", "gif", "broken jpeg",
    "cut jpeg", "cut npy", "npy of objects", "npy of one axis", "no image", "spectrum",
]  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
def test_a_file_that_cannot_be_read_says_which_and_what_to_do(tmp_path: Path, kind: str) -> None:
    cases = broken_files(tmp_path)
    assert set(cases) == set(KINDS)
    path, expected = cases[kind]
    with pytest.raises(expected) as caught:
        read_sample(path)
    sentence = str(caught.value)
    assert path.name in sentence
    assert ";" in sentence, "the remedy follows the problem"
    assert sentence.endswith(".")
    assert "\n" not in sentence


def test_a_cut_photograph_is_refused_whatever_other_packages_allow(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("PIL.ImageFile.LOAD_TRUNCATED_IMAGES", True)
    path, expected = broken_files(tmp_path)["cut jpeg"]
    with pytest.raises(expected):
        read_sample(path)


def test_a_file_that_the_system_refuses(
    write_tiff: Callable, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = write_tiff("locked.tif", values("uint8"))

    def refuse(*_: object, **__: object) -> None:
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr(Path, "open", refuse)
    with pytest.raises(errors.FileUnreadable, match=r"locked\.tif.*Permission denied.*permissions"):
        read_sample(path)


def test_more_pixels_than_memory_are_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, write_tiff: Callable
) -> None:
    path = write_tiff("a.tif", values("uint16", (2000, 2000)))
    monkeypatch.setattr(shared, "available_memory", lambda: 20_000_000)
    with pytest.raises(errors.TooLarge, match=r"a\.tif.*GB"):
        read_sample(path)


@pytest.mark.parametrize("kind", ["tif", "png", "fits", "jpg", "webp", "bmp", "npy"])
def test_damaged_bytes_never_escape_as_another_error(tmp_path: Path, kind: str) -> None:
    path = tmp_path / f"a.{kind}"
    pixels = values("uint16", (32, 32))
    if kind == "tif":
        tifffile.imwrite(path, pixels, compression="zlib")
    elif kind == "png":
        path.write_bytes(imagecodecs.png_encode(pixels))
    elif kind == "fits":
        fits.PrimaryHDU(pixels).writeto(path)
    elif kind == "npy":
        np.save(path, pixels)
    else:
        names = {"jpg": "JPEG", "webp": "WEBP", "bmp": "BMP"}
        path.write_bytes(encoded(values("uint8", (32, 32, 3)), names[kind]))
    whole = bytearray(path.read_bytes())
    rng = np.random.default_rng(1)
    refused = 0
    for _ in range(60):
        damaged = whole.copy()
        for index in rng.integers(0, min(len(whole), 600), 6):
            damaged[index] = rng.integers(256)
        path.write_bytes(damaged)
        try:
            read_sample(path)
        except errors.FileError as exc:
            refused += 1
            assert path.name in str(exc)
    assert refused > 0


def test_errors_survive_the_way_between_processes() -> None:
    error = errors.FileTruncated("a/b.tif", "ends early", "copy it again")
    again = copy.copy(error)  # takes it apart and together, as a process pool does
    assert isinstance(again, errors.FileTruncated)
    assert str(again) == str(error)


def test_folders_are_searched_and_named_files_kept(write_tiff: Callable, tmp_path: Path) -> None:
    inner = write_tiff("a/b/c.tif", values("uint8"))
    (tmp_path / "a" / "notes.txt").write_text("x")
    odd = tmp_path / "odd.xyz"
    assert images_below([tmp_path / "a", odd]) == [inner, odd]


def test_names() -> None:
    assert sample_name(Path("x/a.b.ome.tif")) == "a.b"
    assert sample_name(Path("A.TIF")) == "A"
    assert unique_names(["a", "b", "a", "a"]) == ["a", "b", "a (2)", "a (3)"]


def test_readers_say_what_they_are() -> None:
    pictures = {"tiff", "png", "fits", "jpeg", "webp", "bmp", "anymap", "npy", "zarr"}
    assert set(READERS) == pictures | {"mrc", "nrrd", "hdf5", "dicom", "raw"}
    for reader in READERS.values():
        assert reader.title
        assert all(suffix.startswith(".") for suffix in reader.suffixes)
