"""The signal steps: one module a step, behind one registry."""

from rilievo.core.signal.steps.step import (
    FAMILIES,
    STEPS,
    Step,
    StepContext,
    StepParameters,
    step,
)

__all__ = ["FAMILIES", "STEPS", "Step", "StepContext", "StepParameters", "step"]

STEPS.discover()
