"""What a file names and does not hold is undefined and said; it is never measured."""

from __future__ import annotations

import json
import struct
import warnings
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
import tifffile
import zarr
from astropy.io import fits
from PIL import Image

from rilievo.core.errors import FileTruncated, NotAnImage
from rilievo.core.files import read_sample
from rilievo.core.image.image import DAMAGED, MISSING, ROUNDED, Sample
from rilievo.core.measure.region_flags import marks_in
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.checks import check_sample
from rilievo.core.pipeline.provenance import metadata_of
from tests.outlines import outline

# No pixel is 0, so that a zero is something that was made up.
PIXELS = (np.arange(200 * 300) % 4000 + 100).astype(np.uint16).reshape(200, 300)
NOW = datetime(2026, 1, 1, tzinfo=UTC)
OFFSETS = {"strip": 273, "tile": 324}
COUNTS = {"strip": 279, "tile": 325}


def blank_entry(path: Path, tag: int, index: int) -> None:
    """Write 0 for one strip or tile in a list of a directory."""
    with tifffile.TiffFile(path) as file:
        found = file.pages[0].tags[tag]
        kind = {3: "H", 4: "I", 16: "Q"}[found.dtype]
        place, order = found.valueoffset, file.byteorder
    with path.open("r+b") as raw:
        raw.seek(place + index * struct.calcsize(kind))
        raw.write(struct.pack(order + kind, 0))


def undefined(sample: Sample, channel: str = "gray") -> np.ndarray:
    return np.isnan(sample.channels[channel].as_float())


@pytest.mark.parametrize("packed", [None, "zlib", "lzw"])
@pytest.mark.parametrize("piece", ["strip", "tile"])
@pytest.mark.parametrize("lists", [OFFSETS, COUNTS], ids=["no place", "no bytes"])
def test_a_strip_or_tile_that_is_not_there_is_undefined(
    tmp_path: Path, packed: str | None, piece: str, lists: dict[str, int]
) -> None:
    path = tmp_path / "a.tif"
    how = {"rowsperstrip": 20} if piece == "strip" else {"tile": (64, 64)}
    tifffile.imwrite(path, PIXELS, compression=packed, **how)
    blank_entry(path, lists[piece], 3)
    sample = read_sample(path)
    missing = np.zeros(PIXELS.shape, bool)
    if piece == "strip":
        missing[60:80] = True
    else:
        missing[:64, 192:256] = True
    np.testing.assert_array_equal(undefined(sample), missing)
    values = sample.channels["gray"].pixels
    np.testing.assert_array_equal(values[~missing], PIXELS[~missing])
    (defect,) = sample.defects
    assert (defect.kind, defect.channel, defect.pixels) == (MISSING, "gray", missing.sum())
    assert "“a.tif”" in defect.text
    assert f"{missing.sum()} of 60000" in defect.text
    plane = sample.channels["gray"]
    assert plane.saturation == 65535
    assert plane.type_range == (0, 65535)
    assert plane.file_dtype == np.uint16


def test_a_file_without_any_strip_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, PIXELS, rowsperstrip=200)
    blank_entry(path, OFFSETS["strip"], 0)
    with pytest.raises(FileTruncated, match=r"“a.tif” does not hold its pixels"):
        read_sample(path)


