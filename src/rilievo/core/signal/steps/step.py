"""What a step is, and the registry of all of them."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import (
    Any,
    ClassVar,
    Literal,
    NamedTuple,
    Protocol,
    Self,
    SupportsFloat,
    TypeVar,
    get_args,
)

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.parameters import Parameters, Rectangle
from rilievo.core.registry import Registry
from rilievo.core.signal.steps.transform import Transform

Family = Literal["Frames", "Pixels", "Background", "Smoothing", "Arithmetic", "Curves", "Geometry"]
FAMILIES: tuple[Family, ...] = get_args(Family)


class CanvasTool(NamedTuple):
    """What the picture offers while a step's card is open.

    field : the parameter that it sets. kind : rectangles that are drawn at once, one rectangle
    that is drawn when asked for, points taken from the picks, or the corners of a card. label :
    what it is called there.
    """

    field: str
    kind: Literal["rectangles", "rectangle", "picks", "card"]
    label: str = ""


class StepParameters(Parameters):
    """Base of the parameters of a step.

    A field whose extra says `scales: True` is a length in pixels of the file; `scales: "odd"` is
    the side of a square of pixels.
    canvas_tool : what is drawn or picked on the picture for it; None for nothing. regions_field :
    the parameter that names a region class which the step needs; "" for none. Such regions are
    found with the step as it is without them, and then the step is done once more.
    """

    canvas_tool: ClassVar[CanvasTool | None] = None
    regions_field: ClassVar[str] = ""

    def regions_read(self) -> str:
        """Return the region class that the step needs; empty for none."""
        return str(getattr(self, self.regions_field)) if self.regions_field else ""

    def channels_read(self) -> tuple[str, ...]:
        """Return the names of other channels that the step looks at."""
        return ()

    def signal_unit(self) -> str:
        """Return the unit of the signal after the step; empty where it stays what it was."""
        return ""

    def shrunk(self, factor: float) -> Self:
        """Return the parameters for a picture whose pixels are `factor` file pixels wide."""
        changed: dict[str, Any] = {}
        for name, info in type(self).model_fields.items():
            extra = info.json_schema_extra
            scales = extra.get("scales") if isinstance(extra, dict) else None
            value = getattr(self, name)
            if scales == "odd":
                changed[name] = nearest_odd(value / factor)
            elif scales and isinstance(value, tuple):
                changed[name] = tuple(_shrunk_rectangle(rectangle, factor) for rectangle in value)
            elif scales and value is not None:
                changed[name] = value / factor
        return self.model_copy(update=changed) if changed else self


def nearest_odd(value: float) -> int:
    """Return the odd number from 1 up that is nearest."""
    return max(1, 2 * round((value - 1) / 2) + 1)


def _shrunk_rectangle(rectangle: Rectangle, factor: float) -> Rectangle:
    left, top = int(rectangle.x // factor), int(rectangle.y // factor)
    return rectangle.model_copy(
        update={
            "x": left,
            "y": top,
            "width": max(1, round((rectangle.x + rectangle.width) / factor) - left),
            "height": max(1, round((rectangle.y + rectangle.height) / factor) - top),
        }
    )


class Sources(Protocol):
    """Where a step finds other pixels than those of its own plane."""

    def channel(self, name: str) -> Plane:
        """Return another channel of the sample, as it stands before this step."""

    def frames(self, frames: Any, role: str, like: Plane) -> Plane:
        """Return files averaged into one plane of the size and depth of `like`.

        frames : a `Frames`. role : what they are, for messages.
        """

    def exposure(self, frames: Any, role: str) -> float:
        """Return the exposure that the files state, which must be the same in all."""

    def reference(self, reference: Any, role: str) -> Plane:
        """Return another file as it stands before this step of the same method."""


class NoSources:
    """For steps that are used by themselves."""

    def _none(self, role: str) -> StepError:
        return StepError(f"Nothing is known here of {role}; evaluate the step within a method.")

    def channel(self, name: str) -> Plane:
        """Refuse."""
        raise self._none(f"the channel “{name}”")

    def frames(self, frames: Any, role: str, like: Plane) -> Plane:  # noqa: ARG002 (a protocol)
        """Refuse."""
        raise self._none(f"the {role}")

    def exposure(self, frames: Any, role: str) -> float:  # noqa: ARG002 (a protocol)
        """Refuse."""
        raise self._none(f"the {role}")

    def reference(self, reference: Any, role: str) -> Plane:  # noqa: ARG002 (a protocol)
        """Refuse."""
        raise self._none(f"the {role}")


@dataclass(frozen=True)
class StepContext:
    """What a step may know beside the plane, and where it says what it found.

    exposure : seconds, when the sample states it. channels : names of all channels of the sample.
    inside : pixels of the regions that the parameters name, shape of the plane; None for none.
    numbers : filled by `record`.
    """

    sample_name: str
    channel: str
    sources: Sources = field(default_factory=NoSources)
    exposure: float | None = None
    channels: Sequence[str] = ()
    inside: NDArray[np.bool_] | None = None
    numbers: dict[str, float] = field(default_factory=dict)

    def record(self, **numbers: SupportsFloat) -> None:
        """Keep numbers for the step's card and the report, under plain names."""
        self.numbers.update({name: float(value) for name, value in numbers.items()})


