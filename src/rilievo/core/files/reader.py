"""The registry of readers and the one way in: `read_sample`.

A format is recognised by its first bytes, never by its name; a folder that is one image (OME-Zarr)
by what lies in it. A reader turns the errors of its library into those of `core.errors`; what slips
through is caught here once and named.
"""

from __future__ import annotations

import re
import stat
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

from rilievo.core.errors import (
    Cancelled,
    FileEmpty,
    FileError,
    NotAnImage,
    TooLarge,
    UnsupportedKind,
)
from rilievo.core.files.file_state import (
    cannot_read,
    checksum_of_files,
    files_below,
    identity_of_files,
    identity_of_states,
    is_below,
    known_checksum,
    read_unchanged,
    regular_state,
)
from rilievo.core.files.interleaved_pages import in_turn
from rilievo.core.files.orientation import turned_upright
from rilievo.core.files.projections import projected
from rilievo.core.files.reader_helpers import first_line, rounded_values
from rilievo.core.image.image import Plane, Sample
from rilievo.core.image.lengths import standard_unit
from rilievo.core.image.metadata import attributes_in
from rilievo.core.image.stack import Frame, StackLayout
from rilievo.core.registry import Registry

HEAD_BYTES = 256

Found = TypeVar("Found")


@dataclass(frozen=True)
class Reader:
    """How one format is recognised and read.

    recognises : takes the first bytes of a file. inside : looks further into a file whose first
    bytes are shared with other formats.
    read : takes the path and which of its images; returns a sample with its channels, or raises
    a FileError.
    holds : for a format that is a folder: whether this folder is one.
    files : all files that are read with one; raises a FileError for one that leads elsewhere.
    layout : which planes in depth and time an image of a file has, without reading its pixels.
    read_plane : reads one of them; for formats that have several. Both raise a FileError.
    """

    key: str
    title: str
    suffixes: tuple[str, ...]
    recognises: Callable[[bytes], bool]
    read: Callable[[Path, int], Sample]
    holds: Callable[[Path], bool] = lambda _folder: False
    files: Callable[[Path], Sequence[Path]] = lambda path: [path]
    layout: Callable[[Path, int], StackLayout] = lambda _path, _image: StackLayout()
    read_plane: Callable[[Path, int, Frame], Sample] | None = None
    inside: Callable[[Path], bool] = lambda _path: True


READERS: Registry[Reader] = Registry("reader", "rilievo.core.files", "rilievo.readers")

# Formats known by their first bytes that no reader takes, to say so by name.
_OTHER_FORMATS = (
    (re.compile(rb"GIF8"), "a GIF"),
    (re.compile(rb"%PDF"), "a PDF document"),
    (re.compile(rb"PK\x03\x04"), "a ZIP archive"),
)


def image_suffixes() -> tuple[str, ...]:
    """Return the file name endings of all readers, for file dialogs and folders."""
    return tuple(dict.fromkeys(s for reader in READERS.values() for s in reader.suffixes))


def sample_name(path: Path) -> str:
    """Return the name a file gives its sample: without folder and endings."""
    name = path.name
    for suffix in sorted(image_suffixes(), key=len, reverse=True):
        if name.lower().endswith(suffix):
            return name[: -len(suffix)] or name
    return path.stem or name


def read_layout(path: str | Path, image: int = 0) -> StackLayout:
    """Return which planes in depth and time an image of a file has; its pixels are not read.

    Raises a FileError.
    """
    path = Path(path)
    reader = _reader_for(path)
    return _guarded(reader, path, lambda: reader.layout(path, image))


def read_sample(
    path: str | Path, image: int = 0, frame: Frame | None = None, *, checksum: bool = True
) -> Sample:
    """Read one file, or one folder that is an image.

    Parameters
    ----------
    path : str or Path
        TIFF, FITS, PNG and others, see `rilievo.core.files.READERS`.
    image : int, optional
        Which of the images of a file that holds several of different size, from 0.
    frame : Frame, optional
        One plane of its depth and time, or what is made of several; None takes every plane as a
        channel.
    checksum : bool, optional
        Whether to compute that of the file, which takes a while for a large one.

    Returns
    -------
    Sample
        Native values, (height, width) a channel; NaN where the file says that a value is undefined.

    Raises
    ------
    FileError
        One of those of `core.errors`, each a sentence with the file's name.

    Examples
    --------
    >>> import numpy as np
    >>> from PIL import Image
    >>> Image.fromarray(np.full((2, 3), 7, np.uint8)).save("seven.png")
    >>> read_sample("seven.png").first.pixels.tolist()
    [[7, 7, 7], [7, 7, 7]]
    """
    path = Path(path)
    reader = _reader_for(path)
    sample, identity = read_unchanged(
        path, lambda: reader.files(path), lambda: _read_frame(reader, path, image, frame)
    )
    sample = turned_upright(sample)
    attributes = {**attributes_in(sample.metadata), **sample.attributes}
    defects = (*sample.defects, *rounded_values(path, sample.channels))
    return replace(
        sample,
        channels={name: _in_standard_unit(plane) for name, plane in sample.channels.items()},
        path=path,
        checksum=file_checksum(path) if checksum else "",
        identity=" ".join([identity, str(image), *([frame.text] if frame else [])]),
        attributes=attributes,
        defects=defects,
    )


