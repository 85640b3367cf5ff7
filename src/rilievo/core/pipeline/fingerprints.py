"""What tells results from others: a name of all numbers, a short code of all, versions."""

from __future__ import annotations

import hashlib
import importlib.metadata
import platform
import re
from collections.abc import Iterable
from functools import cache

import numpy as np

from rilievo._version import __version__
from rilievo.core.table.table import RegionTable

# Without letters and digits that are taken for each other.
_LETTERS = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
_CODE_LETTERS, _GROUP = 12, 4


@cache
def package_versions() -> dict[str, str]:
    """Return the versions of Rilievo, of Python and of the packages that it needs."""
    versions = {"rilievo": __version__, "python": platform.python_version()}
    try:
        requirements = importlib.metadata.requires("rilievo") or []
    except importlib.metadata.PackageNotFoundError:
        return versions
    for line in requirements:
        if "extra ==" in line:
            continue
        name = re.split(r"[^A-Za-z0-9._-]", line, maxsplit=1)[0]
        try:
            versions[name] = importlib.metadata.version(name)
        except importlib.metadata.PackageNotFoundError:
            continue
    return versions


def numbers_digest(table: RegionTable) -> str:
    """Return the name of all numbers of a sample, to the bit: the same name, the same numbers."""
    sums = hashlib.sha256()
    sums.update("\n".join([table.sample, *table.classes, table.unit]).encode())
    sums.update(np.asarray(table.ids, np.int64).tobytes())
    for channel in sorted(table.columns):
        for key in sorted(table.columns[channel]):
            values = np.array(table.column(channel, key), np.float64)
            # There are many undefined numbers, and they are the same.
            values[np.isnan(values)] = np.nan
            sums.update(f"\n{channel}\n{key}\n".encode())
            sums.update((values + 0.0).tobytes())
    return sums.hexdigest()


def whole_code(method_checksum: str, samples: Iterable[tuple[str, str, str]]) -> str:
    """Return a short code of a method, its data and its numbers, such as “8K2M-0QZT-71XW”.

    samples : name, checksum of the files and `numbers_digest` of each, in any order.
    """
    lines = sorted("\t".join(fields) for fields in samples)
    number = int(hashlib.sha256("\n".join([method_checksum, *lines]).encode()).hexdigest(), 16)
    letters = ""
    for _ in range(_CODE_LETTERS):
        number, letter = divmod(number, len(_LETTERS))
        letters += _LETTERS[letter]
    return "-".join(letters[k : k + _GROUP] for k in range(0, _CODE_LETTERS, _GROUP))
