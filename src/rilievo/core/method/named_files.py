"""The files that a method names: frames, references, label images."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from rilievo.core.method.method import Method


def files_named(method: Method) -> list[Path]:
    """Return the frames and label images that a method names, once each."""
    return list(dict.fromkeys(Path(name) for name in _files_in(method.model_dump(mode="json"))))


def _files_in(data: Any) -> Iterator[str]:
    if isinstance(data, dict):
        for key, value in data.items():
            if key == "file" and isinstance(value, str) and value:
                yield value
            else:
                yield from _files_in(value)
    elif isinstance(data, list):
        for value in data:
            yield from _files_in(value)
