"""Small pictures of a sample at the stages of the work, all samples in the same display range."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Lane, Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.pipeline.thumbnails import ends_of
from rilievo.core.report.style import LOOKS
from rilievo.core.view.palettes import ViewStyle
from rilievo.core.view.render import RegionLayer, Shading, painted
from rilievo.core.view.sampling import Viewport

Ends = tuple[float, float]
_LEAST_SIDE, _MOST_SIDE = 110, 240


@dataclass(frozen=True)
class Shot:
    """A small picture that is made of every sample.

    lane : before or after the corrections. classes : the region classes that are outlined.
    """

    title: str
    channel: str
    lane: Lane
    classes: tuple[int, ...] = ()

    @property
    def key(self) -> tuple[str, Lane]:
        """What display range it has."""
        return self.channel, self.lane


def shots_of(method: Method, sample: Sample) -> list[Shot]:
    """Return the pictures that tell a sample's story: as it came, corrected, outlined."""
    found = channel_of(sample, method.outlines[0].channel)
    every = tuple(range(len(method.outlines)))
    shots = [Shot(f"As in the file: {found}", found, "native")]
    if any(use.on and use.applies_to(found) for use in method.steps):
        shots.append(Shot(f"Corrected: {found}", found, "signal"))
    shots.append(Shot(f"Outlined: {found}", found, "signal", every))
    wanted = method.measure.channels or sample.channel_names
    other = next((name for name in wanted if name != found), None)
    if other is not None:
        shots.append(Shot(f"Outlined: {other}", other, "signal", every))
    return shots


def side_for(samples: int) -> int:
    """Return how large pictures are, in pixels, so that a page of many stays small."""
    return int(np.clip(2400 / max(samples, 1) ** 0.5, _LEAST_SIDE, _MOST_SIDE))


def ends_for(
    evaluator: Evaluator, samples: Iterable[Sample], shots: Sequence[Shot], method: Method
) -> dict[tuple[str, Lane], Ends]:
    """Return display ranges that suit all samples: from the lowest low to the highest high end."""
    known: dict[tuple[str, Lane], list[Ends]] = {}
    for sample in samples:
        for shot in shots:
            if shot.channel in sample.channels:
                known.setdefault(shot.key, []).append(_own_ends(evaluator, sample, shot, method))
    return {
        key: (min(low for low, _ in ends), max(high for _, high in ends))
        for key, ends in known.items()
    }


def _own_ends(evaluator: Evaluator, sample: Sample, shot: Shot, method: Method) -> Ends:
    used = method if shot.lane == "signal" else None
    values = evaluator.pyramid(sample, shot.channel, used)
    level = next((one for one in values.levels if one.size <= 70_000), values.levels[-1])
    return ends_of(np.asarray(level, np.float64))


def shot_pixels(
    evaluator: Evaluator,
    sample: Sample,
    method: Method,
    shot: Shot,
    ends: Ends,
    side: int,
    style: ViewStyle = ViewStyle(),  # noqa: B008 (immutable)
) -> NDArray[np.uint8]:
    """Return a picture of at most side × side pixels, shape (height, width, 3)."""
    pyramid = evaluator.pyramid(sample, shot.channel, method if shot.lane == "signal" else None)
    height, width = pyramid.levels[0].shape
    zoom = side / max(height, width)
    view = Viewport(
        left=0.0,
        top=0.0,
        zoom=zoom,
        width=max(round(width * zoom), 1),
        height=max(round(height * zoom), 1),
        bottom_up=sample.bottom_up,
    )
    sets = [evaluator.regions(sample, method, index) for index in shot.classes]
    colours = painted(
        pyramid,
        view,
        ends,
        LOOKS,
        RegionLayer(
            labels=sets[0].labels if sets else None, others=[one.labels for one in sets[1:]]
        ),
        shading=Shading(style=style),
    )
    bytes_of = colours.view(np.uint8).reshape(*colours.shape, 4)
    return np.ascontiguousarray(bytes_of[..., 2::-1])


def as_png(pixels: NDArray[np.uint8]) -> bytes:
    """Return a picture as a PNG; the same pixels give the same bytes."""
    import imagecodecs  # noqa: PLC0415 (slow to import)

    return bytes(imagecodecs.png_encode(pixels, level=6))
