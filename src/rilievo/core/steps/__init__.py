"""The signal steps: one module a step, behind one registry."""

from rilievo.core.steps.step import STEPS, Step, StepContext, StepParameters, step

__all__ = ["STEPS", "Step", "StepContext", "StepParameters", "step"]

STEPS.discover()
