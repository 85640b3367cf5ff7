"""The images that a command is given: files, folders of this machine, and URLs of both."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rilievo.core.batch import BatchItem


_MOST_READ = 20_000


def local_paths(given: Sequence[str]) -> list[Path]:
    """Return those that are no URLs."""
    from rilievo.core.files.remote import is_url  # noqa: PLC0415

    return [Path(text) for text in given if not is_url(text)]


def given_items(given: Sequence[str]) -> list[BatchItem]:
    """Return the images as samples with unique names; of a folder those in it and below.

    Raises RemoteError for a URL that cannot be listed.
    """
    from rilievo.core.batch import items_at, items_for  # noqa: PLC0415
    from rilievo.core.files import images_below  # noqa: PLC0415
    from rilievo.core.files.reader_helpers import unique_names  # noqa: PLC0415
    from rilievo.core.files.remote import images_at, is_url  # noqa: PLC0415

    paths, urls = local_paths(given), [text for text in given if is_url(text)]
    items = items_for(images_below(paths), paths) if paths else []
    if not urls:
        return items
    listed = dict.fromkeys(one for url in urls for one in images_at(url))
    items += items_at(list(listed), urls)
    names = unique_names(item.name for item in items)
    return [replace(item, name=name) for item, name in zip(items, names, strict=True)]


def named_items(paths: Sequence[Path], names: str) -> list[BatchItem]:
    """Return images as samples, as a pattern splits their names; files may be joined.

    Raises FileError for a pattern that cannot be understood, or that a name does not fit.
    """
    from rilievo.core.batch import BatchItem  # noqa: PLC0415
    from rilievo.core.errors import FileUnreadable  # noqa: PLC0415
    from rilievo.core.files import images_below  # noqa: PLC0415
    from rilievo.core.files.grouping import file_labels  # noqa: PLC0415
    from rilievo.core.files.import_naming import NamePattern, PatternError, propose  # noqa: PLC0415
    from rilievo.core.files.reader_helpers import unique_names  # noqa: PLC0415

    files = [path.absolute() for path in images_below(paths)]
    try:
        proposals = propose(files, NamePattern.parse(names))
    except PatternError as exc:
        raise FileUnreadable(names, f"is no pattern of names: {exc}", "mend --names") from exc
    for proposal in proposals:
        if proposal.problem:
            raise FileUnreadable(proposal.parts[0].path, proposal.problem, "mend --names")
    labels = dict(zip(files, file_labels(files, list(paths)), strict=True))
    found = unique_names(proposal.name for proposal in proposals)
    return [
        BatchItem(
            one.parts[0].path,
            name,
            one.group,
            one.parts,
            attributes={
                **({"replicate": one.replicate} if one.replicate else {}),
                **one.attributes,
            },
            file=labels[one.parts[0].path],
        )
        for one, name in zip(proposals, found, strict=True)
    ]


def telling_names(paths: Sequence[Path]) -> str:
    """Return the pattern of names that tell of channels in files of their own; "" for others."""
    from rilievo.core.files.name_reading import read_names  # noqa: PLC0415

    # Of very many files it would take longer than it helps.
    reading = read_names(paths) if len(paths) <= _MOST_READ else None
    if reading is None or all(part.meaning != "channel" for part in reading.parts):
        return ""
    return reading.pattern
