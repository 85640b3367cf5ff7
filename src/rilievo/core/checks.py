"""Warnings about a sample: what was found, what it means, what to do."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from rilievo.core.image import Plane, Sample
from rilievo.core.table import RegionTable


@dataclass(frozen=True)
class Check:
    """One warning; `text` is a sentence with the remedy."""

    sample: str
    kind: str
    channel: str
    text: str


def _percent(count: int, total: int) -> str:
    share = 100 * count / total
    return f"{share:.2g} %" if share >= 0.01 else "under 0.01 %"


def _saturated(plane: Plane) -> str | None:
    if plane.saturation is None:
        return None
    count = int(np.count_nonzero(plane.pixels >= plane.saturation))
    if not count:
        return None
    return (
        f"{count} pixels ({_percent(count, plane.pixels.size)}) are at or above the saturation "
        f"level {plane.saturation:g}; their true values are higher. Expose shorter, or leave "
        "saturated pixels out in Measure."
    )


def _undefined(plane: Plane) -> str | None:
    if plane.pixels.dtype.kind != "f":
        return None
    count = plane.pixels.size - int(np.count_nonzero(np.isfinite(plane.pixels)))
    if not count:
        return None
    return (
        f"{count} pixels ({_percent(count, plane.pixels.size)}) have no value; they are left out "
        "of every measurement."
    )


def _constant(plane: Plane) -> str | None:
    finite = plane.pixels[np.isfinite(plane.pixels)]
    if finite.size == 0 or finite.min() != finite.max():
        return None
    return (
        f"All pixels have the value {finite.flat[0]:g}; no threshold can part them. "
        "Check that this is the file you meant."
    )


_CHECKS: tuple[tuple[str, Callable[[Plane], str | None]], ...] = (
    ("saturation", _saturated),
    ("undefined pixels", _undefined),
    ("one value", _constant),
)


def check_sample(sample: Sample) -> list[Check]:
    """Return the warnings about the native pixels of a sample, and the reader's notes."""
    found = [
        Check(sample.name, kind, channel, text)
        for channel, plane in sample.channels.items()
        for kind, look in _CHECKS
        if (text := look(plane)) is not None
    ]
    found += [Check(sample.name, "file", "", note) for note in sample.notes]
    return found


def check_measured(table: RegionTable) -> list[Check]:
    """Return the warnings about a measurement."""
    if table.ids.size:
        return []
    text = (
        f"No region was found at threshold {table.threshold:.6g}; lower the threshold or the "
        "smallest area."
    )
    return [Check(table.sample, "no region", "", text)]


def changed_file(sample: str) -> Check:
    """Return the warning about a file that is not the one the study was saved with."""
    text = "The file has changed since the study was saved; measure this sample again."
    return Check(sample, "changed file", "", text)