Linear = bool | Callable[[Any], bool]
Reach = int | None | Callable[[Any], int | None]
Constant = float | None | Callable[[Any], float | None]


@dataclass(frozen=True)
class Step:
    """One way to correct a plane.

    apply : (plane, parameters, context) → plane; pure, never changes its input.
    linear : whether signal stays proportional to intensity, up to an offset; a function of the
    parameters where it depends on them.
    reach : pixels around one that its result depends on; None means the whole image; a function
    of the parameters where it depends on them.
    constant : what a constant added to the plane becomes after the step, as a factor; None where
    that differs from pixel to pixel. Backgrounds and moved pixels say so themselves.
    estimate : for steps that take a background off: the background, shape of the plane.
    transform : for steps that move pixels: how, so that regions and native values follow.
    resizes : whether the size of the picture changes, so that all channels must follow.
    """

    key: str
    title: str
    family: Family
    explanation: str
    parameters: type[StepParameters]
    apply: Callable[[Plane, Any, StepContext], Plane]
    linear: Linear
    reach: Reach
    constant: Constant = 1.0
    estimate: Callable[[Plane, Any, StepContext], FloatPixels] | None = None
    transform: Callable[[Plane, Any, StepContext], Transform] | None = None
    resizes: bool = False

    def is_linear(self, parameters: StepParameters | None = None) -> bool:
        """Return whether the step is linear; without parameters, as it is when it is added."""
        settings = self.parameters() if parameters is None else parameters
        return self.linear(settings) if callable(self.linear) else self.linear

    def reach_of(self, parameters: StepParameters) -> int | None:
        """Return the reach for parameters."""
        return self.reach(parameters) if callable(self.reach) else self.reach

    def error_after(self, parameters: StepParameters, error: float | None) -> float | None:
        """Return what a standard error common to all pixels becomes; None where it is lost."""
        factor = self.constant(parameters) if callable(self.constant) else self.constant
        if error is None or factor is None or not self.is_linear(parameters):
            return None
        return abs(factor) * error


STEPS: Registry[Step] = Registry("step", "rilievo.core.signal.steps", "rilievo.steps")

Apply = TypeVar("Apply", bound=Callable[..., Plane])
Placed = TypeVar("Placed", bound=Callable[..., Transform])


def _explained(parameters: type[StepParameters]) -> str:
    return (parameters.__doc__ or "").strip().splitlines()[0]


def step(
    key: str,
    *,
    title: str,
    family: Family,
    parameters: type[StepParameters],
    linear: Linear,
    reach: Reach,
    constant: Constant = 1.0,
    order: float | None = None,
) -> Callable[[Apply], Apply]:
    """Register the decorated function; the first line of the parameters' docstring explains it.

    order : where it stands in lists, lowest first; None comes last.
    """

    def register(apply: Apply) -> Apply:
        explanation = _explained(parameters)
        entry = Step(key, title, family, explanation, parameters, apply, linear, reach, constant)
        STEPS.add(key, entry, order)
        return apply

    return register


def on_values(
    work: Callable[[FloatPixels, Any], FloatPixels],
) -> Callable[[Plane, Any, StepContext], Plane]:
    """Make a step's function of one that looks at the pixels alone; infinite is undefined."""

    @functools.wraps(work)
    def apply(plane: Plane, parameters: Any, context: StepContext) -> Plane:  # noqa: ARG001
        values = plane.as_float()
        with np.errstate(all="ignore"):
            result = np.asarray(work(values, parameters), values.dtype)
        return plane.with_pixels(without_infinities(result), None)

    return apply


def moving_step(
    key: str,
    *,
    title: str,
    parameters: type[StepParameters],
    resizes: bool,
    order: float | None = None,
) -> Callable[[Placed], Placed]:
    """Register a step that moves pixels; the decorated function returns how."""

    def register(transform: Placed) -> Placed:
        def apply(plane: Plane, parameters: Any, context: StepContext) -> Plane:
            return transform(plane, parameters, context).applied(plane)

        apply.__doc__ = transform.__doc__
        STEPS.add(
            key,
            Step(
                key,
                title,
                "Geometry",
                _explained(parameters),
                parameters,
                apply,
                linear=True,
                reach=None,
                transform=transform,
                resizes=resizes,
            ),
            order,
        )
        return transform

    return register


def without_infinities(values: NDArray[Any]) -> FloatPixels:
    """Return float values with infinities as NaN: what has no value is undefined."""
    if np.isinf(values).any():
        return np.where(np.isinf(values), values.dtype.type(np.nan), values)
    return values
