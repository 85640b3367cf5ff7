"""JSON from files that others may have written, edited or damaged, with limits on all of it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from rilievo.core.errors import FileMissing, FileUnreadable, NotAFile

# What is nested deeper than this was not written by a person or a program with a purpose.
MOST_LEVELS = 60
_MOST_DIGITS = 300


class JsonError(ValueError):
    """The text is no JSON that is read; the message says why, without the file."""


def parsed(text: str) -> Any:
    """Return what a JSON text says, as plain values. Raises JsonError with a reason."""
    if "\0" in text or "\\u0000" in text:
        raise JsonError("has a NUL character")
    try:
        data = json.loads(text, parse_int=_whole_number)
    except json.JSONDecodeError as exc:
        raise JsonError(f"is not valid JSON (line {exc.lineno}, column {exc.colno})") from exc
    except RecursionError as exc:
        raise JsonError(f"is nested deeper than {MOST_LEVELS} levels") from exc
    level, depth = [data], 0
    while level:
        depth += 1
        if depth > MOST_LEVELS:
            raise JsonError(f"is nested deeper than {MOST_LEVELS} levels")
        level = [inner for outer in level for inner in _inside(outer)]
    return data


def _inside(value: Any) -> list[Any]:
    if isinstance(value, dict):
        value = list(value.values())
    if not isinstance(value, list):
        return []
    return [inner for inner in value if isinstance(inner, dict | list)]


def _whole_number(digits: str) -> int:
    if len(digits) > _MOST_DIGITS:
        raise JsonError(f"has a number of {len(digits)} digits")
    return int(digits)


def read_text(path: Path, most: int, what: str) -> str:
    """Return the text in a file. Raises a FileError; JsonError where it is too long or no text.

    most : bytes. what : what the file should be, for the remedy.
    """
    try:
        state = path.stat()
        if not path.is_file():
            raise NotAFile(path, "is a folder, device or pipe", f"choose {what}")
        if state.st_size > most:
            raise JsonError(f"is longer than {most // 1_000_000} MB")
        with path.open("rb") as file:
            content = file.read(most + 1)
        return content.decode("utf-8")
    except FileNotFoundError as exc:
        raise FileMissing(path, "does not exist", f"choose {what}") from exc
    except UnicodeDecodeError as exc:
        raise JsonError("is no text in UTF-8") from exc
    except OSError as exc:
        reason = exc.strerror or "unknown reason"
        raise FileUnreadable(path, f"cannot be read ({reason})", "check its permissions") from exc
    except JsonError:
        raise
    except ValueError as exc:  # a NUL in the name
        raise FileMissing(path, "is no name that a file can have", f"choose {what}") from exc
