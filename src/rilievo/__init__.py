"""Rilievo measures pixel intensities in grayscale photographs.

    import rilievo
    sample = rilievo.open_sample("field.tif")
    method = rilievo.Method.load("lipid.json")
    table = rilievo.measure(sample, method).table

Names are loaded when first used, so that the command line starts at once.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rilievo._version import __version__

if TYPE_CHECKING:
    from rilievo.core.errors import RilievoError
    from rilievo.core.files import read_sample as open_sample
    from rilievo.core.image.image import Sample
    from rilievo.core.method.method import Method
    from rilievo.core.pipeline.evaluator import measure

__all__ = ["Method", "RilievoError", "Sample", "__version__", "measure", "open_sample"]


def __getattr__(name: str) -> Any:
    import importlib  # noqa: PLC0415

    modules = {
        "Method": ("rilievo.core.method.method", "Method"),
        "RilievoError": ("rilievo.core.errors", "RilievoError"),
        "Sample": ("rilievo.core.image.image", "Sample"),
        "measure": ("rilievo.core.pipeline.evaluator", "measure"),
        "open_sample": ("rilievo.core.files", "read_sample"),
    }
    if name not in modules:
        raise AttributeError(f"module 'rilievo' has no attribute {name!r}")
    module, attribute = modules[name]
    return getattr(importlib.import_module(module), attribute)
