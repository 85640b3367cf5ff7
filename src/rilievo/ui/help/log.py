"""The log: what happened, in a file that is begun anew before it grows large."""

from __future__ import annotations

import logging
from collections import deque
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

LOG = logging.getLogger("rilievo")
_MOST_BYTES, _KEPT_FILES = 1_000_000, 3
_own: list[logging.Handler] = []


def log_file() -> Path:
    """Return where the log is."""
    return Path(platformdirs.user_log_dir("rilievo")) / "rilievo.log"


def begin_log() -> None:
    """Write to the log from now on; where it cannot be written, nothing is."""
    if _own:
        return
    try:
        log_file().parent.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(
            log_file(), maxBytes=_MOST_BYTES, backupCount=_KEPT_FILES, encoding="utf-8", delay=True
        )
    except OSError as exc:
        _take(logging.NullHandler())
        LOG.warning("There is no log: %s", exc)
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    _take(handler)
    LOG.setLevel(logging.INFO)


def _take(handler: logging.Handler) -> None:
    _own.append(handler)
    LOG.addHandler(handler)
    LOG.propagate = False


def end_log() -> None:
    """Close the file of the log."""
    while _own:
        handler = _own.pop()
        LOG.removeHandler(handler)
        handler.close()
    LOG.propagate = True


def last_lines(count: int = 200) -> str:
    """Return the end of the log."""
    try:
        with log_file().open(encoding="utf-8", errors="replace") as file:
            return "".join(deque(file, count))
    except OSError:
        return ""
