"""What a step is, and the registry of all of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from rilievo.core.image import Plane
from rilievo.core.parameters import Parameters
from rilievo.core.registry import Registry


class StepParameters(Parameters):
    """Base of the parameters of a step."""


@dataclass(frozen=True)
class StepContext:
    """What a step may know beside the plane: whose it is, for messages."""

    sample_name: str
    channel: str


@dataclass(frozen=True)
class Step:
    """One way to correct a plane.

    apply : (plane, parameters, context) → plane; pure, never changes its input.
    report : (plane, parameters, context) → numbers that its card shows, under plain names.
    linear : whether signal stays proportional to intensity, up to an offset.
    reach : pixels around one that its result depends on; None means the whole image.
    """

    key: str
    title: str
    explanation: str
    parameters: type[StepParameters]
    apply: Callable[[Plane, Any, StepContext], Plane]
    report: Callable[[Plane, Any, StepContext], Mapping[str, float]] | None
    linear: bool
    reach: int | None


STEPS: Registry[Step] = Registry("step", "rilievo.core.steps", "rilievo.steps")

Apply = TypeVar("Apply", bound=Callable[..., Plane])


def step(
    key: str,
    *,
    title: str,
    parameters: type[StepParameters],
    linear: bool,
    reach: int | None,
    report: Callable[[Plane, Any, StepContext], Mapping[str, float]] | None = None,
) -> Callable[[Apply], Apply]:
    """Register the decorated function; the first line of the parameters' docstring explains it."""

    def register(apply: Apply) -> Apply:
        explanation = (parameters.__doc__ or "").strip().splitlines()[0]
        STEPS.add(key, Step(key, title, explanation, parameters, apply, report, linear, reach))
        return apply

    return register