def test_a_missing_strip_of_one_colour_is_missing_in_all(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    colours = np.stack([PIXELS, PIXELS + 1, PIXELS + 2])
    tifffile.imwrite(path, colours, photometric="rgb", planarconfig="separate", rowsperstrip=20)
    blank_entry(path, OFFSETS["strip"], 13)  # the fourth strip of green
    sample = read_sample(path)
    for name in ("red", "green", "blue", "brightness"):
        rows = np.flatnonzero(undefined(sample, name).all(axis=1))
        assert (rows[0], rows[-1], len(rows)) == (60, 79, 20)


def ome(path: Path, planes: int, said: int) -> Path:
    tifffile.imwrite(
        path, np.stack([PIXELS] * planes), photometric="minisblack", metadata={"axes": "CYX"}
    )
    content = path.read_bytes()
    path.write_bytes(content.replace(b'SizeC="%d"' % planes, b'SizeC="%d"' % said))
    return path


def test_planes_that_only_the_ome_xml_has_are_left_out_and_said(tmp_path: Path) -> None:
    sample = read_sample(ome(tmp_path / "a.ome.tif", 2, 3))
    assert len(sample.channels) == 2
    (defect,) = sample.defects
    assert defect.kind == MISSING
    assert "“channel 3” is not in the file and is left out" in defect.text
    assert [c.severity for c in check_sample(sample) if c.kind == MISSING] == ["serious"]


def ome_set(folder: Path) -> list[Path]:
    """A set of two files, a plane each, told of by both."""
    folder.mkdir(exist_ok=True)
    names, uuids = ["one.ome.tif", "two.ome.tif"], ["urn:uuid:1", "urn:uuid:2"]
    blocks = "".join(
        f'<TiffData FirstC="{i}" IFD="0" PlaneCount="1">'
        f'<UUID FileName="{name}">{uuid}</UUID></TiffData>'
        for i, (name, uuid) in enumerate(zip(names, uuids, strict=True))
    )
    for k, name in enumerate(names):
        xml = (
            '<?xml version="1.0"?><OME xmlns="http://www.openmicroscopy.org/Schemas/OME/2016-06" '
            f'UUID="{uuids[k]}"><Image ID="Image:0"><Pixels ID="Pixels:0" DimensionOrder="XYZCT" '
            'Type="uint16" SizeX="300" SizeY="200" SizeC="2" SizeZ="1" SizeT="1">'
            '<Channel ID="Channel:0" Name="dye"/><Channel ID="Channel:1" Name="light"/>'
            f"{blocks}</Pixels></Image></OME>"
        )
        tifffile.imwrite(
            folder / name, PIXELS + k, description=xml.encode(), metadata=None, software="none"
        )
    return [folder / name for name in names]


def test_a_set_is_read_and_a_missing_file_of_it_is_said(tmp_path: Path) -> None:
    first, second = ome_set(tmp_path / "set")
    whole = read_sample(first)
    np.testing.assert_array_equal(whole.channels["light"].pixels, PIXELS + 1)
    assert not whole.defects
    second.unlink()
    sample = read_sample(first)
    assert list(sample.channels) == ["dye"]
    assert "“light” is not in the file" in sample.defects[0].text


@pytest.mark.parametrize("version", [2, 3])
@pytest.mark.parametrize("kind", ["uint16", "float32"])
def test_a_block_that_is_not_in_the_folder_is_undefined(
    tmp_path: Path, version: int, kind: str
) -> None:
    path = zarr_folder(tmp_path / "a.zarr", version, kind)
    assert not read_sample(path).defects
    lost = path / "0" / ("1.2.3" if version == 2 else "c/1/2/3")
    lost.unlink()
    sample = read_sample(path)
    missing = np.zeros(PIXELS.shape, bool)
    missing[100:150, 150:200] = True
    np.testing.assert_array_equal(undefined(sample, "channel 2"), missing)
    assert not undefined(sample, "channel 1").any()
    assert [d.channel for d in sample.defects] == ["channel 2"]


def test_blocks_that_are_missing_inside_a_shard_are_undefined(tmp_path: Path) -> None:
    path = zarr_folder(tmp_path / "a.zarr", 3, "uint16", shards=(1, 100, 100), rows=50)
    sample = read_sample(path)
    assert undefined(sample, "channel 1")[50:].all()
    assert not undefined(sample, "channel 1")[:50].any()


def zarr_folder(
    path: Path, version: int, kind: str, shards: tuple[int, ...] | None = None, rows: int = 200
) -> Path:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        group = zarr.open_group(str(path), mode="w", zarr_format=version)
        array = group.create_array(
            "0", shape=(2, 200, 300), chunks=(1, 50, 50), shards=shards, dtype=kind
        )
        array[:, :rows] = np.stack([PIXELS, PIXELS])[:, :rows]
        axes = [{"name": n, "type": "channel" if n == "c" else "space"} for n in "cyx"]
        scales = [{"axes": axes, "datasets": [{"path": "0"}], "version": "0.4"}]
        if version == 2:
            group.attrs["multiscales"] = scales
        else:
            group.attrs["ome"] = {"multiscales": scales, "version": "0.5"}
    return path


@pytest.mark.parametrize("packed", [False, True])
def test_the_sums_of_a_fits_file_are_verified(tmp_path: Path, packed: bool) -> None:
    path = tmp_path / "a.fits"
    image = (
        fits.CompImageHDU(PIXELS, compression_type="GZIP_1") if packed else fits.ImageHDU(PIXELS)
    )
    fits.HDUList([fits.PrimaryHDU(), image]).writeto(path, checksum=True)
    assert not read_sample(path).defects
    content = bytearray(path.read_bytes())
    with fits.open(path, disable_image_compression=True) as units:
        data, header = units[1].fileinfo()["datLoc"], units[1].fileinfo()["hdrLoc"]
    # Of a packed image, the heap after the table holds nothing that is not packed pixels.
    content[data + (8 if packed else 5000)] ^= 4
    path.write_bytes(content)
    try:
        sample = read_sample(path)
    except NotAnImage:
        assert packed
    else:
        assert [d.kind for d in sample.defects] == [DAMAGED]
        assert "DATASUM" in sample.defects[0].text
    content[data + (8 if packed else 5000)] ^= 4
    content[header + 40] ^= 1  # a comment of the header
    path.write_bytes(content)
    assert "(CHECKSUM)" in read_sample(path).defects[0].text


def photograph(path: Path, **options: object) -> bytearray:
    y, x = np.mgrid[:200, :300]
    gray = (120 + 60 * np.sin(x / 15) + 30 * np.cos(y / 9)).astype(np.uint8)
    gray ^= np.random.default_rng(0).integers(0, 8, gray.shape, dtype=np.uint8)
    Image.fromarray(gray).save(path, **options)
    assert not read_sample(path).defects
    return bytearray(path.read_bytes())


def test_a_half_decoded_jpeg_is_said(tmp_path: Path) -> None:
    content = photograph(tmp_path / "a.jpg")
    middle = len(content) // 2
    content[middle : middle + 40] = bytes(40)
    (tmp_path / "a.jpg").write_bytes(content)
    (defect,) = read_sample(tmp_path / "a.jpg").defects
    assert defect.kind == DAMAGED
    assert "“a.jpg” is damaged: the decoder says" in defect.text


@pytest.mark.parametrize("place", [0.3, 0.6, 0.9])
def test_a_png_is_read_whole_or_not_at_all(tmp_path: Path, place: float) -> None:
    content = photograph(tmp_path / "a.png")
    content[int(len(content) * place)] ^= 16
    (tmp_path / "a.png").write_bytes(content)
    with pytest.raises(NotAnImage, match=r"“a.png” is a PNG with damaged data"):
        read_sample(tmp_path / "a.png")


@pytest.mark.parametrize("name", ["a.bmp", "a.webp", "a.npy"])
def test_a_file_of_another_length_than_it_says_is_said(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    if name == "a.npy":
        np.save(path, PIXELS)
        content = bytearray(path.read_bytes())
    else:
        content = photograph(path)
    path.write_bytes(content + bytes(6))
    assert [d.kind for d in read_sample(path).defects] == [DAMAGED]


def damaged_strips(path: Path, change: Callable[[list[int]], list[int]]) -> Path:
    tifffile.imwrite(path, PIXELS, rowsperstrip=20)
    with tifffile.TiffFile(path) as file:
        tag = file.pages[0].tags["StripOffsets"]
        place, values = tag.valueoffset, list(tag.value)
    with path.open("r+b") as raw:
        raw.seek(place)
        raw.write(struct.pack(f"<{len(values)}I", *change(values)))
    return path


def test_strips_that_overlap_are_said(tmp_path: Path) -> None:
    path = damaged_strips(tmp_path / "a.tif", lambda v: [v[0], v[1] - 600, *v[2:]])
    assert "its strips or tiles overlap" in read_sample(path).defects[0].text


def test_a_cut_behind_the_first_page_is_said(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    with tifffile.TiffWriter(path) as writer:
        for _ in range(2):
            writer.write(PIXELS, contiguous=False, metadata=None)
    with tifffile.TiffFile(path) as file:
        end = file.pages[1].offset
    path.write_bytes(path.read_bytes()[:end])
    sample = read_sample(path)
    assert list(sample.channels) == ["gray"]
    assert "it was cut" in sample.defects[0].text


def test_integers_beyond_what_floats_hold_are_marked(tmp_path: Path) -> None:
    values = PIXELS.astype(np.int64)
    values[0, :3] = 2**53, 2**53 + 1, -(2**53) - 1
    np.save(tmp_path / "a.npy", values)
    (defect,) = read_sample(tmp_path / "a.npy").defects
    assert (defect.kind, defect.pixels) == (ROUNDED, 2)
    values[0, :3] = 1
    np.save(tmp_path / "a.npy", values)
    assert not read_sample(tmp_path / "a.npy").defects


def test_missing_pixels_are_in_no_number_and_in_the_metadata(tmp_path: Path) -> None:
    """Where strips are lost, the regions and their numbers are those of the pixels left."""
    pixels = np.full((200, 300), 100, np.uint16)
    pixels[30:90, 40:100] = 1000
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, pixels, rowsperstrip=20)
    blank_entry(path, OFFSETS["strip"], 3)
    method = Method(outlines=(outline(500.0),), measure=Measure(quantities=("area", "mean", "sum")))
    cache = AnalysisCache()
    sample = read_sample(path)
    table = Analysis(sample, method, cache).table()
    columns = table.columns["gray"]
    # Rows 30 to 59 and 80 to 89 of the square are left: two regions.
    np.testing.assert_array_equal(columns["area"], [30 * 60, 10 * 60])
    np.testing.assert_array_equal(columns["mean"], [1000, 1000])
    # Both end where the strip is missing, and say so.
    assert [marks_in(int(flags)) for flags in table.flags["gray"]] == [("beside undefined",)] * 2
    metadata = metadata_of([table], method, {}, NOW, check_sample(sample))
    assert [(d["sample"], d["kind"]) for d in metadata["defects"]] == [("a", MISSING)]
    assert "6000 of 60000" in json.dumps(metadata["defects"])
