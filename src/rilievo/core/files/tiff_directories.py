"""The directories of a TIFF, walked before a library decodes them, and the set it belongs to.

A file can name a hundred thousand directories in a megabyte, or lead in a circle; a library would
be at it for minutes.
"""

from __future__ import annotations

import logging
import struct
from functools import lru_cache
from pathlib import Path
from typing import Any, BinaryIO
from xml.etree import ElementTree

from rilievo.core.errors import FileError, FileOutside, NotAFile, NotAnImage, UnsupportedKind
from rilievo.core.files.file_state import identity_of_files, is_below, regular_state
from rilievo.core.files.reader_helpers import truncated

MOST_DIRECTORIES = 10_000
_MOST_ENTRIES = 4_096
_DESCRIPTION = 270
# Bytes of one value of each type, where it is not 1.
_SIZES = {3: 2, 4: 4, 5: 8, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4, 16: 8, 17: 8, 18: 8}
# Tags and values of what a camera's sensor gave: DNG's version; a mosaic of colours, or linear
# values, as the meaning of pixels; directories below one.
_DNG, _COLOURS, _BELOW = 50706, 262, 330
_SENSOR_COLOURS = {32803, 34892}
_MOST_BELOW = 16
_WHOLE = {1: "B", 3: "H", 4: "I", 13: "I", 16: "Q", 18: "Q"}
# An OME-XML of this many characters describes far more planes than a file may have.
_MOST_XML = 8_000_000


