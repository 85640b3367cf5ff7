"""What a threshold is, and the registry of all of them.

Pixels equal to the threshold are background for bright objects and belong to dark ones.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from rilievo.core.histogram import Histogram
from rilievo.core.parameters import Parameters
from rilievo.core.registry import Registry


class ThresholdParameters(Parameters):
    """Base of the parameters of a threshold."""


@dataclass(frozen=True)
class Threshold:
    """One way to find a level.

    find : (full histogram of the signal, parameters) → level in signal units, or NaN when the
    histogram holds no two levels to part.
    automatic : the level follows from the data of each sample.
    """

    key: str
    title: str
    explanation: str
    parameters: type[ThresholdParameters]
    find: Callable[[Histogram, Any], float]
    automatic: bool


THRESHOLDS: Registry[Threshold] = Registry(
    "threshold", "rilievo.core.thresholds", "rilievo.thresholds"
)

Find = TypeVar("Find", bound=Callable[..., float])


def threshold(
    key: str, *, title: str, parameters: type[ThresholdParameters], automatic: bool
) -> Callable[[Find], Find]:
    """Register the decorated function; its parameters' first docstring line explains it."""

    def register(find: Find) -> Find:
        explanation = (parameters.__doc__ or "").strip().splitlines()[0]
        THRESHOLDS.add(key, Threshold(key, title, explanation, parameters, find, automatic))
        return find

    return register
