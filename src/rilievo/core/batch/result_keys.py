"""What a result depends on, as a short name: the same name, the same numbers.

A sample is not measured again while its file (by checksum), its method and the program stay.
"""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path
from typing import Any

from rilievo._version import __version__
from rilievo.core.cleaning import CLEANERS
from rilievo.core.errors import FileError
from rilievo.core.files.reader import READERS, file_checksum
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.method import Method, digest
from rilievo.core.method.named_files import files_named
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.registry import OWN, Registry
from rilievo.core.signal.steps import STEPS


@cache
def program() -> str:
    """Name what computes: the version, and the code itself, which changes between versions."""
    folder = Path(__file__).parents[1]
    code = [
        [path.relative_to(folder).as_posix(), hashlib.sha256(path.read_bytes()).hexdigest()]
        for path in sorted(folder.rglob("*.py"))
    ]
    return digest(__version__, code)


def packages(method: Method) -> list[list[str]]:
    """Return name, version and content of each package from elsewhere that a method's results need.

    The readers of all of them are named: which one reads a file shows when it is opened.
    """
    used: list[tuple[Registry[Any], str]] = [(STEPS, use.step) for use in method.steps]
    used += [(THRESHOLDS, outline.threshold.way) for outline in method.outlines]
    used += [(CLEANERS, use.cleaner) for outline in method.outlines for use in outline.clean]
    used += [(QUANTITIES, key) for key in method.measure.quantities]
    used += [(READERS, key) for key in READERS]
    providers = {registry.provider(key) for registry, key in used} - {OWN}
    return sorted([provider.package, provider.version, provider.content] for provider in providers)


class ResultKeys:
    """Names the results of one method; files beside the samples are named by their contents.

    stability : whether the results tell what a change of the threshold does.
    """

    def __init__(self, method: Method, *, stability: bool = True) -> None:
        self._method, self._stability = method, stability
        self._common = method.changed(exceptions={}).of_regions
        self._packages = packages(method)
        self._files = [file for file in files_named(method) if "{sample}" not in str(file)]
        self._labels = [
            outline.label_image["file"]
            for outline in method.outlines
            if "{sample}" in outline.label_image.get("file", "")
        ]

    def of(self, item: SampleRef) -> str:
        """Name all that an item's result depends on but its own pixels."""
        exception = self._method.exception_for(item.name)
        parts = [
            [p.image, p.planes, p.channel, p.path.name, *([p.frame.text] if p.frame else [])]
            for p in item.sources
        ]
        picks = [pick.model_dump(mode="json") for pick in self._method.picks]
        return digest(
            program(), self._packages, self._common, exception, item.name, item.overrides, parts,
            self.beside(item), picks, self._stability,
        )  # fmt: skip

    def beside(self, item: SampleRef) -> list[str]:
        """Name the present contents of frames and label images, which may change meanwhile."""
        labels = [Path(text.replace("{sample}", item.name)) for text in self._labels]
        return [_state(file) for file in (*self._files, *labels)]


def _state(file: Path) -> str:
    """Name a file's contents; one that is not there has none, which is said when it is read."""
    try:
        return file_checksum(file)
    except FileError:
        return "missing"
