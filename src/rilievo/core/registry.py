"""Keyed lists that modules add themselves to, and other packages through entry points.

Readers, steps, thresholds, clean-up, quantities, plots and table writers each have one. Menus,
cards, help, the method file, the command line and the documentation are made from what is listed
here.

What a package from elsewhere adds is left out where it cannot be imported, with one sentence in
`left_out` that names the package; it never takes the program down.
"""

from __future__ import annotations

import functools
import hashlib
import importlib
import importlib.util
import pkgutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from importlib.metadata import EntryPoint, entry_points
from pathlib import Path
from typing import Any, Generic, TypeVar

from rilievo._version import __version__

Entry = TypeVar("Entry")


@functools.cache
def _entry_points() -> Any:
    """All entry points of the environment; listing them takes a while."""
    return entry_points()


@dataclass(frozen=True)
class Provider:
    """The package that an entry comes from. content : SHA-256 of its code; "" for Rilievo's own.

    What Rilievo's own code contains is named once for all entries; see `batch.result_keys`.
    """

    package: str
    version: str
    content: str = ""


OWN = Provider("rilievo", __version__)

_left_out: list[str] = []
# Whose module is being imported; entries of any registry that it adds are that package's.
_providers_at_work: list[Provider] = [OWN]
# What other packages added, in order, so that it can be taken back when one of them fails.
_from_elsewhere: list[tuple[Registry[Any], str]] = []


def left_out() -> tuple[str, ...]:
    """Return a sentence for each entry point of another package that could not be taken."""
    return tuple(_left_out)


@dataclass(frozen=True)
class Addition:
    """An entry that another package added. kind : step, threshold, …"""

    kind: str
    key: str
    provider: Provider


def additions() -> tuple[Addition, ...]:
    """Return what other packages added, of the registries that were loaded, in order."""
    return tuple(
        Addition(registry.kind, key, registry.provider(key))
        for registry, key in _from_elsewhere
        if key in registry
    )


class Registry(Generic[Entry]):
    """Entries under stable keys, by their order; those without one come last, as they were added.

    The package that owns a registry calls `discover` at the end of its `__init__`, so that the
    list is whole before anyone can ask.
    """

    def __init__(self, kind: str, package: str, entry_point_group: str) -> None:
        self._kind = kind
        self._package = package
        self._group = entry_point_group
        self._entries: dict[str, Entry] = {}
        self._orders: dict[str, float] = {}
        self._providers: dict[str, Provider] = {}

    def add(self, key: str, entry: Entry, order: float | None = None) -> None:
        """List `entry` under `key`; a key that is taken is a programming error.

        order : where it stands in menus and documents, lowest first.
        """
        if key in self._entries:
            raise ValueError(f"The {self._kind} “{key}” is registered twice.")
        self._entries[key] = entry
        self._orders[key] = float("inf") if order is None else order
        self._providers[key] = provider = _providers_at_work[-1]
        if provider is not OWN:
            _from_elsewhere.append((self, key))
        self._entries = {k: self._entries[k] for k in sorted(self._entries, key=self._orders.get)}  # type: ignore[arg-type]

    def remove(self, key: str) -> None:
        """Take an entry off the list."""
        del self._entries[key], self._orders[key], self._providers[key]

    def discover(self) -> None:
        """Import every module of the package, and those that entry points name.

        A module adds its entries as it is imported, so a new entry is one new file.
        """
        package = importlib.import_module(self._package)
        # It may be a module of another package that asks for the list first.
        _providers_at_work.append(OWN)
        try:
            for module in pkgutil.iter_modules(package.__path__):
                importlib.import_module(f"{self._package}.{module.name}")
        finally:
            _providers_at_work.pop()
        for point in _entry_points().select(group=self._group):
            self._take(point)

    def _take(self, point: EntryPoint) -> None:
        """Import what an entry point names; leave all of it out when any of it fails."""
        before = len(_from_elsewhere)
        provider = _provider_of(point)
        _providers_at_work.append(provider)
        try:
            point.load()
        except Exception as exc:
            for registry, key in _from_elsewhere[before:]:
                if registry.provider(key) is provider:
                    registry.remove(key)
            _left_out.append(
                f"The {self._kind} “{point.name}” of the package “{provider.package}” is left "
                f"out: {point.value} could not be loaded ({type(exc).__name__}: {exc}). Update or "
                "remove the package."
            )
        finally:
            _providers_at_work.pop()

    @property
    def kind(self) -> str:
        """What an entry is, in words."""
        return self._kind

    def provider(self, key: str) -> Provider:
        """Return the package that an entry comes from."""
        return self._providers.get(key, OWN)

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


def _provider_of(point: EntryPoint) -> Provider:
    """Name the package of an entry point by its name, version and the code it holds."""
    distribution = point.dist
    top = point.module.split(".")[0]
    name = distribution.name if distribution is not None else top
    version = distribution.version if distribution is not None else ""
    return Provider(name, version, _code_digest(top))


@functools.cache
def _code_digest(package: str) -> str:
    """Return the SHA-256 of all Python files of a package, or of a single module."""
    try:
        spec = importlib.util.find_spec(package)
    except (ImportError, ValueError):
        return ""
    if spec is None:
        return ""
    if spec.submodule_search_locations:
        roots = [Path(folder) for folder in spec.submodule_search_locations]
        files = [(root, file) for root in roots for file in sorted(root.rglob("*.py"))]
    else:
        files = [(Path(spec.origin).parent, Path(spec.origin))] if spec.origin else []
    digest = hashlib.sha256()
    for root, file in files:
        digest.update(file.relative_to(root).as_posix().encode())
        digest.update(file.read_bytes())
    return digest.hexdigest()
