"""A keyed list that modules add themselves to, and other packages through entry points.

Steps, thresholds, readers and quantities each have one. Menus, cards, help, the method file,
the command line and the documentation are made from what is listed here.
"""

from __future__ import annotations

import functools
import importlib
import pkgutil
from collections.abc import Iterator, Sequence
from importlib.metadata import entry_points
from typing import Any, Generic, TypeVar

Entry = TypeVar("Entry")


@functools.cache
def _entry_points() -> Any:
    """All entry points of the environment; listing them takes a while."""
    return entry_points()


class Registry(Generic[Entry]):
    """Entries under stable keys, in the order in which they were added.

    The package that owns a registry calls `discover` at the end of its `__init__`, so that the
    list is whole, and in the same order, before anyone can ask.
    """

    def __init__(self, kind: str, package: str, entry_point_group: str) -> None:
        self._kind = kind
        self._package = package
        self._group = entry_point_group
        self._entries: dict[str, Entry] = {}

    def add(self, key: str, entry: Entry) -> None:
        """List `entry` under `key`; a key that is taken is a programming error."""
        if key in self._entries:
            raise ValueError(f"The {self._kind} “{key}” is registered twice.")
        self._entries[key] = entry

    def discover(self) -> None:
        """Import every module of the package, by name, and those that entry points name.

        A module adds its entries as it is imported, so a new entry is one new file.
        """
        package = importlib.import_module(self._package)
        for module in pkgutil.iter_modules(package.__path__):
            importlib.import_module(f"{self._package}.{module.name}")
        for point in _entry_points().select(group=self._group):
            point.load()

    def __getitem__(self, key: str) -> Entry:
        return self._entries[key]

    def __contains__(self, key: object) -> bool:
        return key in self._entries

    def __iter__(self) -> Iterator[str]:
        return iter(self._entries)

    def __len__(self) -> int:
        return len(self._entries)

    def values(self) -> Sequence[Entry]:
        """Return all entries in order."""
        return tuple(self._entries.values())
