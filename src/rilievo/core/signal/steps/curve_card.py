"""Reflectance or optical density from a gray or colour card in a picture."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import ClassVar, Literal, Self

import numpy as np
from pydantic import Field, field_validator

from rilievo.core.image.calibration_frames import ImageFile
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.parameters import LARGEST, Parameters
from rilievo.core.signal.card_response import Response, ResponseKind, fit_response, patch_values
from rilievo.core.signal.cards import (
    CARDS,
    CardKind,
    CardLayout,
    PlacedCard,
    place_card,
    typed_card,
)
from rilievo.core.signal.smoothing import gaussian
from rilievo.core.signal.steps.fields import length
from rilievo.core.signal.steps.step import (
    CanvasTool,
    StepContext,
    StepParameters,
    step,
    without_infinities,
)
from rilievo.core.signal.uneven_light import light_through
from rilievo.core.tiled_map import by_pixel


class Corner(Parameters):
    """A corner of a card, in pixels of the picture as it enters the step."""

    x: float = Field(
        ge=-LARGEST,
        le=LARGEST,
        title="x",
        description="column, px of the image as it enters the step",
    )
    y: float = Field(
        ge=-LARGEST, le=LARGEST, title="y", description="row, px of the image as it enters the step"
    )


class Card(StepParameters):
    """Turn intensities into reflectance or optical density by a card of known patches."""

    canvas_tool: ClassVar[CanvasTool | None] = CanvasTool("corners", "card", "card")

    in_words: ClassVar[str] = (
        "Intensities were turned into {result} by a card of known patches ({card}) and a {curve}; "
        "uneven light was corrected by: {light}"
    )

    card: CardKind = Field(
        "neutral_6",
        title="Card",
        description="the photographed card: its four corners and the known values of its patches",
    )
    corners: tuple[Corner, ...] = Field(
        (),
        max_length=4,
        title="Corners",
        description="of its patches, clockwise; the first is that of the first patch",
    )
    picture: ImageFile | None = Field(
        None,
        title="Picture of it",
        description="that holds the card; none is every picture by itself, at the same place",
    )
    light: Literal["none", "surround", "sheet"] = Field(
        "none",
        title="Uneven light",
        description="not corrected; from the even surround of the card; from a blank sheet",
    )
    sheet: ImageFile | None = Field(
        None, title="Blank sheet", description="a picture of an even sheet in the same light"
    )
    curve: ResponseKind = Field(
        "line",
        title="Curve",
        description="from value to reflectance: a line where values are proportional to light",
    )
    result: Literal["reflectance", "density"] = Field(
        "reflectance",
        title="Result",
        description="what values are turned into: reflectance or optical density",
    )
    inner: float = Field(
        0.5,
        ge=0.05,
        le=1,
        title="Of each patch",
        description="the share of its side that is read, about its middle",
        json_schema_extra={"step": 0.05, "further": True},
    )
    gap: float = Field(
        0.15,
        ge=0,
        le=5,
        title="Surround from",
        description="sides of a patch beyond the patches, where the even surround begins",
        json_schema_extra={"step": 0.05, "further": True},
    )
    frame: float = Field(
        0.5,
        gt=0,
        le=20,
        title="Surround's width",
        description="sides of a patch",
        json_schema_extra={"step": 0.1, "further": True},
    )
    blur: float = length(
        5.0, "Smooth the sheet by", "Gaussian sigma, against its noise", most=500, further=True
    )
    rows: int = Field(1, ge=1, le=40, title="Rows", description="of a typed card",
                      json_schema_extra={"further": True})  # fmt: skip
    columns: int = Field(6, ge=1, le=40, title="Columns", description="of a typed card",
                         json_schema_extra={"further": True})  # fmt: skip
    values: str = Field(
        "",
        max_length=40_000,
        title="Known values",
        description="of a typed card, one patch a line, row by row: its reflectance from 0 to 1, "
        "or that of red, green and blue",
        json_schema_extra={"lines": 4, "further": True},
    )

    @field_validator("corners")
    @classmethod
    def _all_or_none(cls, corners: tuple[Corner, ...]) -> tuple[Corner, ...]:
        if len(corners) not in (0, 4):
            raise ValueError("needs four corners")
        return corners

    def layout(self) -> CardLayout:
        """Return the patches. Raises StepError for typed values that are none."""
        if self.card == "typed":
            return typed_card(self.rows, self.columns, self.values)
        return CARDS[self.card]

    def placed(self) -> PlacedCard:
        """Return the card in the picture. Raises StepError where it is not marked."""
        return place_card(self.layout(), [(corner.x, corner.y) for corner in self.corners])

    def signal_unit(self) -> str:
        """What the signal is counted in afterwards."""
        return "OD" if self.result == "density" else "reflectance"

    def shrunk(self, factor: float) -> Self:
        """As for all steps; the corners too."""
        corners = tuple(
            Corner(x=(corner.x + 0.5) / factor - 0.5, y=(corner.y + 0.5) / factor - 0.5)
            for corner in self.corners
        )
        return super().shrunk(factor).model_copy(update={"corners": corners})


@step(
    "curve.card",
    title="Gray or colour card",
    family="Curves",
    parameters=Card,
    linear=lambda parameters: parameters.curve == "line" and parameters.result == "reflectance",
    reach=None,
    constant=None,
    order=155,
)
def card(plane: Plane, parameters: Card, context: StepContext) -> Plane:
    """Return the reflectance R, or −lg R, of each pixel.

    Values are divided by the light of their place, where it is corrected; R is a curve through the
    patches of the card, fitted by least squares of relative deviations. The black level must be
    taken off before. plane : shape (height, width); NaN stays NaN.
    Raises StepError where the card is not marked, cannot be read, or does not fix the curve.
    """
    placed = parameters.placed()
    source = plane
    if parameters.picture is not None:
        source = context.sources.reference(parameters.picture, "picture of the card")
    light = _light(source, placed, parameters, context)
    evened = source if light is None else _evened(source, light)
    true_values = placed.layout.known_for(context.channel)
    values = patch_values(evened, placed, parameters.inner)
    response = fit_response(parameters.curve, values, true_values)
    _tell(context, response, values, true_values)
    density = parameters.result == "density"

    def work(values: FloatPixels) -> FloatPixels:
        result = response.of(values)
        if density:
            result = -np.log10(np.where(result > 0, result, np.nan))
        return np.asarray(result, values.dtype)

    own = plane if light is None else _evened(plane, light)
    made = plane.with_pixels(without_infinities(by_pixel(work, own.as_float())), None)
    return replace(made, curve_error=response.errors_of_result(density=density))


def _light(
    source: Plane, placed: PlacedCard, parameters: Card, context: StepContext
) -> FloatPixels | None:
    if parameters.light == "none":
        return None
    if parameters.light == "sheet":
        sheet = context.sources.reference(parameters.sheet, "blank sheet").as_float()
        field = gaussian(sheet, parameters.blur) if parameters.blur > 0 else sheet
        inside = np.isfinite(field) & (field > 0)
        light = field / float(np.mean(field[inside])) if inside.any() else field
    else:
        inside = placed.surround(source.shape, parameters.gap, parameters.frame)
        light = light_through(source.as_float(), inside)
        rows, columns = (np.flatnonzero(inside.any(axis=axis)) for axis in (1, 0))
        within = float(np.ptp(rows) + 1) * float(np.ptp(columns) + 1) / inside.size
        context.record(light_beyond=100 * (1 - within))
    finite = light[np.isfinite(light)]
    if finite.size:
        context.record(light_range=100 * (1 - float(finite.min()) / float(finite.max())))
    return light


def _evened(plane: Plane, light: FloatPixels) -> Plane:
    values = plane.as_float()
    with np.errstate(divide="ignore", invalid="ignore"):
        even = np.where(light > 0, values / light, np.nan)
    return replace(plane, pixels=even.astype(values.dtype), clipped=plane.saturated())


def _tell(
    context: StepContext, response: Response, values: np.ndarray, true_values: np.ndarray
) -> None:
    """What the card told: patches used, how far they lie from the curve, and each of them."""
    finite = response.residuals[np.isfinite(response.residuals)]
    context.record(
        patches=response.used,
        relative_spread=100 * response.spread,
        largest_residual=float(np.abs(finite).max()),
    )
    for k, (value, true, residual) in enumerate(
        zip(values.tolist(), true_values.tolist(), response.residuals.tolist(), strict=True),
        start=1,
    ):
        context.record(**{f"patch {k}": value, f"known {k}": true, f"residual {k}": residual})
        if math.isnan(residual):
            context.record(left_out=context.numbers.get("left_out", 0.0) + 1)
