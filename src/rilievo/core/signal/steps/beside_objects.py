"""Backgrounds that are estimated beside objects, and what is said where one cannot bear them.

With an automatic length a step looks for the objects first (`object_finder`), puts the background
beside them in their place, and takes the length from their size. Whatever the length, the result
is held against that background at the objects.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from rilievo.core.image.image import FloatPixels
from rilievo.core.signal.object_finder import (
    DETAILED,
    ROUGH,
    ObjectsFound,
    Side,
    find_objects,
)
from rilievo.core.signal.steps.step import StepContext

# Off by more than this share of the objects' signal, per cent, a background is warned of.
_MUCH_OFF, _UNSURE, _CROWDED = 3.0, 4.0, 65.0

_OF_TYPED = "Use “Background mesh” with an automatic tile, which is estimated beside them."
_OF_AUTOMATIC = (
    "Compare it with “Background mesh”, automatic, or subtract a picture without objects."
)


class BesideObjects:
    """The values from which a step estimates, with what it finds and tells of objects."""

    def __init__(
        self, values: FloatPixels, context: StepContext, side: Side, *, automatic: bool
    ) -> None:
        """automatic : whether objects are filled with the background beside them."""
        self._context = context
        most = DETAILED if automatic else ROUGH
        self.found: ObjectsFound | None = find_objects(values, side, most)
        self.values = values
        if self.found is not None:
            if automatic:
                self.values = self.found.filled(values)
            context.record(
                coverage=100 * self.found.coverage,
                object_radius=self.found.radius,
                unsure=100 * self.found.unsure,
            )

    def length(self, typed: float | None, widths: float, least: float, without: float) -> float:
        """Return a length: what was typed, else so many half widths of the objects.

        least : the shortest. without : where there are no objects.
        """
        if typed is not None:
            return typed
        radius = self.found.radius if self.found is not None else 0.0
        chosen = max(least, round(widths * radius)) if radius else without
        self._context.record(chosen=chosen)
        return chosen

    def told(self, field: FloatPixels) -> FloatPixels:
        """Record how far a background is off at the objects, % of their signal; return it."""
        objects = self.found
        if objects is not None and objects.contrast > 0:
            off = np.asarray(field - objects.background)[objects.mask]
            off = off[np.isfinite(off)]
            if off.size:
                self._context.record(off=100 * float(np.abs(off).mean()) / objects.contrast)
        return field


def background_doubts(numbers: Mapping[str, float]) -> list[str]:
    """Return what is doubtful of a background by what its step told, as sentences with a remedy."""
    off, unsure, coverage, radius = (
        numbers.get(name, 0.0) for name in ("off", "unsure", "coverage", "object_radius")
    )
    sentences = []
    if off > max(_MUCH_OFF, unsure):
        sentences.append(
            f"At the objects this background is off by about {off:.2g} % of their signal: they "
            f"cover {coverage:.2g} % of the picture and are about {2 * radius:.2g} px wide. "
            + (_OF_AUTOMATIC if "chosen" in numbers else _OF_TYPED)
        )
    if unsure > _UNSURE:
        sentences.append(
            f"The background varies over distances as short as the objects (about {2 * radius:.2g} "
            f"px wide) and cannot be told from them: signals may be off by about {unsure:.2g} %. "
            "A picture without objects, as a reference, would tell it."
        )
    if coverage > _CROWDED:
        sentences.append(
            f"Objects cover {coverage:.2g} % of the picture, so that hardly any background is "
            "left to see; check it on a picture with fewer of them."
        )
    return sentences
