"""Damaged files of every format stay under a gigabyte and always end in a sentence."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

pytestmark = pytest.mark.slow

_SCRIPT = """
import io, sys
from pathlib import Path
import imagecodecs, numpy as np, tifffile
from astropy.io import fits
from PIL import Image
from rilievo.core.errors import FileError
from rilievo.core.files import read_sample

folder = Path(sys.argv[1])
rng = np.random.default_rng(11)
gray = rng.integers(0, 4000, (48, 40)).astype(np.uint16)
photo = rng.integers(0, 255, (48, 40, 3)).astype(np.uint8)


def encoded(kind):
    held = io.BytesIO()
    Image.fromarray(photo).save(held, kind)
    return held.getvalue()


def tiff(**options):
    held = io.BytesIO()
    tifffile.imwrite(held, gray, **options)
    return held.getvalue()


def fits_bytes():
    held = io.BytesIO()
    fits.HDUList([fits.PrimaryHDU(gray), fits.ImageHDU(gray)]).writeto(held)
    return held.getvalue()


held = io.BytesIO()
np.save(held, gray)
whole = {
    "plain.tif": tiff(),
    "packed.tif": tiff(compression="zlib", tile=(16, 16)),
    "big.tif": tiff(bigtiff=True, byteorder=">"),
    "a.png": imagecodecs.png_encode(gray),
    "a.jpg": encoded("JPEG"),
    "a.webp": encoded("WEBP"),
    "a.bmp": encoded("BMP"),
    "a.fits": fits_bytes(),
    "a.npy": held.getvalue(),
}
refused = 0
for name, content in whole.items():
    path = folder / name
    for round_number in range(40):
        damaged = bytearray(content)
        kind = round_number % 4
        if kind == 0:
            damaged = damaged[: int(rng.integers(1, len(damaged)))]
        elif kind == 1:
            for place in rng.integers(0, min(len(damaged), 400), 4):
                damaged[place] ^= 1 << int(rng.integers(8))
        elif kind == 2:
            for place in rng.integers(0, min(len(damaged) - 4, 300), 3):
                damaged[place : place + 4] = bytes([255, 255, 255, 127])
        else:
            for place in rng.integers(0, len(damaged), 12):
                damaged[place] = int(rng.integers(256))
        path.write_bytes(damaged)
        try:
            read_sample(path)
        except FileError as exc:
            refused += 1
            sentence = str(exc)
            assert name in sentence and sentence.endswith("."), sentence
# The most this program held; what getrusage says includes the one that started it.
status = Path("/proc/self/status").read_text()
peak = next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmHWM"))
print(refused, round(peak / 1024))
"""


def test_damage_never_crashes_nor_fills_the_memory(tmp_path: Path) -> None:
    found = subprocess.run(
        [sys.executable, "-c", _SCRIPT, str(tmp_path)], capture_output=True, text=True, check=False
    )
    assert found.returncode == 0, found.stderr[-2000:]
    refused, peak = (int(word) for word in found.stdout.split())
    assert refused > 100
    assert peak < 1000
