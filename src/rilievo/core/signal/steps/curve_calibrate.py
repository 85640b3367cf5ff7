"""Intensities turned into a physical quantity, by a curve through known points."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.signal.intensity_curves import (
    CURVES,
    CalibrationPoint,
    CurveKind,
    FittedCurve,
    fit_curve,
)
from rilievo.core.signal.steps.step import (
    CanvasTool,
    StepContext,
    StepParameters,
    step,
    without_infinities,
)
from rilievo.core.tiled_map import by_pixel

MOST_POINTS = 1000


class Calibrate(StepParameters):
    """Turn intensities into a physical quantity by a curve through known points."""

    canvas_tool: ClassVar[CanvasTool | None] = CanvasTool("points", "picks")

    in_words: ClassVar[str] = (
        "Intensities were calibrated by a {kind} curve through known points (unit: {unit})"
    )

    kind: CurveKind = Field(
        "linear", title="Curve", description="form of the curve through the points"
    )
    points: tuple[CalibrationPoint, ...] = Field(
        (),
        max_length=MOST_POINTS,
        title="Known points",
        description="intensity before this step, and what it stands for",
    )
    white: float | None = Field(
        None,
        gt=0,
        title="White",
        description="intensity without absorption, for the optical density",
        json_schema_extra={"unit": "counts"},
    )
    unit: str = Field("", max_length=40, title="Unit", description="of the result")
    outside: Literal["go_on", "undefined"] = Field(
        "go_on",
        title="Beyond the points",
        description="go on with the curve, or leave undefined",
    )

    def signal_unit(self) -> str:
        """Return the unit of the signal after this step."""
        return self.unit or CURVES[self.kind].unit

    def curve(self) -> FittedCurve:
        """Return the curve. Raises StepError when there are too few points."""
        return fit_curve(self.kind, self.points, self.white)


@step(
    "curve.calibrate",
    title="Calibrate intensity",
    family="Curves",
    parameters=Calibrate,
    linear=lambda parameters: parameters.kind == "linear",
    reach=0,
    constant=None,
    order=150,
)
def calibrate(plane: Plane, parameters: Calibrate, context: StepContext) -> Plane:
    """Return the curve's value for each pixel; undefined where it has none.

    Raises StepError when the points do not fix the curve.
    """
    curve = parameters.curve()
    context.record(r_squared=curve.r_squared, largest_residual=curve.largest_residual)
    low, high = curve.span

    def work(values: FloatPixels) -> FloatPixels:
        result = curve.of(values)
        if parameters.outside == "undefined":
            result = np.where((values >= low) & (values <= high), result, np.nan)
        return np.asarray(result, values.dtype)

    return plane.with_pixels(without_infinities(by_pixel(work, plane.as_float())), None)
