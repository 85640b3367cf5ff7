"""Measuring samples in a test, by one method."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from rilievo.core.batch import (
    Measurer,
    Progress,
    Resources,
    Results,
    ResultStore,
    RunRequest,
)
from rilievo.core.batch.measurer import no_report
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import Control


def run_batch(
    samples: Sequence[SampleRef],
    method: Method,
    *,
    jobs: int = 1,
    scheduler: str = "",
    memory: int = 512_000_000,
    store: ResultStore | None = None,
    control: Control | None = None,
    cache: AnalysisCache | None = None,
    report: Callable[[Progress], None] = no_report,
    stability: bool = True,
    pictures: int = 0,
    labels: Path | None = None,
) -> Results:
    request = RunRequest(
        samples=samples, methods=(method,), stability=stability, pictures=pictures, labels=labels
    )
    resources = Resources(jobs=jobs, scheduler=scheduler, memory=memory)
    with Measurer(cache, store, control, resources) as measurer:
        return measurer.measure(request, report)[0]
