"""Channels made of many planes of the stack that a sample is one plane of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from rilievo.core.files.projections import projected
from rilievo.core.files.reader import file_identity, read_layout, read_sample
from rilievo.core.image.image import Conversion, Keep, Plane, Sample
from rilievo.core.image.stack import Along, Frame, PlaneRange, StackLayout


@lru_cache(maxsize=64)
def _layout(_identity: str, path: Path, image: int) -> StackLayout:
    """The planes of a file in a state: all samples of a stack ask for them."""
    return read_layout(path, image)


class Origin(NamedTuple):
    """Where a channel of a sample comes from: a plane of a file, and what it is called there."""

    path: Path
    image: int
    frame: Frame
    channel: str


@dataclass(frozen=True)
class StackOfFiles:
    """As `OtherPlanes`. origins : of the channels of the sample."""

    origins: Mapping[str, Origin]

    @property
    def axes(self) -> tuple[Along, ...]:
        """As `OtherPlanes.axes`."""
        every: tuple[Along, ...] = ("time", "z")
        frames = [origin.frame for origin in self.origins.values()]
        return tuple(
            axis for axis in every if any(frame.place(axis) is not None for frame in frames)
        )

    def projected(
        self, channel: str, over: PlaneRange, convert: Conversion, keep: Keep
    ) -> Plane | None:
        """As `OtherPlanes.projected`; a range beyond the planes is cut."""
        origin = self.origins.get(channel)
        if origin is None:
            return None
        path, image, place, name = origin
        if place.place(over.along) is None:
            return None
        identity = file_identity(path, image)
        layout = _layout(identity, path, image).as_in(place)
        most = (layout.z if over.along == "z" else layout.time) - 1
        last = most if over.last is None else min(over.last, most)
        frame = replace(
            place.moved(over.along, None),
            projection=over.how,
            along=over.along,
            first=min(over.first, last),
            last=last,
        )

        def read(frame_read: Frame) -> Sample:
            sample = read_sample(path, image, frame_read, checksum=False)
            return replace(sample, channels={name: convert.apply(sample.channels)[name]})

        # All planes of a stack share what is made of it.
        key = ("over planes", identity, frame.text, name, convert.key)
        return keep(
            key, lambda: projected(frame, over.how, read).first, lambda plane: plane.pixels.nbytes
        )
