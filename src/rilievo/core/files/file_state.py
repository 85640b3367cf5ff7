"""What a file is at a moment: kind, identity, checksum; and whether it stayed so while it was read.

An identity is made of device, inode, size, and the times of change in nanoseconds of every file
that is read. It stands for the contents within one process only; what is kept for later is named
by a checksum.
"""

from __future__ import annotations

import hashlib
import os
import stat
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TypeVar

from cachetools import LRUCache

from rilievo.core.errors import FileChanged, FileError, FileMissing, FileUnreadable, NotAFile

T = TypeVar("T")

# File systems note times in steps; what changed less than this ago may change again unseen.
_STEP_NS = 2_000_000_000
_MOST_KNOWN = 200_000

_known: LRUCache[str, str] = LRUCache(_MOST_KNOWN)
_lock = threading.Lock()


def cannot_read(path: Path, exc: OSError) -> FileError:
    """Return the error for a file that the system does not give."""
    if isinstance(exc, FileNotFoundError):
        return FileMissing(
            path, "does not exist", f"look for it in {path.parent} or choose another file"
        )
    lines = (exc.strerror or str(exc)).strip().splitlines() or [type(exc).__name__]
    return FileUnreadable(
        path, f"cannot be read ({lines[0][:120]})", "check the file's permissions and its drive"
    )


def regular_state(path: Path) -> os.stat_result:
    """Return the state of a file or folder.

    Raises NotAFile for a device, pipe or socket, which would never end; FileUnreadable if none. A
    path that no file can have counts as one that is not there.
    """
    try:
        state = path.stat()
    except OSError as exc:
        raise cannot_read(path, exc) from exc
    except ValueError as exc:  # a NUL in the name
        raise FileMissing(path, "is no name that a file can have", "choose another file") from exc
    if not (stat.S_ISREG(state.st_mode) or stat.S_ISDIR(state.st_mode)):
        raise NotAFile(
            path, "is a device, pipe or socket and no file", "choose a file with an image in it"
        )
    return state


def is_below(path: Path, folder: Path) -> bool:
    """Whether a file lies below a folder once all links are followed."""
    try:
        return path.resolve().is_relative_to(folder.resolve())
    except (OSError, RuntimeError, ValueError):  # a loop of links, or no name at all
        return False


def files_below(folder: Path) -> list[Path]:
    """Return all files of a folder that is one image, in a fixed order."""
    files: list[Path] = []
    for base, folders, names in os.walk(folder):
        folders.sort()
        files += [Path(base, name) for name in sorted(names)]
    return files


def identity_of_files(files: Sequence[Path]) -> str:
    """Name the present state of files without reading them. Raises FileUnreadable."""
    states = []
    for file in files:
        try:
            states.append(file.stat())
        except OSError as exc:
            raise cannot_read(file, exc) from exc
    return identity_of_states(files, states)


def identity_of_states(files: Sequence[Path], states: Sequence[os.stat_result]) -> str:
    """Name the state of files that was asked for already."""
    text = "".join(
        f"{file.absolute()}\0{state.st_dev} {state.st_ino} {state.st_size} "
        f"{state.st_mtime_ns} {state.st_ctime_ns}\0"
        for file, state in zip(files, states, strict=True)
    )
    return hashlib.sha256(text.encode(errors="surrogateescape")).hexdigest()


def _are_settled(files: Sequence[Path]) -> bool:
    newest = max((file.stat().st_ctime_ns for file in files), default=0)
    return time.time_ns() - newest > _STEP_NS


def known_checksum(identity: str) -> str:
    """Return the checksum that this process has read of files in a state; "" for none."""
    with _lock:
        return str(_known.get(identity, ""))


def checksum_of_files(files: Sequence[Path], folder: Path) -> str:
    """Return the SHA-256 of a file in hexadecimal digits; of several, that of all with their names.

    It is read once a process as long as the files stay as they are. folder : names are relative
    to it. Raises FileUnreadable, and FileChanged where they change meanwhile.
    """
    identity = identity_of_files(files)
    checksum = known_checksum(identity)
    if checksum:
        return checksum
    try:
        checksum = _read_checksum(files, folder)
        settled = _are_settled(files)
    except OSError as exc:
        raise cannot_read(Path(exc.filename or files[0]), exc) from exc
    if identity_of_files(files) != identity:
        raise changed_meanwhile(files[0])
    if settled:
        with _lock:
            _known[identity] = checksum
    return checksum


def _read_checksum(files: Sequence[Path], folder: Path) -> str:
    if len(files) == 1 and files[0] == folder:
        with folder.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    base = folder if folder.is_dir() else folder.parent
    digest = hashlib.sha256()
    for each in files:
        digest.update(os.path.relpath(each, base).encode(errors="surrogateescape"))
        with each.open("rb") as file:
            digest.update(hashlib.file_digest(file, "sha256").digest())
    return digest.hexdigest()


def changed_meanwhile(path: Path) -> FileChanged:
    """Return the error for a file that changed while it was read."""
    return FileChanged(
        path, "changed while it was read", "wait until it is written whole, and open it again"
    )


def read_unchanged(
    path: Path, files: Callable[[], Sequence[Path]], read: Callable[[], T]
) -> tuple[T, str]:
    """Return what `read` makes of files that stay the same all along, and their identity.

    files : all that are read. Raises FileChanged, or FileMissing for one that went away.
    """
    before = identity_of_files(files())
    try:
        result = read()
    except Exception:
        # What is wrong with the contents matters less than that they changed.
        if identity_of_files(files()) != before:
            raise changed_meanwhile(path) from None
        raise
    if identity_of_files(files()) != before:
        raise changed_meanwhile(path)
    return result, before
