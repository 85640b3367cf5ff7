"""Writing files whole or not at all."""

from __future__ import annotations

import errno
import os
import secrets
from collections.abc import Callable
from pathlib import Path

from rilievo.core.errors import FileUnreadable
from rilievo.core.temporary_files import listed


def write_text_safely(path: Path, text: str) -> None:
    """Write beside the target and move into place, so that a crash leaves the old file whole."""
    write_bytes_safely(path, text.encode("utf-8"))


def write_bytes_safely(path: Path, content: bytes) -> None:
    """As `write_text_safely`, for bytes. Raises FileUnreadable with the reason."""

    write_safely(path, lambda target: target.write_bytes(content))


def write_safely(path: Path, fill: Callable[[Path], object]) -> None:
    """As `write_text_safely`; `fill` writes the file that it is given the path of."""
    temporary = path.with_name(f".rilievo-{secrets.token_hex(8)}{path.suffix}")
    try:
        with listed(temporary):
            try:
                # Made anew, never one that is there or that a link leads to.
                temporary.touch(mode=0o644, exist_ok=False)
                fill(temporary)
                _to_disk(temporary)
                temporary.replace(path)
                _to_disk(path.parent)
            finally:
                temporary.unlink(missing_ok=True)
    except OSError as exc:
        raise cannot_write(path, exc) from exc


def _to_disk(path: Path) -> None:
    """Have what was written to a file, or the names in a folder, outlast a loss of power."""
    try:
        handle = os.open(path, os.O_RDONLY)
    except PermissionError:
        return  # a folder that may be written to and not read
    try:
        os.fsync(handle)
    except OSError as exc:
        # Some file systems cannot do it for folders.
        if exc.errno not in (errno.EINVAL, errno.ENOTSUP, errno.EBADF):
            raise
    finally:
        os.close(handle)


def cannot_write(path: Path, exc: OSError) -> FileUnreadable:
    """Return the error for a file that cannot be written."""
    reason = str(exc.strerror or exc)
    if exc.errno == errno.ENOSPC or "is full" in reason:
        remedy = "free some space there and do it again; what was there before is whole"
    else:
        remedy = f"choose a folder you may write to instead of {path.parent}"
    return FileUnreadable(path, f"cannot be written ({reason})", remedy)
