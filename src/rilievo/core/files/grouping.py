"""Groups and replicates guessed from where a file lies and what it is called."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from rilievo.core.files import sample_name

_NUMBERED = re.compile(r"^(?P<group>.*?\D)[\s_\-.]*(?P<number>\d+)$")


def readable(text: str) -> str:
    """Return a file's word as people write it: “low-nitrogen” → “Low nitrogen”."""
    words = re.sub(r"[\s_\-.]+", " ", text).strip()
    return words[:1].upper() + words[1:]


def group_by_name(path: Path) -> tuple[str, str]:
    """Return group and replicate: the name before its last number, and that number."""
    match = _NUMBERED.match(sample_name(path))
    if match is None:
        return "", ""
    return readable(match["group"]), match["number"]


def group_by_folder(path: Path) -> tuple[str, str]:
    """Return the folder's name as the group, and the last number of the file name."""
    number = re.search(r"(\d+)\D*$", sample_name(path))
    return readable(path.parent.name), number[1] if number else ""


def groups_for(
    paths: Sequence[Path], by: Literal["name", "folder", "best"] = "best"
) -> list[tuple[str, str]]:
    """Return group and replicate for each file.

    best : by name when every name ends in a number, else by folder when there are several.
    """
    by_name = [group_by_name(path) for path in paths]
    by_folder = [group_by_folder(path) for path in paths]
    if by == "name":
        return by_name
    if by == "folder":
        return by_folder
    if all(group for group, _ in by_name):
        return by_name
    if len({path.parent for path in paths}) > 1:
        return by_folder
    return [("", number) for _, number in by_name]
