"""The computation: no interface code; usable from a notebook.

The packages in the order of the way of the data, each of which knows only those above it:

wording   numbers, counts and lists as people read them
image     pixels as they are: planes, samples, histograms, profiles, what a file says of itself
files     readers, one module a format; how files become samples
view      from numbers to what the screen shows; nothing of it is ever measured
signal    filters, backgrounds and curves; the registered steps are in `signal.steps`
regions   shapes, label images, contours, edits by hand; thresholds are in `regions.thresholds`
measure   quantities of regions and stars, behind one registry
cleaning  clean-up of found regions, which may measure them
table     measurements as columns and rows; derived columns, compartments, table files
method    the method as data: steps, region classes, quantities; edited, compared, described
pipeline  a method applied to a sample: signal, regions, table, previews, checks, origins
compare   groups of samples: statistics, tests, curves, sentences; plots are in `compare.plots`
study     samples, groups, method and views as one state; the study file; history
batch     a method over many samples: threads, processes, a cluster; results kept and resumed
report    figures, HTML and PDF, and the files that a run leaves behind

At the root: tables of results, errors, the registry of entries, parameters, progress, the cache of
results, formulas, robust statistics, work piece by piece, memory given back, atomic writing,
temporary files, JSON of unknown origin.

Where things are: a threshold is computed in `regions.thresholds`, the table is made by
`pipeline.analysis`, a study is saved by `study.study_file`, samples are read and measured by
`batch.measurer` alone. What a file is at a moment, and that it stayed so, is in
`files.file_state`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rilievo.core.batch import Measurer
    from rilievo.core.compare import Question
    from rilievo.core.errors import RilievoError
    from rilievo.core.files import read_sample
    from rilievo.core.image.image import Plane, Sample
    from rilievo.core.method.method import Method
    from rilievo.core.pipeline.analysis import Analysis
    from rilievo.core.study.study import StudyState
    from rilievo.core.study.study_file import load_study, save_study

__all__ = [
    "Analysis",
    "Measurer",
    "Method",
    "Plane",
    "Question",
    "RilievoError",
    "Sample",
    "StudyState",
    "load_study",
    "read_sample",
    "save_study",
]

_MODULES = {
    "Analysis": "pipeline.analysis",
    "Measurer": "batch",
    "Method": "method.method",
    "Plane": "image.image",
    "Question": "compare",
    "RilievoError": "errors",
    "Sample": "image.image",
    "StudyState": "study.study",
    "load_study": "study.study_file",
    "read_sample": "files",
    "save_study": "study.study_file",
}


def __getattr__(name: str) -> Any:
    # Loaded when first used: importing one package must not load all of them.
    if name not in _MODULES:
        raise AttributeError(f"module 'rilievo.core' has no attribute {name!r}")
    import importlib  # noqa: PLC0415

    return getattr(importlib.import_module(f"rilievo.core.{_MODULES[name]}"), name)
