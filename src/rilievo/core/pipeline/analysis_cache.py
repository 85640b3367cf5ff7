"""What analyses share: files that were read, and results within a memory budget."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from cachetools import LRUCache

from rilievo.core.cache import BudgetCache
from rilievo.core.files import read_sample
from rilievo.core.files.reader import file_identity
from rilievo.core.files.sample_parts import Part, parts_checksum, read_parts
from rilievo.core.image.image import Sample
from rilievo.core.image.stack import Frame
from rilievo.core.method.method import Method
from rilievo.core.method.named_files import files_named
from rilievo.core.pipeline.node import Node

DEFAULT_BUDGET = 2_000_000_000
# (channel, index of a step) → what the plane after it is called.
StepNames = dict[tuple[str, int], str]


class AnalysisCache(BudgetCache):
    """Keeps samples as their files give them, and all that analyses compute.

    budget : bytes that are kept.
    """

    def __init__(self, budget: int = DEFAULT_BUDGET) -> None:
        super().__init__(budget)
        self._names: LRUCache[Any, tuple[Method, StepNames | None]] = LRUCache(256)
        self._naming = threading.Lock()

    def clear(self) -> None:
        """Drop all that is kept: nothing of it will be asked for again."""
        super().clear()
        with self._naming:
            self._names.clear()

    def file(self, path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
        """Return the sample in a file, without a checksum, which takes longer than the pixels.

        frame : one plane of a stack, or what is made of several. Raises a FileError.
        """
        return Node(
            self,
            "file",
            lambda: read_sample(path, image, frame, checksum=False),
            file_identity(path, image),
            frame,
            size=lambda sample: sample.nbytes,
        ).get()

    def sample(self, parts: Sequence[Part], name: str) -> Sample:
        """Return the sample made of parts of files, under a name. Raises a FileError."""
        return read_parts(parts, name, self.file)

    def checksum(self, parts: Sequence[Part], sample: Sample) -> str:
        """Return the checksum of a sample's files, once for as long as they stay as they are."""
        return Node(self, "checksum", lambda: parts_checksum(parts), sample.identity).get()

    def step_names(self, sample: Sample, method: Method, level: int) -> StepNames:
        """Return what the steps of a method are called on a sample, filled once by all who ask.

        Where the state of files could change the names, each who asks has some of its own.
        """
        key = (id(method), sample.content, sample.name, level)
        with self._naming:
            remembered = self._names.get(key)
            if remembered is None or remembered[0] is not method:
                remembered = self._names[key] = method, None if files_named(method) else {}
            return {} if remembered[1] is None else remembered[1]
