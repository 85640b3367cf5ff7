"""Small pictures of a sample at the stages of the work, as values: painted later, in a range that
suits all samples. They are made where the sample is measured, and kept with its outcome.
"""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StudyError
from rilievo.core.image.image import Sample, ValueSource
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.pyramids import pyramid_of
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.pipeline.thumbnails import ends_of
from rilievo.core.view.sampling import Viewport, covered_part, sampled, sampled_labels

Ends = tuple[float, float]
_LEAST_SIDE, _MOST_SIDE = 110, 240
# Values are kept in so many steps over their own display range and a quarter of it on both sides.
_STEPS, _BEYOND = 254, 0.25
_TEXT = "shots"


@dataclass(frozen=True)
class Shot:
    """A small picture that is made of every sample.

    source : before or after the corrections. classes : the region classes that are outlined.
    """

    title: str
    channel: str
    source: ValueSource
    classes: tuple[int, ...] = ()

    @property
    def key(self) -> tuple[str, ValueSource]:
        """What display range it has."""
        return self.channel, self.source


@dataclass(frozen=True, eq=False)
class SmallPlane:
    """A plane at the size of a small picture, as it stands on the screen.

    codes : shape (height, width), uint8; 0 is undefined, the others are spread over `span`.
    ends : the display range that suits the plane at its full size.
    """

    codes: NDArray[np.uint8]
    span: Ends
    ends: Ends

    @classmethod
    def of(cls, values: NDArray[Any], ends: Ends) -> SmallPlane:
        """Return values in 254 steps; what is beyond them is as bright or dark as they go."""
        margin = _BEYOND * (ends[1] - ends[0])
        low, high = ends[0] - margin, ends[1] + margin
        shares = np.clip((values.astype(np.float64) - low) / (high - low), 0, 1)
        codes = np.where(np.isnan(shares), -1, np.rint(shares * (_STEPS - 1))) + 1
        return cls(codes.astype(np.uint8), (low, high), ends)

    @property
    def values(self) -> NDArray[np.float32]:
        """The values to about half a percent of the display range; NaN where undefined."""
        low, high = self.span
        values = low + (self.codes.astype(np.float32) - 1) * ((high - low) / (_STEPS - 1))
        return np.where(self.codes == 0, np.float32(np.nan), values.astype(np.float32))


@dataclass(frozen=True, eq=False)
class SmallPictures:
    """What the small pictures of a sample are painted of.

    planes : by channel and source. labels : of the regions of each class, shape of a picture,
    int32.
    """

    shots: tuple[Shot, ...]
    planes: Mapping[tuple[str, ValueSource], SmallPlane]
    labels: Mapping[int, NDArray[np.int32]]

    def to_bytes(self) -> bytes:
        """Return them packed: a NumPy archive of arrays beside a JSON text."""
        arrays: dict[str, Any] = {}
        spans = []
        for k, ((channel, source), plane) in enumerate(self.planes.items()):
            arrays[f"plane {k}"] = plane.codes
            spans.append([channel, source, plane.span, plane.ends])
        for index, labels in self.labels.items():
            arrays[f"labels {index}"] = labels
        shots = [
            {"title": s.title, "channel": s.channel, "lane": s.source, "classes": s.classes}
            for s in self.shots
        ]
        text = {"shots": shots, "planes": spans}
        arrays[_TEXT] = np.frombuffer(json.dumps(text, ensure_ascii=False).encode(), np.uint8)
        buffer = io.BytesIO()
        np.savez_compressed(buffer, allow_pickle=False, **arrays)
        return buffer.getvalue()

    @classmethod
    def from_bytes(cls, content: bytes) -> SmallPictures:
        """Return what `to_bytes` packed. Raises StudyError for damaged bytes."""
        try:
            with np.load(io.BytesIO(content), allow_pickle=False) as archive:
                text = json.loads(archive[_TEXT].tobytes())
                planes = {
                    (channel, source): SmallPlane(archive[f"plane {k}"], tuple(span), tuple(ends))
                    for k, (channel, source, span, ends) in enumerate(text["planes"])
                }
                labels = {
                    int(name.split()[1]): archive[name]
                    for name in archive.files
                    if name.startswith("labels ")
                }
                shots = tuple(
                    Shot(shot["title"], shot["channel"], shot["lane"], tuple(shot["classes"]))
                    for shot in text["shots"]
                )
        except (ValueError, KeyError, TypeError, OSError, EOFError, zipfile.BadZipFile) as exc:
            raise StudyError(f"Kept pictures are damaged ({exc}); measure again.") from exc
        return cls(shots, planes, labels)


