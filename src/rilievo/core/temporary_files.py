"""Temporary files that a killed program leaves, and how they are found at the next start.

Each process lists what it is writing in a file of its own, in the user's state folder; a list
whose process is gone names what may be removed.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import threading
from collections.abc import Iterator
from pathlib import Path

import platformdirs

_lock = threading.Lock()
_listed: set[Path] = set()


def _folder() -> Path:
    return Path(platformdirs.user_state_dir("rilievo")) / "writing"


def _own() -> Path:
    return _folder() / f"{socket.gethostname()}-{os.getpid()}.txt"


@contextlib.contextmanager
def listed(path: Path) -> Iterator[None]:
    """Have a temporary file or folder removed at the next start, if this program is killed."""
    _change(path.absolute(), add=True)
    try:
        yield
    finally:
        _change(path.absolute(), add=False)


def _change(path: Path, *, add: bool) -> None:
    with _lock:
        (_listed.add if add else _listed.discard)(path)
        # Without a list a killed program leaves a file behind, which hurts nobody.
        with contextlib.suppress(OSError):
            if _listed:
                _folder().mkdir(parents=True, exist_ok=True)
                text = "\n".join(str(one) for one in _listed)
                _own().write_text(text, "utf-8", "surrogateescape")
            else:
                _own().unlink(missing_ok=True)


def is_running(process: int) -> bool:
    """Whether a process of this machine is there."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def remove_left_behind() -> list[Path]:
    """Remove what killed programs of this machine were writing; return what it was."""
    removed: list[Path] = []
    with contextlib.suppress(OSError):
        for listing in sorted(_folder().glob(f"{socket.gethostname()}-*.txt")):
            process = listing.stem.rpartition("-")[2]
            if not process.isdigit() or is_running(int(process)):
                continue
            for line in listing.read_text("utf-8", "surrogateescape").splitlines():
                removed += _remove(Path(line))
            listing.unlink(missing_ok=True)
    return removed


def _remove(path: Path) -> list[Path]:
    # Only names that this program gives; a list is a file that anybody could write.
    if not path.name.startswith((".rilievo-", "rilievo-")) or path.is_symlink():
        return []
    with contextlib.suppress(OSError):
        if path.is_dir():
            shutil.rmtree(path)
            return [path]
        if path.is_file():
            path.unlink()
            # What a database keeps beside it while it is written.
            path.with_name(f"{path.name}-journal").unlink(missing_ok=True)
            return [path]
    return []
