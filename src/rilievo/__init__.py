"""Rilievo measures pixel intensities in grayscale photographs.

    import rilievo
    sample = rilievo.open_sample("field.tif")
    method = rilievo.Method.load("lipid.json")
    table = rilievo.measure(sample, method).table

Names are loaded when first used, so that the command line starts at once. Progress of a batch is
logged to the logger `rilievo`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rilievo._version import __version__

if TYPE_CHECKING:
    from rilievo.core.errors import RilievoError
    from rilievo.core.files import read_sample as open_sample
    from rilievo.core.image.image import Sample
    from rilievo.core.method.method import Method
    from rilievo.notebook.batch import Batch, measure_batch
    from rilievo.notebook.comparing import ComparedGroups, Figure, compare, plot, report
    from rilievo.notebook.methods import load_method
    from rilievo.notebook.regions import correct, find_regions, labels, measure

__all__ = [
    "Batch",
    "ComparedGroups",
    "Figure",
    "Method",
    "RilievoError",
    "Sample",
    "__version__",
    "compare",
    "correct",
    "find_regions",
    "labels",
    "load_method",
    "measure",
    "measure_batch",
    "open_sample",
    "plot",
    "report",
]

_PLACES = {
    "Batch": "rilievo.notebook.batch",
    "ComparedGroups": "rilievo.notebook.comparing",
    "Figure": "rilievo.notebook.comparing",
    "Method": "rilievo.core.method.method",
    "RilievoError": "rilievo.core.errors",
    "Sample": "rilievo.core.image.image",
    "compare": "rilievo.notebook.comparing",
    "correct": "rilievo.notebook.regions",
    "find_regions": "rilievo.notebook.regions",
    "labels": "rilievo.notebook.regions",
    "load_method": "rilievo.notebook.methods",
    "measure": "rilievo.notebook.regions",
    "measure_batch": "rilievo.notebook.batch",
    "open_sample": "rilievo.core.files:read_sample",
    "plot": "rilievo.notebook.comparing",
    "report": "rilievo.notebook.comparing",
}


def __getattr__(name: str) -> Any:
    import importlib  # noqa: PLC0415

    if name not in _PLACES:
        raise AttributeError(f"module 'rilievo' has no attribute {name!r}")
    module, _, attribute = _PLACES[name].partition(":")
    return getattr(importlib.import_module(module), attribute or name)


def __dir__() -> list[str]:
    return sorted(__all__)
