"""The images that a command is given: files, folders of this machine, and URLs of both."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rilievo.core.batch import BatchItem


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