def shots_of(method: Method, sample: Sample) -> list[Shot]:
    """Return the pictures that tell a sample's story: as it came, corrected, outlined."""
    first_channel = channel_of(sample, method.outlines[0].channel)
    every = tuple(range(len(method.outlines)))
    shots = [Shot(f"As in the file: {first_channel}", first_channel, "native")]
    if any(use.on and use.applies_to(first_channel) for use in method.steps):
        shots.append(Shot(f"Corrected: {first_channel}", first_channel, "signal"))
    shots.append(Shot(f"Outlined: {first_channel}", first_channel, "signal", every))
    measured_channels = method.measure.channels or sample.channel_names
    other = next((name for name in measured_channels if name != first_channel), None)
    if other is not None:
        shots.append(Shot(f"Outlined: {other}", other, "signal", every))
    return shots


def side_for(samples: int) -> int:
    """Return how large pictures are, in pixels, so that a page of many stays small."""
    return int(np.clip(2400 / max(samples, 1) ** 0.5, _LEAST_SIDE, _MOST_SIDE))


def chosen_evenly(count: int, most: int) -> list[int]:
    """Return the indices of at most `most` of `count` things, evenly spread, the first included."""
    if count <= most:
        return list(range(count))
    return sorted({round(k * (count - 1) / max(most - 1, 1)) for k in range(most)})


def small_pictures(
    analysis: Analysis, side: int, shots: Sequence[Shot] | None = None
) -> SmallPictures:
    """Return the small pictures of a sample, of at most side × side pixels.

    shots : None for those that tell its story. Raises StepError and
    the like where a plane or class cannot be computed.
    """
    sample = analysis.sample
    native = analysis.with_method(Method())
    shots_taken = tuple(shots_of(analysis.method, sample) if shots is None else shots)
    planes: dict[tuple[str, ValueSource], SmallPlane] = {}
    labels: dict[int, NDArray[np.int32]] = {}
    for shot in shots_taken:
        if shot.key in planes:
            continue
        pyramid = pyramid_of(analysis if shot.source == "signal" else native, shot.channel)
        view = _whole(pyramid.levels[0].shape, side, sample.bottom_up)
        level = next(
            (candidate for candidate in pyramid.levels if candidate.size <= 70_000),
            pyramid.levels[-1],
        )
        ends = ends_of(np.asarray(level, np.float64))
        values, rows, columns = sampled(pyramid, view)
        # Of a picture that is long and a pixel high the screen shows hardly anything.
        whole = np.full((view.height, view.width), np.nan, np.float32)
        whole[rows, columns] = values
        planes[shot.key] = SmallPlane.of(whole, ends)
    for index in {index for shot in shots_taken for index in shot.classes}:
        regions = analysis.regions(index).labels
        view = _whole(regions.shape, side, sample.bottom_up)
        rows, columns = covered_part(view, (regions.shape[0], regions.shape[1]))
        labels[index] = np.zeros((view.height, view.width), np.int32)
        found = sampled_labels(regions, view)
        if found.size:
            labels[index][rows, columns] = found
    return SmallPictures(shots_taken, planes, labels)


def _whole(shape: tuple[int, ...], side: int, bottom_up: bool) -> Viewport:
    height, width = shape
    zoom = side / max(height, width)
    return Viewport(
        left=0.0,
        top=0.0,
        zoom=zoom,
        width=max(round(width * zoom), 1),
        height=max(round(height * zoom), 1),
        bottom_up=bottom_up,
    )
