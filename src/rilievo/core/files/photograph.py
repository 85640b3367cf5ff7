"""JPEG, WebP and BMP photographs through Pillow, with a word about lossy compression."""

from __future__ import annotations

import re
import warnings
from io import BytesIO
from pathlib import Path

import numpy as np

from rilievo.core.errors import NotAnImage, TooLarge
from rilievo.core.files.exif import photograph_metadata
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    LOSSY_NOTE,
    check_size,
    chosen_image,
    colour_channels,
    damaged,
    first_line,
    truncated,
)
from rilievo.core.image.image import Defect, Sample, plane_from_native

_LOSSLESS_WEBP = re.compile(rb"RIFF.{4}WEBPVP8L", re.DOTALL)
_GRAY_MODES = ("1", "L", "LA", "I;16", "I", "F")


def _lossy(head: bytes, kind: str) -> bool:
    return kind == "JPEG" or (kind == "WEBP" and not _LOSSLESS_WEBP.match(head))


def read_photograph(path: Path, image: int = 0) -> Sample:
    """Read a photograph; gray stays gray, everything else becomes red, green, blue."""
    from PIL import Image, ImageFile, UnidentifiedImageError  # noqa: PLC0415 (needed for these formats only)

    chosen_image(path, 1, image)
    # Read once: the library would map the file, and end with it if it were cut.
    data = path.read_bytes()
    notes = []
    with warnings.catch_warnings():
        # The size is checked against the memory here, not against a fixed number of pixels.
        warnings.simplefilter("ignore")
        # Other packages of the process (the PDF's) have cut files filled up with gray in silence.
        ImageFile.LOAD_TRUNCATED_IMAGES = False
        try:
            with Image.open(BytesIO(data)) as photo:
                check_size(path, (photo.height, photo.width, len(photo.getbands())), 4)
                kind = str(photo.format)
                if photo.mode in ("LA", "RGBA", "PA"):
                    notes.append("The transparency of the file is set aside.")
                gray = photo.mode in _GRAY_MODES
                pixels = np.asarray(photo.convert("L" if photo.mode in ("1", "LA") else photo.mode))
                if not gray:
                    pixels = np.asarray(photo.convert("RGB"))
        except Image.DecompressionBombError as exc:
            raise TooLarge(path, f"is too large ({exc})", "crop or split the file") from exc
        except UnidentifiedImageError as exc:
            raise NotAnImage(
                path, "is a photograph with a damaged header", "copy it again from its source"
            ) from exc
        except OSError as exc:
            if exc.errno is None and "truncated" in str(exc):
                raise truncated(path) from exc
            raise
    if _lossy(data, kind):
        notes.insert(0, LOSSY_NOTE.format(kind=kind.replace("WEBP", "WebP")))
    channels = {"gray": plane_from_native(pixels)} if gray else colour_channels(pixels)
    return Sample(
        sample_name(path),
        channels,
        notes=notes,
        defects=(_half_decoded if kind == "JPEG" else _wrong_length)(path, data),
        metadata=tuple(photograph_metadata(data)),
    )


def _half_decoded(path: Path, data: bytes) -> tuple[Defect, ...]:
    """What the decoder warns of: it goes on after damaged data, with made-up pixels."""
    import simplejpeg  # noqa: PLC0415 (needed for this format only)

    try:
        simplejpeg.decode_jpeg(data, "GRAY", strict=True)
    except ValueError as exc:
        return (damaged(path, f"the decoder says “{first_line(exc)}”"),)
    return ()


def _wrong_length(path: Path, data: bytes) -> tuple[Defect, ...]:
    """Whether a BMP or WebP is as long as it says."""
    stated = (
        int.from_bytes(data[2:6], "little")
        if data[:2] == b"BM"
        # The size of a RIFF leaves out its first eight bytes; pieces have an even length.
        else int.from_bytes(data[4:8], "little") + 8
    )
    if stated and len(data) not in (stated, stated + stated % 2):
        return (damaged(path, f"it has {len(data)} bytes, and says it has {stated}"),)
    return ()


def _add(key: str, title: str, suffixes: tuple[str, ...], beginning: bytes, order: float) -> None:
    pattern = re.compile(beginning, re.DOTALL)
    READERS.add(
        key,
        Reader(key, title, suffixes, lambda head: pattern.match(head) is not None, read_photograph),
        order=order,
    )


_add("jpeg", "JPEG", (".jpg", ".jpeg"), rb"\xff\xd8\xff", order=30)
_add("webp", "WebP", (".webp",), rb"RIFF.{4}WEBP", order=40)
_add("bmp", "BMP", (".bmp",), rb"BM.{4}\0\0\0\0", order=50)
