"""Groups and replicates guessed from where a file lies and what it is called."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from rilievo.core.files import sample_name

_NUMBERED = re.compile(r"^(?P<group>.*?\D)[\s_\-.]*(?P<number>\d+)$")


def file_labels(paths: Sequence[Path], folders: Sequence[Path] = ()) -> list[str]:
    """Return what files are called in tables: their path below the folder that was given.

    Files that were given by themselves have their name. Where that would call two files alike, or
    the files lie in several folders and none was given, it is the path below what all have in
    common.
    """
    if len(distinct := list(dict.fromkeys(paths))) < len(paths):
        # Planes of one file are no files that are called alike.
        label_of = dict(zip(distinct, file_labels(distinct, folders), strict=True))
        return [label_of[path] for path in paths]
    roots = [folder.absolute() for folder in folders if folder.is_dir()]
    whole = [path.absolute() for path in paths]
    labels = []
    for path in whole:
        root = next((root for root in roots if path.is_relative_to(root) and path != root), None)
        labels.append((path.relative_to(root) if root else Path(path.name)).as_posix())
    scattered = not roots and len({path.parent for path in whole}) > 1
    if len(set(labels)) < len(labels) or scattered:
        common = Path(os.path.commonpath([path.parent for path in whole]))
        labels = [path.relative_to(common).as_posix() for path in whole]
    return labels


def trimmed(text: str) -> str:
    """Return a word of a file's name without the separators at its ends, as it is written."""
    return text.strip(" _-.")


def group_by_name(path: Path) -> tuple[str, str]:
    """Return group and replicate: the name before its last number, and that number."""
    match = _NUMBERED.match(sample_name(path))
    if match is None:
        return "", ""
    return trimmed(match["group"]), match["number"]


def group_by_folder(path: Path) -> tuple[str, str]:
    """Return the folder's name as the group, and the last number of the file name."""
    number = re.search(r"(\d+)\D*$", sample_name(path))
    return trimmed(path.parent.name), number[1] if number else ""


def groups_for(
    paths: Sequence[Path], by: Literal["name", "folder", "best"] = "best"
) -> list[tuple[str, str]]:
    """Return group and replicate for each file.

    best : by folder when files of several folders have the same name; by name when every name
    ends in a number; else by folder when there are several.
    """
    by_name = [group_by_name(path) for path in paths]
    by_folder = [group_by_folder(path) for path in paths]
    if by == "name":
        return by_name
    if by == "folder":
        return by_folder
    names = [sample_name(path) for path in paths]
    several = len({path.parent for path in paths}) > 1
    if several and len(set(names)) < len(names):
        return by_folder
    if all(group for group, _ in by_name):
        return by_name
    if several:
        return by_folder
    return [("", number) for _, number in by_name]
