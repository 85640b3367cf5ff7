"""What a step of the clean-up is, and the registry of all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Calibration, FloatPixels
from rilievo.core.parameters import Parameters
from rilievo.core.regions.label_map import LabelMap
from rilievo.core.registry import Registry


class CleanerParameters(Parameters):
    """Base of the parameters of a clean-up step."""

    def channels_read(self) -> tuple[str, ...]:
        """Return the names of channels that the step looks at, beside the class's own."""
        return ()


class CleanContext(Protocol):
    """What a clean-up step may know beside the regions."""

    @property
    def sample_name(self) -> str:
        """Name of the sample, for messages."""

    @property
    def keep(self) -> Literal["bright", "dark"]:
        """Which side of a threshold is kept."""

    @property
    def values(self) -> FloatPixels:
        """Signal on which the regions were found, shape (height, width); NaN where undefined."""

    @property
    def calibration(self) -> Calibration:
        """Size of a pixel."""

    def measured(self, label_map: LabelMap, key: str, channel: str | None) -> NDArray[np.float64]:
        """Return a quantity of the regions 1 … count on a channel; None is the class's own."""


@dataclass(frozen=True)
class Cleaner:
    """One way to clean regions.

    apply : (found, parameters, context) → found; pure, never changes its input.
    """

    key: str
    title: str
    explanation: str
    parameters: type[CleanerParameters]
    apply: Callable[[LabelMap, Any, CleanContext], LabelMap]


CLEANERS: Registry[Cleaner] = Registry("clean-up", "rilievo.core.cleaning", "rilievo.cleaners")

Apply = TypeVar("Apply", bound=Callable[..., LabelMap])


def cleaner(
    key: str, *, title: str, parameters: type[CleanerParameters], order: float | None = None
) -> Callable[[Apply], Apply]:
    """Register the decorated function; the first line of the parameters' docstring explains it."""

    def register(apply: Apply) -> Apply:
        explanation = (parameters.__doc__ or "").strip().splitlines()[0]
        CLEANERS.add(key, Cleaner(key, title, explanation, parameters, apply), order)
        return apply

    return register
