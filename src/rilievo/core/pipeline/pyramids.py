"""What pictures need of a signal: halved planes, sketches, and the visible part first."""

from __future__ import annotations

from dataclasses import replace

from rilievo.core.image.image import Pixels, Plane
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.node import Node
from rilievo.core.pipeline.viewport_preview import visible_part, visible_window
from rilievo.core.view.sampling import Viewport

# A plane of so many pixels is first shown as a sketch, whose coarsest level has about this side.
SKETCH_FROM = 8_000_000
_SKETCH_SIDE = 256
# A signal of more pixels than this is first shown from a coarse level of at most so many.
COARSE_FROM, _COARSE_PIXELS = 400_000, 300_000


def coarse_level(shape: tuple[int, int]) -> int:
    """Return how often a plane is halved to be shown quickly; 0 for a small one."""
    level = 0
    while (shape[0] >> level) * (shape[1] >> level) > _COARSE_PIXELS:
        level += 1
    return level


def _for_view(plane: Plane) -> Pixels:
    """The pixels as they stand, or without infinities."""
    return plane.as_float() if plane.pixels.dtype.kind == "f" else plane.pixels


def _node(analysis: Analysis, channel: str) -> Node[Pyramid]:
    if analysis.is_native(channel):
        return Node(
            analysis.cache,
            "native pyramid",
            lambda: Pyramid(_for_view(analysis.sample.channels[channel])),
            analysis.sample.content,
            channel,
            size=lambda pyramid: pyramid.nbytes,
        )
    return Node(
        analysis.cache,
        "pyramid",
        lambda: Pyramid(analysis.signal(channel).as_float()),
        analysis.signal_node(channel),
        size=lambda pyramid: pyramid.nbytes,
    )


def pyramid_of(analysis: Analysis, channel: str) -> Pyramid:
    """Return the signal at halved sizes."""
    return _node(analysis, channel).get()


def quick_pyramid(analysis: Analysis, channel: str) -> Pyramid:
    """As `pyramid_of` if that is there already, else for a large plane a sketch of it.

    Native planes are sketched by single pixels, signals by the steps at a coarse level.
    """
    if not is_sketch(analysis, channel):
        return pyramid_of(analysis, channel)
    native = analysis.sample.channels[channel]
    if analysis.is_native(channel):
        return Pyramid.sketch(_for_view(native), _SKETCH_SIDE)
    chain, end = analysis.chain(coarse_level(native.shape)), len(analysis.method.steps)
    coarse, moved = chain.after(channel, end).plane, chain.moved_before(channel, end)
    full = chain.exact().after(channel, moved).plane if moved else native
    return Pyramid.coarse(coarse.pixels, chain.level, full.shape)


def is_sketch(analysis: Analysis, channel: str) -> bool:
    """Whether `quick_pyramid` gives a sketch as yet."""
    size = analysis.sample.channels[channel].pixels.size
    if analysis.is_native(channel):
        return size >= SKETCH_FROM and _node(analysis, channel).peek() is None
    return size >= COARSE_FROM and analysis.peek_signal(channel) is None


def visible(
    analysis: Analysis, channel: str, viewport: Viewport
) -> tuple[Pyramid, Viewport] | None:
    """Return what the screen shows of a signal before all of it is computed, if it can be.

    The result is a part of the picture, and the viewport as it stands to that part.
    """
    coarse = analysis.chain(coarse_level(analysis.sample.channels[channel].shape))
    shape = analysis.aligned_geometry(channel).shape
    window = visible_window(viewport, shape)
    if window is None or viewport.zoom * 2**coarse.level <= 1.0:
        return None
    part = visible_part(analysis.chain(), coarse, channel, window)
    if part is None:
        return None
    rows, columns = window
    hidden = shape[0] - rows.stop if viewport.bottom_up else rows.start
    view = replace(viewport, left=viewport.left - columns.start, top=viewport.top - hidden)
    return Pyramid(part.pixels), view
