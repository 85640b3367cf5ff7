"""What is asked of a batch, as one immutable value."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from rilievo.core.batch.task import WORKER_BUDGET
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.method.method import Method


@dataclass(frozen=True, kw_only=True)
class RunRequest:
    """Samples, the methods that measure them, and what is kept beside the numbers.

    stability : whether each method also runs at 90 and 110 % of each threshold, for the report.
    pictures : of so many samples at most, evenly chosen, small ones are made and kept with the
    outcomes. labels : a folder in which those that are measured now leave label images
    (`label_files`).
    """

    samples: Sequence[SampleRef]
    methods: Sequence[Method]
    stability: bool = True
    pictures: int = 0
    labels: Path | None = None


@dataclass(frozen=True, kw_only=True)
class Resources:
    """What a batch may use.

    jobs : worker processes at most; 1 works in a thread of this one. scheduler : address of a Dask
    cluster that works instead. memory : bytes that the workers may keep together beside the
    samples they are at.
    """

    jobs: int = 1
    scheduler: str = ""
    memory: int = WORKER_BUDGET
