"""The samples of a batch from what was named: files, folders, and URLs of both."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from rilievo.core.batch.item import BatchItem, items_at, items_for
from rilievo.core.files import images_below
from rilievo.core.files.reader_helpers import unique_names
from rilievo.core.files.remote import images_at, is_url


def items_below(given: Sequence[str | Path]) -> list[BatchItem]:
    """Return the images as samples with unique names; of a folder those in it and below.

    Raises RemoteError for a URL that cannot be listed.
    """
    urls = [one for one in given if isinstance(one, str) and is_url(one)]
    paths = [Path(one) for one in given if one not in urls]
    items = items_for(images_below(paths), paths) if paths else []
    if not urls:
        return items
    listed = dict.fromkeys(one for url in urls for one in images_at(url))
    items += items_at(list(listed), urls)
    names = unique_names(item.name for item in items)
    return [replace(item, name=name) for item, name in zip(items, names, strict=True)]
