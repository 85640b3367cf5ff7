"""What photographs say of themselves: EXIF tags and text chunks, through Pillow."""

from __future__ import annotations

import warnings
from collections.abc import Iterator, Mapping
from io import BytesIO
from typing import Any

from rilievo.core.image.metadata import MetadataNode, leaf

# Further tables that the first one points to: camera settings, position, interoperability.
_TABLES = {0x8769: "Exif", 0x8825: "GPS", 0xA005: "Interoperability"}
_THUMBNAIL_AND_BLOBS = 512


def photograph_metadata(data: bytes, *, has_exif: bool = True) -> Iterator[MetadataNode]:
    """Yield what Pillow knows of a photograph; nothing where its tags are damaged.

    data : the contents of the file. has_exif : False where there are none, which Pillow would
    decode all pixels to find out.
    """
    from PIL import ExifTags, Image, UnidentifiedImageError  # noqa: PLC0415 (slow to import)

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with Image.open(BytesIO(data)) as photo:
                general = [
                    leaf("Format", photo.format_description or photo.format or ""),
                    leaf("Mode", photo.mode),
                    leaf("Size", f"{photo.width} × {photo.height}"),
                ]
                yield MetadataNode("File", "", (*general, *_text(photo.info)))
                if not has_exif:
                    return
                exif = photo.getexif()
                if len(exif):
                    yield MetadataNode("EXIF", "", tuple(_tags(exif, ExifTags.TAGS)))
                for number, title in _TABLES.items():
                    table = exif.get_ifd(number)
                    names = ExifTags.GPSTAGS if title == "GPS" else ExifTags.TAGS
                    if table:
                        yield MetadataNode(title, "", tuple(_tags(table, names)))
        except (
            OSError,
            UnidentifiedImageError,
            SyntaxError,
            ValueError,
            KeyError,
            TypeError,
            Image.DecompressionBombError,
        ):
            # The pixels were read all the same; the reader says if they cannot be.
            yield leaf("File", "its tags are damaged and cannot be shown")


def _text(info: Mapping[Any, Any]) -> Iterator[MetadataNode]:
    for key, value in info.items():
        if isinstance(value, bytes) and len(value) > _THUMBNAIL_AND_BLOBS:
            yield leaf(str(key), f"{len(value)} bytes")
        else:
            yield leaf(str(key), value)


def _tags(table: Mapping[int, Any], names: Mapping[int, str]) -> Iterator[MetadataNode]:
    for number, value in table.items():
        if number in _TABLES:
            continue
        name = names.get(number, f"tag {number}")
        if isinstance(value, bytes) and len(value) > _THUMBNAIL_AND_BLOBS:
            yield leaf(name, f"{len(value)} bytes")
        else:
            yield leaf(name, value)
