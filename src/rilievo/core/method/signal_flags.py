"""Marks: what must be known of every number measured after certain steps."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rilievo.core.signal.steps import STEPS
from rilievo.core.signal.steps.background import BackgroundParameters

if TYPE_CHECKING:
    from rilievo.core.method.method import Method, StepUse

NOT_LINEAR = "not linear"
ALTERED = "altered by hand"
CALIBRATED = "calibrated"
MARKS = {
    NOT_LINEAR: "a step is not linear in intensity, so sums and ratios are not those of light",
    ALTERED: "the background was scaled or smoothed by hand after it was estimated",
    CALIBRATED: "a fitted curve turned intensities into another quantity",
}


def marks_of_step(use: StepUse) -> tuple[str, ...]:
    """Return the marks that a step gives to all that is measured after it."""
    marks = [] if STEPS[use.step].is_linear(use.parameters) else [NOT_LINEAR]
    if isinstance(use.parameters, BackgroundParameters) and use.parameters.altered:
        marks.append(ALTERED)
    if use.parameters.signal_unit():
        marks.append(CALIBRATED)
    return tuple(marks)


def marks_of(method: Method, sample: str, channel: str) -> tuple[str, ...]:
    """Return the marks of what is measured in a channel of a sample.

    A step that looks at another channel takes over the marks of that one.
    """
    return _marks_before(method, sample, channel, len(method.steps))


def signal_unit(method: Method, sample: str, channel: str) -> str:
    """Return the unit of the signal of a channel of a sample."""
    units = [use.parameters.signal_unit() for use in method.steps_for(sample, channel)]
    return next((unit for unit in reversed(units) if unit), "counts")


def _marks_before(method: Method, sample: str, channel: str, index: int) -> tuple[str, ...]:
    indices = {use.id: k for k, use in enumerate(method.steps)}
    marks: dict[str, None] = {}
    for use in method.steps_for(sample, channel):
        if indices[use.id] >= index:
            continue
        marks.update(dict.fromkeys(marks_of_step(use)))
        for other in use.parameters.channels_read():
            if other != channel:
                marks.update(dict.fromkeys(_marks_before(method, sample, other, indices[use.id])))
    return tuple(mark for mark in MARKS if mark in marks)
