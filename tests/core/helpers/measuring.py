"""Measuring samples in a test, by one method."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from typing import Any

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
    store: ResultStore | None = None,
    control: Control | None = None,
    cache: AnalysisCache | None = None,
    report: Callable[[Progress], None] = no_report,
    **fields: Any,
) -> Results:
    """Measure; fields : those of `Resources` and of `RunRequest`."""
    of_resources = {f.name for f in dataclasses.fields(Resources)} & set(fields)
    resources = Resources(**{name: fields.pop(name) for name in of_resources})
    request = RunRequest(samples=samples, methods=(method,), **fields)
    with Measurer(cache, store, control, resources) as measurer:
        return measurer.measure(request, report)[0]