def check_directories(path: Path) -> str:
    """Return what is wrong with directories that can be read all the same; "" for nothing.

    Raises NotAnImage or UnsupportedKind for some that no program could go through.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(16)
        layout = _Layout("<" if head[:2] == b"II" else ">", 43 in head[2:4])
        if len(head) < 16:
            raise truncated(path)
        place = layout.first(head)
        seen: set[int] = set()
        while place:
            if place in seen:
                raise NotAnImage(
                    path, "is a damaged TIFF whose pages lead in a circle", "export it again"
                )
            seen.add(place)
            if len(seen) > MOST_DIRECTORIES:
                raise UnsupportedKind(
                    path, f"has more than {MOST_DIRECTORIES} pages", "split it into several files"
                )
            file.seek(place)
            try:
                place, reaches = layout.directory(path, file)
            except struct.error:
                return f"the directory of page {len(seen)} lies beyond its end, so that it was cut"
            if reaches > size:
                return f"what page {len(seen)} says of itself lies beyond its end"
    return ""


def has_sensor_data(path: Path) -> bool:
    """Whether a TIFF holds what a camera's sensor gave: a DNG, or a mosaic of colours.

    Looks at its first directory and the directories below that one. False for a damaged one.
    """
    try:
        with path.open("rb") as file:
            head = file.read(16)
            layout = _Layout("<" if head[:2] == b"II" else ">", 43 in head[2:4])
            places = [layout.first(head)]
            for k in range(1 + _MOST_BELOW):
                if k >= len(places):
                    break
                tags = layout.whole_numbers(file, places[k])
                if _DNG in tags or set(tags.get(_COLOURS, ())) & _SENSOR_COLOURS:
                    return True
                if k == 0:
                    places += tags.get(_BELOW, ())[:_MOST_BELOW]
    except (OSError, struct.error, ValueError):
        # A place beyond what a file can have is a ValueError.
        return False
    return False


class _Layout:
    """How the directories of a file are laid out: classic, or with 64-bit positions."""

    def __init__(self, order: str, big: bool) -> None:
        self._order = order
        self._count, self._pointer, self._inline = ("Q", "Q", 8) if big else ("H", "I", 4)
        self._entry = f"{order}HH{self._pointer}{self._pointer}"
        self._big = big

    def first(self, head: bytes) -> int:
        """Where the first directory lies."""
        return self._one(self._pointer, head[8:16] if self._big else head[4:8])

    def directory(self, path: Path, file: BinaryIO) -> tuple[int, int]:
        """Where the next directory lies, and how far the values of this one reach."""
        entries = self._one(self._count, file.read(struct.calcsize(self._count)))
        if entries > _MOST_ENTRIES:
            raise NotAnImage(path, "is a TIFF with a damaged directory", "export it again")
        content = file.read(entries * struct.calcsize(self._entry))
        reaches = 0
        for tag, kind, count, value in struct.iter_unpack(self._entry, content):
            if tag == _DESCRIPTION and count > _MOST_XML:
                raise UnsupportedKind(
                    path,
                    f"has a description of {count} characters, more than images need",
                    "export it again without it",
                )
            bytes_needed = count * _SIZES.get(kind, 1)
            if bytes_needed > self._inline:
                reaches = max(reaches, value + bytes_needed)
        return self._one(self._pointer, file.read(self._inline)), reaches

    def description(self, file: BinaryIO, place: int) -> bytes:
        """The description in a directory; empty where it has none."""
        file.seek(place)
        entries = self._one(self._count, file.read(struct.calcsize(self._count)))
        size = struct.calcsize(self._entry)
        content = file.read(min(entries, _MOST_ENTRIES) * size)
        for k in range(len(content) // size):
            tag, _, count, value = struct.unpack_from(self._entry, content, k * size)
            if tag != _DESCRIPTION or count > _MOST_XML:
                continue
            if count <= self._inline:
                return content[(k + 1) * size - self._inline :][:count]
            file.seek(value)
            return file.read(count)
        return b""

    def whole_numbers(self, file: BinaryIO, place: int) -> dict[int, tuple[int, ...]]:
        """The whole numbers of a directory's tags, of each the first few."""
        file.seek(place)
        entries = min(
            self._one(self._count, file.read(struct.calcsize(self._count))), _MOST_ENTRIES
        )
        content = file.read(entries * struct.calcsize(self._entry))
        size = struct.calcsize(self._entry)
        values_of_tags: dict[int, tuple[int, ...]] = {}
        for k in range(len(content) // size):
            tag, kind, count, value = struct.unpack_from(self._entry, content, k * size)
            letter = _WHOLE.get(kind)
            if letter is None:
                values_of_tags[tag] = ()
                continue
            count = min(count, _MOST_BELOW)
            size_of = struct.calcsize(letter)
            length = count * size_of
            if length <= self._inline:
                data = content[k * size + size - self._inline :][:length]
            else:
                file.seek(value)
                data = file.read(length)
            values_of_tags[tag] = struct.unpack(
                f"{self._order}{len(data) // struct.calcsize(letter)}{letter}", data
            )
        return values_of_tags

    def _one(self, kind: str, data: bytes) -> int:
        return int(struct.unpack(self._order + kind, data)[0])


def open_tiff(path: Path, *, with_set: bool = False) -> Any:
    """Return the open file. with_set : whether other files of its set are opened when needed."""
    import tifffile  # noqa: PLC0415 (slow to import, needed for this format only)

    # tifffile reports odd tags to its log; what matters to the user is raised or noted here.
    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    return tifffile.TiffFile(path, _multifile=with_set)


def files_of_set(path: Path) -> list[Path]:
    """Return a file and those of its OME set that are there, each once.

    Raises FileOutside where the set leads out of the file's folder, NotAFile for a device.
    """
    paths_read = dict.fromkeys([path])
    for name in _names_in_set(path, identity_of_files([path])):
        other = path.parent / name
        if name == path.name:
            continue
        if not _may_lead_to(path, name):
            raise FileOutside(
                path,
                f"belongs to a set with “{name}”, which is not below its own folder",
                f"put {Path(name).name or 'that file'} beside it if you trust it",
            )
        try:
            regular_state(other)
        except NotAFile:
            raise
        except FileError:
            continue  # said where its planes are missed
        paths_read[other] = None
    return list(paths_read)


def belongs_to_set(path: Path) -> bool:
    """Whether an OME-XML names the file by its own name, or others that are there, or none at all.

    A renamed file names one that is not there; its pages are then taken as they are.
    """
    names = _names_in_set(path, identity_of_files([path]))
    itself = path.name.lower() in (name.lower() for name in names)
    return itself or not names or len(files_of_set(path)) > 1


@lru_cache(maxsize=4096)
def _names_in_set(path: Path, identity: str) -> tuple[str, ...]:
    """What an OME-XML names. identity : of the file, so that it is looked into once."""
    del identity
    try:
        check_directories(path)
        return tuple(_named_files(_first_description(path)))
    except (FileError, OSError, struct.error, ValueError):  # reading the file will say
        return ()


def _first_description(path: Path) -> str:
    """The description of the first page, where it is an OME-XML; "" for others."""
    with path.open("rb") as file:
        head = file.read(16)
        layout = _Layout("<" if head[:2] == b"II" else ">", 43 in head[2:4])
        text = layout.description(file, layout.first(head)).decode("utf-8", "replace")
    text = text.rstrip("\0 \r\n\t")
    return text if text.endswith("OME>") else ""


def _named_files(xml: str) -> list[str]:
    """Return the files that an OME-XML says hold planes, in its order."""
    if "FileName" not in xml:
        return []
    try:
        root = ElementTree.fromstring(xml)  # noqa: S314 (expat limits entity expansion)
    except ElementTree.ParseError:
        return []
    names = (element.get("FileName", "") for element in root.iter())
    return list(dict.fromkeys(name for name in names if name))


def _may_lead_to(path: Path, name: str) -> bool:
    if "\0" in name or Path(name).is_absolute() or ".." in Path(name).parts:
        return False
    # A link in the user's own folder may stand for the whole set; it leads where the file does.
    other = path.parent / name
    return is_below(other, path.parent) or is_below(other, path.resolve().parent)
