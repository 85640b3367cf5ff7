"""The part of a picture that the screen shows, corrected before the whole is.

Local steps are applied to that part and its surroundings; a background is taken from its estimate
at a coarse level. What depends on the whole image in another way has to wait.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Plane
from rilievo.core.pipeline.step_chain import Chain, files_of
from rilievo.core.signal.steps import STEPS
from rilievo.core.signal.steps.background import BackgroundParameters, shaped_by_hand
from rilievo.core.view.sampling import Viewport

if TYPE_CHECKING:
    from rilievo.core.method.method import StepUse

# A larger part takes as long as the whole.
MOST_PIXELS = 3_000_000

Window = tuple[slice, slice]


def visible_window(viewport: Viewport, shape: tuple[int, int]) -> Window | None:
    """Return the rows and columns of an image that a screen shows; None when it shows none."""
    parts = []
    for positions, length in ((viewport.rows(shape[0]), shape[0]), (viewport.columns(), shape[1])):
        first, last = int(np.floor(positions.min())), int(np.floor(positions.max())) + 1
        part = slice(max(first, 0), min(last, length))
        if part.stop <= part.start:
            return None
        parts.append(part)
    return parts[0], parts[1]


def visible_part(exact: Chain, coarse: Chain, channel: str, window: Window) -> Plane | None:
    """Return the signal inside a window about as it will be; None when that has to wait.

    exact, coarse : the method on one sample, at full size and at a coarse level.
    """
    end = len(exact.method.steps)
    start, plane = _latest(exact, channel, end)
    rest = [(index, use) for index, use in exact.uses(channel) if index >= start]
    margin = _margin(rest)
    if margin is None:
        return None
    height, width = plane.shape
    rows = slice(max(window[0].start - margin, 0), min(window[0].stop + margin, height))
    columns = slice(max(window[1].start - margin, 0), min(window[1].stop + margin, width))
    if (rows.stop - rows.start) * (columns.stop - columns.start) > MOST_PIXELS:
        return None
    part = plane.with_pixels(plane.pixels[rows, columns], None)
    for index, use in rest:
        part = _stepped(part, use, index, (exact, coarse), channel, (rows, columns))
    inner = tuple(
        slice(asked.start - given.start, asked.stop - given.start)
        for asked, given in zip(window, (rows, columns), strict=True)
    )
    return part.with_pixels(part.pixels[inner], None)


def _latest(chain: Chain, channel: str, end: int) -> tuple[int, Plane]:
    """The last index up to which the signal is computed at full size, and that plane."""
    moved = chain.moved_before(channel, end)
    for index in range(end, moved, -1):
        applied = chain.node(channel, index).peek()
        if applied is not None:
            return index, applied.plane
    return moved, chain.after(channel, moved).plane


def _margin(rest: list[tuple[int, StepUse]]) -> int | None:
    """How far around the window the steps look; None when one has to see the whole image."""
    margin = 0
    for _, use in rest:
        step = STEPS[use.step]
        if files_of(use.parameters) or use.parameters.channels_read():
            return None
        reach = step.reach_of(use.parameters)
        if reach is None and step.estimate is None:
            return None
        margin += reach or 0
    return margin


def _stepped(
    part: Plane,
    use: StepUse,
    index: int,
    chains: tuple[Chain, Chain],
    channel: str,
    window: Window,
) -> Plane:
    exact, coarse = chains
    step = STEPS[use.step]
    if step.estimate is None or not isinstance(use.parameters, BackgroundParameters):
        return step.apply(part, use.parameters, exact.context(channel, index))
    field, _ = coarse.estimate(channel, index, use, step)
    parameters = use.parameters.shrunk(2.0**coarse.level)
    if field.strides == (0, 0):
        near: NDArray[Any] = shaped_by_hand(field, parameters)[:1, :1]
    else:
        near = _blended(shaped_by_hand(field, parameters), window, 2.0**coarse.level)
    values = part.as_float()
    if use.parameters.result == "background":
        return part.with_pixels(np.array(np.broadcast_to(near, part.shape)), None)
    return part.with_pixels((values - near).astype(values.dtype), None)


def _blended(field: NDArray[Any], window: Window, factor: float) -> NDArray[Any]:
    """A coarse field at the pixels of a window, joined linearly."""
    for axis, part in enumerate(window):
        length = field.shape[axis]
        where = (np.arange(part.start, part.stop) + 0.5) / factor - 0.5
        where = np.clip(where, 0, length - 1)
        first = np.minimum(where.astype(np.intp), max(length - 2, 0))
        shape = (-1, 1) if axis == 0 else (1, -1)
        share = (where - first).astype(field.dtype).reshape(shape)
        low = field.take(first, axis=axis)
        high = field.take(np.minimum(first + 1, length - 1), axis=axis)
        field = low + share * (high - low)
    return field
