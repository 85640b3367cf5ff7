"""Axes of an array in a file: which are depth and time, and what of it one plane of a stack takes.

Axes are letters: y and x, z depth, t time, c channels, s the samples of a colour; every other one
counts pages of which the file does not say what they are.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from rilievo.core.errors import UnsupportedKind
from rilievo.core.image.lengths import conversion, standard_unit
from rilievo.core.image.stack import Frame, StackLayout

_KNOWN = "yxcs"


def layout_of(axes: str, shape: Sequence[int], layout: StackLayout | None = None) -> StackLayout:
    """Return how many planes there are, their distance in the unit that all are converted to.

    layout : what else is known of them.
    """
    lengths = list(zip(axes.lower(), shape, strict=True))
    described = layout or StackLayout()
    unit = standard_unit(described.unit)
    factor = conversion(described.unit, unit)
    if described.z_step is not None and factor is not None:
        described = replace(described, z_step=float(f"{described.z_step * factor:.12g}"), unit=unit)
    return replace(
        described,
        z=math.prod(n for axis, n in lengths if axis == "z"),
        time=math.prod(n for axis, n in lengths if axis == "t"),
        pages=math.prod(n for axis, n in lengths if axis not in _KNOWN + "zt"),
    )


def selection(path: Path, axes: str, shape: Sequence[int], frame: Frame) -> tuple[int | slice, ...]:
    """Return what to take along each axis for a single plane: a place, or all.

    A place beyond the file's own axis counts on over the pages of unknown meaning.
    Raises UnsupportedKind where the file has no such plane.
    """
    layout = layout_of(axes, shape)
    page_of_z, z = divmod(frame.z or 0, layout.z)
    page_of_time, time = divmod(frame.time or 0, layout.time)
    page = page_of_z + page_of_time
    if page >= layout.pages or (page_of_z and page_of_time):
        raise UnsupportedKind(
            path,
            f"has no plane “{frame.text}”, but {layout.count} planes in all",
            "bring the file in again",
        )
    places = dict(_unravelled("z", axes, shape, z))
    places |= _unravelled("t", axes, shape, time)
    places |= _unravelled("", axes, shape, page)
    return tuple(places.get(k, slice(None)) for k in range(len(axes)))


def _unravelled(kind: str, axes: str, shape: Sequence[int], place: int) -> dict[int, int]:
    """The place along each axis of a kind, the last one counting fastest; "" for the unknown."""
    places = {}
    for k in reversed(range(len(axes))):
        axis = axes[k].lower()
        if axis == kind or (not kind and axis not in _KNOWN + "zt"):
            place, places[k] = divmod(place, shape[k])
    return places


def left(axes: str, taken: Sequence[int | slice]) -> str:
    """Return the axes that a selection leaves."""
    return "".join(a for a, index in zip(axes, taken, strict=True) if isinstance(index, slice))
