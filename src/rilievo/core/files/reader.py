"""The registry of readers and the one way in: `read_sample`.

A format is recognised by its first bytes, never by its name; a folder that is one image (OME-Zarr)
by what lies in it. A reader turns the errors of its library into those of `core.errors`; what slips
through is caught here once and named.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path

from rilievo.core.errors import (
    FileEmpty,
    FileError,
    FileMissing,
    FileUnreadable,
    NotAnImage,
    TooLarge,
    UnsupportedKind,
)
from rilievo.core.image.image import Plane, Sample
from rilievo.core.image.lengths import standard_unit
from rilievo.core.image.metadata import attributes_in
from rilievo.core.registry import Registry

HEAD_BYTES = 64


@dataclass(frozen=True)
class Reader:
    """How one format is recognised and read.

    recognises : takes the first bytes of a file.
    read : takes the path and which of its images; returns a sample with its channels, or raises
    a FileError.
    holds : for a format that is a folder: whether this folder is one.
    """

    key: str
    title: str
    suffixes: tuple[str, ...]
    recognises: Callable[[bytes], bool]
    read: Callable[[Path, int], Sample]
    holds: Callable[[Path], bool] = lambda _folder: False


READERS: Registry[Reader] = Registry("reader", "rilievo.core.files", "rilievo.readers")

# Formats known by their first bytes that no reader takes, to say so by name.
_OTHER_FORMATS = (
    (re.compile(rb"GIF8"), "a GIF"),
    (re.compile(rb"\x89HDF"), "an HDF5 container"),
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


def read_sample(path: str | Path, image: int = 0, *, checksum: bool = True) -> Sample:
    """Read one file, or one folder that is an image.

    image : which of the images of a file that holds several of different size.
    checksum : whether to compute that of the file, which takes a while for a large one.
    Raises one of the FileErrors of `core.errors`, each a sentence with the file's name.
    """
    path = Path(path)
    reader = _reader_for(path)
    sample = _read_with(reader, path, image)
    attributes = {**attributes_in(sample.metadata), **sample.attributes}
    return replace(
        sample,
        channels={name: _in_standard_unit(plane) for name, plane in sample.channels.items()},
        path=path,
        checksum=file_checksum(path) if checksum else "",
        identity=file_identity(path, image),
        attributes=attributes,
    )


def _in_standard_unit(plane: Plane) -> Plane:
    """The plane with its pixel's sides in the unit that all files are converted to."""
    calibration = plane.calibration
    return replace(plane, calibration=calibration.in_unit(standard_unit(calibration.unit)))


def _reader_for(path: Path) -> Reader:
    if path.is_dir():
        for reader in READERS.values():
            if reader.holds(path):
                return reader
        raise NotAnImage(path, "is a folder", "open the files inside it")
    head = _first_bytes(path)
    for reader in READERS.values():
        if reader.recognises(head):
            return reader
    for pattern, what in _OTHER_FORMATS:
        if pattern.match(head):
            raise UnsupportedKind(
                path, f"is {what}, which cannot be read", f"convert it to {_titles()}"
            )
    raise NotAnImage(
        path, "does not contain an image", f"choose a file whose contents are {_titles()}"
    )


def _read_with(reader: Reader, path: Path, image: int) -> Sample:
    try:
        return reader.read(path, image)
    except FileError:
        raise
    except MemoryError as exc:
        raise TooLarge(
            path, "does not fit into the memory", "close other programs or crop the file"
        ) from exc
    except OSError as exc:
        raise _unreadable(path, exc) from exc
    except Exception as exc:
        # Whatever a format library raises on damaged data, the user needs the file's name.
        raise NotAnImage(
            path,
            f"looks like {reader.title} but is damaged ({_first_line(exc)})",
            "copy or export it again from its source",
        ) from exc


def _first_bytes(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except FileNotFoundError as exc:
        raise FileMissing(
            path, "does not exist", f"look for it in {path.parent} or choose another file"
        ) from exc
    except OSError as exc:
        raise _unreadable(path, exc) from exc
    if not head:
        raise FileEmpty(path, "is empty (0 bytes)", "copy it again from its source")
    return head


def _unreadable(path: Path, exc: OSError) -> FileUnreadable:
    reason = exc.strerror or _first_line(exc)
    return FileUnreadable(
        path, f"cannot be read ({reason})", "check the file's permissions and its drive"
    )


def _first_line(exc: BaseException) -> str:
    lines = str(exc).strip().splitlines()
    return lines[0][:120] if lines else type(exc).__name__


def _titles() -> str:
    titles = [reader.title for reader in READERS.values()]
    return ", ".join(titles[:-1]) + " or " + titles[-1]


def _files_of(path: Path) -> list[Path]:
    """The file itself, or all files of a folder that is one image, in a fixed order."""
    if not path.is_dir():
        return [path]
    return sorted(file for file in path.rglob("*") if file.is_file())


def file_checksum(path: Path) -> str:
    """Return the SHA-256 of a file in hexadecimal digits; of a folder, that of all its files.

    Raises FileUnreadable.
    """
    try:
        files = _files_of(path)
        if files == [path]:
            with path.open("rb") as file:
                return hashlib.file_digest(file, "sha256").hexdigest()
        digest = hashlib.sha256()
        for each in files:
            digest.update(each.relative_to(path).as_posix().encode())
            with each.open("rb") as file:
                digest.update(hashlib.file_digest(file, "sha256").digest())
        return digest.hexdigest()
    except OSError as exc:
        raise _unreadable(path, exc) from exc


def file_identity(path: Path, image: int = 0) -> str:
    """Name a file's present state by path, time and size, without reading it."""
    try:
        states = [(file.stat().st_mtime_ns, file.stat().st_size) for file in _files_of(path)]
    except OSError as exc:
        raise _unreadable(path, exc) from exc
    newest = max((time for time, _ in states), default=0)
    return f"{path.absolute()} {image} {newest} {sum(size for _, size in states)}"


def is_image_folder(path: Path) -> bool:
    """Whether a folder is one image by itself."""
    return path.is_dir() and any(reader.holds(path) for reader in READERS.values())


def images_below(paths: Iterable[Path]) -> list[Path]:
    """Return the given files, and for a folder the images in it and below, sorted by name.

    A file that was named itself is kept whatever its ending, so that opening it can say why not.
    """
    found: list[Path] = []
    for path in paths:
        if path.is_dir() and not is_image_folder(path):
            found += _below(path)
        else:
            found.append(path)
    return list(dict.fromkeys(found))


def _below(folder: Path) -> list[Path]:
    endings = image_suffixes()
    found: list[Path] = []
    for inside in sorted(folder.iterdir()):
        if inside.is_dir():
            found += [inside] if is_image_folder(inside) else _below(inside)
        elif inside.name.lower().endswith(endings):
            found.append(inside)
    return found
