"""Writing files whole or not at all."""

from __future__ import annotations

import errno
import os
import tempfile
from collections.abc import Callable
from pathlib import Path

from rilievo.core.errors import FileUnreadable


def write_text_safely(path: Path, text: str) -> None:
    """Write beside the target and move into place, so that a crash leaves the old file whole."""
    write_bytes_safely(path, text.encode("utf-8"))


def write_bytes_safely(path: Path, content: bytes) -> None:
    """As `write_text_safely`, for bytes. Raises FileUnreadable with the reason."""

    write_safely(path, lambda target: target.write_bytes(content))


def write_safely(path: Path, fill: Callable[[Path], object]) -> None:
    """As `write_text_safely`; `fill` writes the file that it is given the path of."""
    temporary = ""
    try:
        handle, temporary = tempfile.mkstemp(
            prefix=f".{path.stem}.", suffix=path.suffix, dir=path.parent
        )
        os.close(handle)
        fill(Path(temporary))
        with open(temporary, "rb") as file:  # noqa: PTH123
            os.fsync(file.fileno())
        os.chmod(temporary, 0o644)  # noqa: PTH101 (mkstemp makes it private)
        os.replace(temporary, path)  # noqa: PTH105
    except OSError as exc:
        raise cannot_write(path, exc) from exc
    finally:
        if temporary:
            Path(temporary).unlink(missing_ok=True)


def cannot_write(path: Path, exc: OSError) -> FileUnreadable:
    """Return the error for a file that cannot be written."""
    said = str(exc.strerror or exc)
    if exc.errno == errno.ENOSPC or "is full" in said:
        remedy = "free some space there and do it again; what was there before is whole"
    else:
        remedy = f"choose a folder you may write to instead of {path.parent}"
    return FileUnreadable(path, f"cannot be written ({said})", remedy)
