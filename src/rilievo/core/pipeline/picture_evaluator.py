"""What pictures need of a signal: halved planes, sketches, and the visible part first."""

from __future__ import annotations

from dataclasses import replace

from rilievo.core.image.image import Pixels, Plane, Sample
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.method.method import Method
from rilievo.core.pipeline.signal_evaluator import SignalEvaluator
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


class PictureEvaluator(SignalEvaluator):
    """Signals as the screen needs them: coarse first, exact when there is time."""

    def pyramid(self, sample: Sample, channel: str, method: Method | None) -> Pyramid:
        """Return the signal, or for no method the native plane, at halved sizes."""
        if method is None or self._is_native(sample, channel, method):
            return self._cache.get(
                self._native_pyramid_key(sample, channel),
                lambda: Pyramid(_for_view(sample.channels[channel])),
                lambda p: p.nbytes,
            )
        return self._cache.get(
            ("pyramid", *self.signal_key(sample, channel, method)),
            lambda: Pyramid(self.signal(sample, channel, method).as_float()),
            lambda p: p.nbytes,
        )

    @staticmethod
    def _native_pyramid_key(sample: Sample, channel: str) -> tuple[str, ...]:
        return ("native pyramid", sample.content, channel)

    def quick_pyramid(self, sample: Sample, channel: str, method: Method | None) -> Pyramid:
        """As `pyramid` if that is there already, else for a large plane a sketch of it.

        Native planes are sketched by single pixels, signals by the steps at a coarse level.
        """
        if not self.is_sketch(sample, channel, method):
            return self.pyramid(sample, channel, method)
        if method is None or self._is_native(sample, channel, method):
            return Pyramid.sketch(_for_view(sample.channels[channel]), _SKETCH_SIDE)
        chain = self.chain(sample, method, coarse_level(sample.channels[channel].shape))
        coarse = chain.after(channel, len(method.steps)).plane
        moved = chain.moved_before(channel, len(method.steps))
        full = chain.exact().after(channel, moved).plane if moved else sample.channels[channel]
        return Pyramid.coarse(coarse.pixels, chain.level, full.shape)

    def visible(
        self, sample: Sample, channel: str, method: Method, viewport: Viewport
    ) -> tuple[Pyramid, Viewport] | None:
        """Return what the screen shows of a signal before all of it is computed, if it can be.

        The result is a part of the picture, and the viewport as it stands to that part.
        """
        exact = self.chain(sample, method)
        coarse = self.chain(sample, method, coarse_level(sample.channels[channel].shape))
        shape = self.peek_moved(sample, channel, method).shape
        window = visible_window(viewport, shape)
        if window is None or viewport.zoom * 2**coarse.level <= 1.0:
            return None
        part = visible_part(exact, coarse, channel, window)
        if part is None:
            return None
        rows, columns = window
        hidden = shape[0] - rows.stop if viewport.bottom_up else rows.start
        view = replace(viewport, left=viewport.left - columns.start, top=viewport.top - hidden)
        return Pyramid(part.pixels), view

    def is_sketch(self, sample: Sample, channel: str, method: Method | None) -> bool:
        """Whether `quick_pyramid` gives a sketch as yet."""
        size = sample.channels[channel].pixels.size
        if method is None or self._is_native(sample, channel, method):
            known = self._cache.peek(self._native_pyramid_key(sample, channel))
            return size >= SKETCH_FROM and known is None
        return size >= COARSE_FROM and self.peek_signal(sample, channel, method) is None
