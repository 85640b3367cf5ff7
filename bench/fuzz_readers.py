"""Damaged files over every reader: what becomes of them, how long it takes, how much memory.

    python bench/fuzz_readers.py [FILES] [--write]

Each file is read in a process of its own kind, so that a crash or a file without end is counted
and does not end the run. With --write, the table goes into docs/reliability.md.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import multiprocessing
import os
import shutil
import signal
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from astropy.io import fits
from PIL import Image

from rilievo.core.errors import RilievoError
from rilievo.core.files import read_sample
from rilievo.core.image.image import Sample

MOST_SECONDS, MOST_BYTES = 10.0, 1_000_000_000
_GIVEN_UP = 20
OUTCOMES = (
    "refused",
    "read, and said",
    "same pixels",
    "other values, no checksum",
    "SILENT",
    "over 10 s",
    "over 1 GB",
    "crash",
)


@dataclass(frozen=True)
class Original:
    """An undamaged file. checked : whether its format has a checksum over its pixels."""

    name: str
    file: str
    write: Callable[[Path], None]
    checked: bool = False


def picture(dtype: str = "uint16", shape: tuple[int, ...] = (90, 110)) -> np.ndarray[Any, Any]:
    """Return a synthetic picture in which no value is zero: blobs on a sloping background."""
    rng = np.random.default_rng(5)
    y, x = np.mgrid[: shape[-2], : shape[-1]]
    values = 90 + 0.2 * x + 40 * np.exp(-((x - 40) ** 2 + (y - 50) ** 2) / 200)
    values = values + rng.normal(0, 3, shape)
    if np.dtype(dtype).itemsize > 1:
        values = values * 20
    return values.clip(1, 255 if dtype == "uint8" else None).astype(dtype)


def _tiff(**options: Any) -> Callable[[Path], None]:
    shape = options.pop("shape", (90, 110))
    dtype = options.pop("dtype", "uint16")
    return lambda path: tifffile.imwrite(path, picture(dtype, shape), **options)


def _fits(sums: bool, compressed: str = "") -> Callable[[Path], None]:
    def write(path: Path) -> None:
        if compressed:
            image = fits.CompImageHDU(
                picture("int16"), compression_type=compressed, tile_shape=(15, 110)
            )
            units = [fits.PrimaryHDU(), image]
        else:
            units = [fits.PrimaryHDU(picture("uint16"))]
        fits.HDUList(units).writeto(path, checksum=sums)

    return write


def _photograph(kind: str, colour: bool = False, **options: Any) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        gray = picture("uint8")
        pixels = np.stack([gray, gray[::-1], gray[:, ::-1]], axis=-1) if colour else gray
        Image.fromarray(pixels).save(path, kind, **options)

    return write


def _zarr(version: int, codec: str) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        import zarr  # noqa: PLC0415 (slow to import)

        if version == 3:
            codecs = {
                "crc32c": [zarr.codecs.Crc32cCodec()],
                "blosc": [zarr.codecs.BloscCodec(cname="lz4")],
                "gzip": [zarr.codecs.GzipCodec()],
            }[codec]
        else:
            codecs = None
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            group = zarr.open_group(str(path), mode="w", zarr_format=version)
            array = group.create_array(
                "0", shape=(2, 90, 110), chunks=(1, 45, 55), dtype="uint16", compressors=codecs
            )
            array[...] = picture("uint16", (2, 90, 110))
            axes = [{"name": n, "type": "channel" if n == "c" else "space"} for n in "cyx"]
            scales = [{"axes": axes, "datasets": [{"path": "0"}], "version": "0.4"}]
            if version == 3:
                group.attrs["ome"] = {"multiscales": scales, "version": "0.5"}
            else:
                group.attrs["multiscales"] = scales

    return write


def _pnm(path: Path) -> None:
    Image.fromarray(picture("uint8")).save(path, "PPM")


def _pfm(path: Path) -> None:
    rows = picture("float32")[::-1].astype("<f4")
    path.write_bytes(b"Pf\n110 90\n-1.0\n" + rows.tobytes())


def _mrc(path: Path) -> None:
    import mrcfile  # noqa: PLC0415 (an optional extra)

    with mrcfile.new(path) as file:
        file.set_data(picture("float32"))
        file.voxel_size = 2.5


def _nrrd(encoding: str) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        import nrrd  # noqa: PLC0415 (an optional extra)

        nrrd.write(str(path), picture(), {"encoding": encoding}, index_order="C")

    return write


def _hdf5(**options: Any) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        import h5py  # noqa: PLC0415 (an optional extra)

        with h5py.File(path, "w") as file:
            file.create_dataset("entry/data", data=picture(), chunks=(45, 55), **options)

    return write


def _dicom(path: Path) -> None:
    import pydicom  # noqa: PLC0415 (an optional extra)

    meta = pydicom.dataset.FileMetaDataset()
    meta.TransferSyntaxUID = pydicom.uid.ExplicitVRLittleEndian
    meta.MediaStorageSOPClassUID = pydicom.uid.SecondaryCaptureImageStorage
    meta.MediaStorageSOPInstanceUID = pydicom.uid.generate_uid(entropy_srcs=["fuzz"])
    data = pydicom.dataset.Dataset()
    data.file_meta = meta
    data.SOPClassUID, data.SOPInstanceUID = (
        meta.MediaStorageSOPClassUID, meta.MediaStorageSOPInstanceUID
    )  # fmt: skip
    data.Rows, data.Columns, data.SamplesPerPixel = 90, 110, 1
    data.BitsAllocated, data.BitsStored, data.HighBit = 16, 16, 15
    data.PixelRepresentation, data.PhotometricInterpretation = 0, "MONOCHROME2"
    data.PixelSpacing = [0.5, 0.5]
    data.PixelData = picture().tobytes()
    data.save_as(path, enforce_file_format=True)


def _raw(path: Path) -> None:
    ones = (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1)
    tags = [
        (271, 2, 0, "Bench", True), (33421, 3, 2, (2, 2), True),
        (33422, 1, 4, (0, 1, 1, 2), True), (50706, 1, 4, (1, 4, 0, 0), True),
        (50708, 2, 0, "Bench camera", True), (50714, 4, 1, 64, True), (50717, 3, 1, 16_000, True),
        (50721, 10, 9, ones, True),
    ]  # fmt: skip
    tifffile.imwrite(path, picture(), photometric=32803, metadata=None, extratags=tags)


ORIGINALS = (
    Original("TIFF, strips", "a.tif", _tiff(rowsperstrip=10)),
    Original("TIFF, deflate", "a.tif", _tiff(compression="zlib", tile=(32, 32)), checked=True),
    Original("TIFF, LZW", "a.tif", _tiff(compression="lzw", rowsperstrip=10)),
    Original("TIFF, zstd", "a.tif", _tiff(compression="zstd", rowsperstrip=10)),
    Original("TIFF, colour", "a.tif", _tiff(shape=(3, 90, 110), dtype="uint8", photometric="rgb",
                                            planarconfig="separate", rowsperstrip=10)),
    Original("OME-TIFF", "a.ome.tif", _tiff(shape=(3, 90, 110), photometric="minisblack",
                                            metadata={"axes": "CYX"}, rowsperstrip=10)),
    Original("FITS", "a.fits", _fits(False)),
    Original("FITS, sums", "a.fits", _fits(True), checked=True),
    Original("FITS, Rice", "a.fits", _fits(False, "RICE_1")),
    Original("FITS, gzip", "a.fits", _fits(False, "GZIP_1"), checked=True),
    Original("FITS, H-transform", "a.fits", _fits(False, "HCOMPRESS_1")),
    Original("FITS, run lengths", "a.fits", _fits(False, "PLIO_1")),
    Original("NumPy array", "a.npy", lambda path: np.save(path, picture())),
    Original("PNG", "a.png", _photograph("PNG"), checked=True),
    Original("PNG, colour", "a.png", _photograph("PNG", colour=True), checked=True),
    Original("JPEG", "a.jpg", _photograph("JPEG", colour=True, quality=90)),
    Original("JPEG, progressive", "a.jpg", _photograph("JPEG", progressive=True)),
    Original("WebP", "a.webp", _photograph("WEBP", colour=True)),
    Original("WebP, lossless", "a.webp", _photograph("WEBP", colour=True, lossless=True)),
    Original("BMP", "a.bmp", _photograph("BMP")),
    Original("OME-Zarr 0.4", "a.zarr", _zarr(2, "")),
    Original("OME-Zarr 0.5, gzip", "a.zarr", _zarr(3, "gzip"), checked=True),
    Original("OME-Zarr 0.5, crc32c", "a.zarr", _zarr(3, "crc32c"), checked=True),
    Original("Graymap", "a.pgm", _pnm),
    Original("Float map", "a.pfm", _pfm),
    Original("MRC", "a.mrc", _mrc),
    Original("NRRD", "a.nrrd", _nrrd("raw")),
    Original("NRRD, gzip", "a.nrrd", _nrrd("gzip")),
    Original("HDF5", "a.h5", _hdf5()),
    Original("HDF5, Fletcher", "a.h5", _hdf5(fletcher32=True, compression="gzip"), checked=True),
    Original("DICOM", "a.dcm", _dicom),
    Original("Camera raw", "a.dng", _raw),
)  # fmt: skip


# -- damage

_EXTREMES = (0, 1, 2, 127, 128, 255, 256, 32767, 32768, 65535, 65536, 2**31 - 1, 2**32 - 1)


def _flip(data: bytearray, rng: np.random.Generator) -> None:
    for _ in range(int(rng.integers(1, 9))):
        data[int(rng.integers(len(data)))] ^= 1 << int(rng.integers(8))


def _flip_early(data: bytearray, rng: np.random.Generator) -> None:
    """In the first kilobyte, where headers are."""
    for _ in range(int(rng.integers(1, 5))):
        data[int(rng.integers(min(len(data), 1024)))] ^= 1 << int(rng.integers(8))


def _blank(data: bytearray, rng: np.random.Generator) -> None:
    start = int(rng.integers(len(data)))
    length = int(rng.integers(1, max(len(data) // 4, 2)))
    data[start : start + length] = bytes(len(data[start : start + length]))


def _cut(data: bytearray, rng: np.random.Generator) -> None:
    del data[int(rng.integers(len(data))) :]


def _shift(data: bytearray, rng: np.random.Generator) -> None:
    start = int(rng.integers(len(data)))
    if rng.random() < 0.5:
        del data[start : start + int(rng.integers(1, 64))]
    else:
        data[start:start] = rng.bytes(int(rng.integers(1, 64)))


def _extreme(data: bytearray, rng: np.random.Generator) -> None:
    """A number of a header is replaced by one at the edge of what numbers can be."""
    width = int(rng.choice([2, 4, 8]))
    if len(data) <= width:
        return
    start = int(rng.integers(min(len(data) - width, 2048)))
    value = int(rng.choice(np.array(_EXTREMES, np.int64))) % 256**width
    data[start : start + width] = value.to_bytes(width, str(rng.choice(["little", "big"])))


def _digits(data: bytearray, rng: np.random.Generator) -> None:
    """A number written out in a text header becomes another one."""
    positions = [i for i in range(min(len(data), 20_000)) if chr(data[i]).isdigit()]
    if not positions:
        return _flip_early(data, rng)
    start = int(rng.choice(positions))
    for position in range(start, min(start + int(rng.integers(1, 10)), len(data))):
        if chr(data[position]).isdigit() or data[position] == 0x20:
            data[position] = 0x30 + int(rng.integers(10))
    return None


DAMAGES = (_flip, _flip_early, _blank, _cut, _shift, _extreme, _digits)


def damage(original: Path, target: Path, rng: np.random.Generator) -> str:
    """Write a damaged copy of a file or a folder; return what kind of damage."""
    how = DAMAGES[int(rng.integers(len(DAMAGES)))]
    if original.is_dir():
        shutil.rmtree(target, ignore_errors=True)
        shutil.copytree(original, target)
        files = sorted(file for file in target.rglob("*") if file.is_file())
        file = files[int(rng.integers(len(files)))]
        if rng.random() < 0.2:
            file.unlink()
            return f"lost {file.name}"
    else:
        shutil.copyfile(original, target)
        file = target
    data = bytearray(file.read_bytes())
    if data:
        how(data, rng)
    file.write_bytes(data)
    return f"{how.__name__.strip('_')} {file.name}"


# -- reading


def _peak() -> int:
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmHWM:"):
            return int(line.split()[1]) * 1024
    return 0


def same_pixels(sample: Sample, true: Sample) -> bool:
    """Whether all channels are there with the values they had."""
    if list(sample.channels) != list(true.channels):
        return False
    return all(
        plane.shape == true.channels[name].shape
        and np.array_equal(plane.pixels, true.channels[name].pixels)
        for name, plane in sample.channels.items()
    )


def judge(path: Path, true: Sample, checked: bool, kind: str) -> str:
    """Read a damaged file and say what became of it."""
    with contextlib.suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5")
    before, start = _peak(), time.perf_counter()
    try:
        sample = read_sample(path)
    except RilievoError:
        found = "refused"
    else:
        if sample.defects != true.defects or sample.notes != true.notes:
            found = "read, and said"
        elif same_pixels(sample, true):
            found = "same pixels"
        else:
            # What an array's own description says is covered by no checksum.
            found = "SILENT" if checked and "zarr" not in kind else "other values, no checksum"
    if time.perf_counter() - start > MOST_SECONDS:
        return "over 10 s"
    if _peak() - before > MOST_BYTES:
        return "over 1 GB"
    return found


def _work(names: list[int], first: int, count: int, folder: str, pipe: Any) -> None:
    signal.signal(signal.SIGALRM, signal.SIG_DFL)
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)  # libraries write what they dislike
    base = Path(folder)
    truths = {index: read_sample(_original(base, index)) for index in names}
    for number in range(first, first + count):
        index = names[number % len(names)]
        one = ORIGINALS[index]
        rng = np.random.default_rng([7, number])
        target = base / f"damaged-{os.getpid()}" / one.file
        target.parent.mkdir(exist_ok=True)
        kind = damage(_original(base, index), target, rng)
        pipe.send((number, index, kind, ""))
        signal.alarm(_GIVEN_UP)
        found = judge(target, truths[index], one.checked, kind)
        signal.alarm(0)
        pipe.send((number, index, kind, found))
    pipe.close()


def _original(base: Path, index: int) -> Path:
    return base / f"original-{index}" / ORIGINALS[index].file


def run(
    files: int, folder: Path, names: list[int] | None = None
) -> list[tuple[int, int, str, str]]:
    """Return number, format, damage and outcome of so many damaged files."""
    names = names if names is not None else list(range(len(ORIGINALS)))
    for index in names:
        path = _original(folder, index)
        path.parent.mkdir()
        ORIGINALS[index].write(path)
    context = multiprocessing.get_context("spawn")
    found, number = [], 0
    while number < files:
        mine, theirs = context.Pipe(duplex=False)
        worker = context.Process(
            target=_work, args=(names, number, files - number, str(folder), theirs)
        )
        worker.start()
        theirs.close()
        last = None
        with contextlib.suppress(EOFError):
            while True:
                message = mine.recv()
                if message[3]:
                    found.append(message)
                    number = message[0] + 1
                    last = None
                else:
                    last = message
        worker.join()
        if last is not None:
            over = worker.exitcode == -signal.SIGALRM
            found.append((*last[:3], "over 10 s" if over else "crash"))
            number = last[0] + 1
        elif worker.exitcode:
            raise RuntimeError("the worker could not begin")
    return found


def table(found: list[tuple[int, int, str, str]]) -> str:
    """Return the outcomes as a Markdown table, a row a format."""
    counts = Counter((index, outcome) for _, index, _, outcome in found)
    lines = ["| format | " + " | ".join(("files", *OUTCOMES)) + " |"]
    lines.append("|---|" + "---:|" * (len(OUTCOMES) + 1))
    for index in sorted({index for _, index, _, _ in found}):
        numbers = [counts[index, outcome] for outcome in OUTCOMES]
        words = [str(n) for n in (sum(numbers), *numbers)]
        lines.append(f"| {ORIGINALS[index].name} | {' | '.join(words)} |")
    totals = [sum(counts[i, outcome] for i in range(len(ORIGINALS))) for outcome in OUTCOMES]
    lines.append(f"| **all** | {' | '.join(str(n) for n in (sum(totals), *totals))} |")
    return "\n".join(lines)


def main() -> int:
    """Run, print and perhaps write the table; the exit code is 1 for any finding."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("files", nargs="?", type=int, default=10_000)
    words.add_argument("--write", action="store_true")
    words.add_argument("--findings", type=Path, help="write the findings as JSON lines")
    given = words.parse_args()
    start = time.perf_counter()
    with tempfile.TemporaryDirectory(prefix="rilievo-fuzz-") as folder:
        found = run(given.files, Path(folder))
    text = table(found)
    sys.stdout.write(f"{text}\n{len(found)} files in {time.perf_counter() - start:.0f} s\n")
    if given.findings:
        lines = [json.dumps(one) for one in found if one[3] in OUTCOMES[3:]]
        given.findings.write_text("\n".join(lines))
    if given.write:
        _write(text)
    return int(any(outcome in OUTCOMES[4:] for *_, outcome in found))


def _write(text: str) -> None:
    page = Path(__file__).parents[1] / "docs" / "reliability.md"
    begin, end = "<!-- fuzz: begin -->\n", "<!-- fuzz: end -->"
    before, _, rest = page.read_text().partition(begin)
    page.write_text(before + begin + text + "\n" + end + rest.partition(end)[2])


if __name__ == "__main__":
    raise SystemExit(main())
