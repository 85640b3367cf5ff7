"""Small pictures of what a step does to a sample: before it, after it, and its background."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.pyramid import Pyramid
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.signal.steps import STEPS
from rilievo.core.signal.steps.background import BackgroundParameters, shaped_by_hand
from rilievo.core.view.palettes import Colours, ViewStyle
from rilievo.core.view.render import Looks, Shading, painted
from rilievo.core.view.sampling import Viewport

if TYPE_CHECKING:
    from rilievo.core.pipeline.analysis import Analysis

Aspect = Literal["before", "after", "background"]
ASPECTS: Mapping[Aspect, str] = {
    "before": "Before",
    "after": "After",
    "background": "Background",
}
# How a background is shown: as terrain with contours.
AS_RELIEF = {"relief": 12.0, "contours": True, "smooth": 4}
_SHOWN = (0.002, 0.998)
_PIXELS = 70_000


@dataclass(frozen=True, eq=False)
class Thumbnail:
    """A small picture. ends : the display range that suits it. colours : 0xFFRRGGBB."""

    colours: Colours
    ends: tuple[float, float]


def ends_of(values: NDArray[Any]) -> tuple[float, float]:
    """Return a display range that shows a plane well."""
    finite = values[np.isfinite(values)]
    if finite.size == 0:
        return 0.0, 1.0
    low, high = (float(v) for v in np.quantile(finite, _SHOWN))
    return (low, high) if high > low else (low - 0.5, low + 0.5)


def thumbnails(
    analysis: Analysis,
    channel: str,
    step_id: str,
    size: tuple[int, int],
    looks: Looks,
) -> dict[Aspect, Thumbnail]:
    """Return small pictures of a step, from a coarse level; those that it has.

    size : width and height in screen pixels. Raises StepError, FrameMismatch and the like when the
    step, or one before it, cannot be applied.
    """
    sample = analysis.sample
    channel = channel_of(sample, channel)
    level, shape = 0, sample.channels[channel].shape
    while (shape[0] >> level) * (shape[1] >> level) > _PIXELS:
        level += 1
    chain = analysis.chain(level)
    index, use = next((p, u) for p, u in chain.uses(channel) if u.id == step_id)
    planes: dict[Aspect, NDArray[Any]] = {"before": chain.after(channel, index).plane.pixels}
    planes["after"] = chain.after(channel, index + 1).plane.pixels
    step = STEPS[use.step]
    if step.estimate is not None and isinstance(use.parameters, BackgroundParameters):
        field, _ = chain.estimate(channel, index, use, step)
        parameters = use.parameters.shrunk(2.0**level)
        planes["background"] = np.array(shaped_by_hand(field, parameters))
    return {
        aspect: _painted(values, aspect, size, sample.bottom_up, looks)
        for aspect, values in planes.items()
    }


def _painted(
    values: NDArray[Any], aspect: Aspect, size: tuple[int, int], bottom_up: bool, looks: Looks
) -> Thumbnail:
    height, width = values.shape
    zoom = min(size[0] / width, size[1] / height)
    view = Viewport(
        left=(width - size[0] / zoom) / 2,
        top=(height - size[1] / zoom) / 2,
        zoom=zoom,
        width=size[0],
        height=size[1],
        bottom_up=bottom_up,
    )
    ends = ends_of(values)
    style = ViewStyle(**{**AS_RELIEF, "smooth": 1}) if aspect == "background" else ViewStyle()
    return Thumbnail(painted(Pyramid(values), view, ends, looks, shading=Shading(style)), ends)