def _in_standard_unit(plane: Plane) -> Plane:
    """The plane with its pixel's sides in the unit that all files are converted to."""
    calibration = plane.calibration
    return replace(plane, calibration=calibration.in_unit(standard_unit(calibration.unit)))


def _reader_for(path: Path) -> Reader:
    state = regular_state(path)
    if stat.S_ISDIR(state.st_mode):
        for reader in READERS.values():
            if reader.holds(path):
                return reader
        raise NotAnImage(path, "is a folder", "open the files inside it")
    return _reader_of_file(path, identity_of_states([path], [state]))


@lru_cache(maxsize=4096)
def _reader_of_file(path: Path, identity: str) -> Reader:
    """The reader of a file. identity : its state, so that it is looked into once."""
    del identity
    head = _first_bytes(path)
    for reader in READERS.values():
        if reader.recognises(head) and _looks_like(reader, path):
            return reader
    for pattern, what in _OTHER_FORMATS:
        if pattern.match(head):
            raise UnsupportedKind(
                path, f"is {what}, which cannot be read", f"convert it to {_titles()}"
            )
    raise NotAnImage(
        path, "does not contain an image", f"choose a file whose contents are {_titles()}"
    )


def _looks_like(reader: Reader, path: Path) -> bool:
    try:
        return reader.inside(path)
    except OSError as exc:
        raise cannot_read(path, exc) from exc


def _read_frame(reader: Reader, path: Path, image: int, frame: Frame | None) -> Sample:
    if frame is None:
        return _guarded(reader, path, lambda: reader.read(path, image))
    read = reader.read_plane
    if read is None:
        raise UnsupportedKind(
            path, f"is {reader.title}, of which no single planes are read", "read it whole"
        )

    def single(frame_read: Frame) -> Sample:
        return _guarded(reader, path, lambda: read(path, image, frame_read))

    def place(frame_read: Frame) -> Sample:
        return single(frame_read) if frame_read.channels == 1 else in_turn(frame_read, single)

    how = frame.projection
    return place(frame) if how is None else projected(frame, how, place)


def _guarded(reader: Reader, path: Path, read: Callable[[], Found]) -> Found:
    """What reading gives; whatever goes wrong in it becomes a FileError."""
    try:
        return read()
    except (FileError, Cancelled):
        raise
    except MemoryError as exc:
        raise TooLarge(
            path, "does not fit into the memory", "close other programs or crop the file"
        ) from exc
    except OSError as exc:
        raise cannot_read(path, exc) from exc
    except Exception as exc:
        # Whatever a format library raises on damaged data, the user needs the file's name.
        raise NotAnImage(
            path,
            f"looks like {reader.title} but is damaged ({first_line(exc)})",
            "copy or export it again from its source",
        ) from exc


def _first_bytes(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as exc:
        raise cannot_read(path, exc) from exc
    if not head:
        raise FileEmpty(path, "is empty (0 bytes)", "copy it again from its source")
    return head


def _titles() -> str:
    titles = [reader.title for reader in READERS.values()]
    return ", ".join(titles[:-1]) + " or " + titles[-1]


def check_recognised(path: Path) -> None:
    """Look at a file's first bytes alone. Raises a FileError for what is no image."""
    _reader_for(path)


def files_read(path: Path) -> list[Path]:
    """Return all files that are read with one: the image, the others of its set, or a folder's.

    Raises a FileError.
    """
    return list(_reader_for(path).files(path))


def file_checksum(path: Path) -> str:
    """Return the SHA-256 of a file; of a set or a folder, that of all its files with their names.

    A file that is no image has one as well. Raises a FileError.
    """
    return checksum_of_files(_all_of(path), path)


def known_file_checksum(path: Path) -> str:
    """Return the checksum where this process has read the file as it is now; "" elsewhere."""
    return known_checksum(identity_of_files(_all_of(path)))


def file_identity(path: Path, image: int = 0) -> str:
    """Name the present state of all that is read with a file, within this process."""
    return f"{identity_of_files(_all_of(path))} {image}"


def _all_of(path: Path) -> list[Path]:
    try:
        return files_read(path)
    except (NotAnImage, UnsupportedKind, FileEmpty):
        return files_below(path) if path.is_dir() else [path]


def is_image_folder(path: Path) -> bool:
    """Whether a folder is one image by itself."""
    return path.is_dir() and any(reader.holds(path) for reader in READERS.values())


def images_below(paths: Iterable[Path]) -> list[Path]:
    """Return the given files, and for a folder the images in it and below, sorted by name.

    A file that was named itself is kept whatever its ending, so that opening it can say why not.
    """
    paths_found: list[Path] = []
    for path in paths:
        if path.is_dir() and not is_image_folder(path):
            paths_found += _below(path)
        else:
            paths_found.append(path)
    return list(dict.fromkeys(paths_found))


def _below(folder: Path) -> list[Path]:
    endings = image_suffixes()
    paths_found: list[Path] = []
    for inside in sorted(folder.iterdir()):
        if inside.is_dir() and inside.is_symlink() and is_below(folder, inside):
            continue  # a link back up would lead in a circle
        if inside.is_dir():
            paths_found += [inside] if is_image_folder(inside) else _below(inside)
        elif inside.name.lower().endswith(endings) and (inside.is_file() or not inside.exists()):
            paths_found.append(inside)
    return paths_found
