"""Background as one typed level."""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import Field

from rilievo.core.image import Lattice, Plane
from rilievo.core.steps.step import StepContext, StepParameters, step


class LevelBackground(StepParameters):
    """Subtract one level that you type or set in the Ridges."""

    level: float = Field(
        0.0, title="Level", description="native units", json_schema_extra={"unit": "native"}
    )


def subtract_constant(plane: Plane, level: float) -> Plane:
    """Return `plane` minus `level`, signed, in the plane's working precision; NaN stays NaN."""
    values = plane.as_float()
    lattice = plane.lattice and Lattice(plane.lattice.origin - level, plane.lattice.spacing)
    return plane.with_pixels(values - values.dtype.type(level), lattice)


def report_level(
    plane: Plane,  # noqa: ARG001 (every report has this form)
    parameters: LevelBackground,
    context: StepContext,  # noqa: ARG001
) -> Mapping[str, float]:
    """Return the level itself."""
    return {"level": parameters.level}


@step(
    "background.level",
    title="Background level",
    parameters=LevelBackground,
    linear=True,
    reach=0,
    report=report_level,
)
def subtract_level(
    plane: Plane,
    parameters: LevelBackground,
    context: StepContext,  # noqa: ARG001 (every step has this form)
) -> Plane:
    """Return `plane` minus the typed level b.

        out[y, x] = plane[y, x] − b

    plane : shape (height, width), native units; never changed; NaN stays NaN.
    """
    return subtract_constant(plane, parameters.level)
