"""Samples of a study that are planes of one stack, by their place in depth and time."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from rilievo.core.image.stack import stack_position
from rilievo.core.study.study import SampleEntry


@dataclass(frozen=True)
class Stack:
    """Planes of one file, or of files that are channels of each other.

    planes : (time, z), counted from 0 → sample's id.
    """

    planes: Mapping[tuple[int, int], int] = field(default_factory=dict)

    @property
    def times(self) -> tuple[int, ...]:
        """Times of which there is a plane, rising."""
        return tuple(sorted({time for time, _ in self.planes}))

    @property
    def depths(self) -> tuple[int, ...]:
        """Depths of which there is a plane, rising."""
        return tuple(sorted({z for _, z in self.planes}))

    def place_of(self, sample_id: int) -> tuple[int, int] | None:
        """Return time and depth of a sample; None where it is none of them."""
        return next(
            (place for place, plane_id in self.planes.items() if plane_id == sample_id), None
        )

    def nearest(self, time: int, z: int) -> int:
        """Return the sample at a place, or where there is none the nearest one."""
        exact = self.planes.get((time, z))
        if exact is not None:
            return exact
        place = min(
            self.planes,
            key=lambda position: (abs(position[0] - time) + abs(position[1] - z), position),
        )
        return self.planes[place]


def stacks_of(entries: Sequence[SampleEntry]) -> dict[int, Stack]:
    """Return for each sample that is a plane of a stack with others the stack, by its id."""
    members: dict[Hashable, dict[tuple[int, int], int]] = {}
    for entry in entries:
        frame = entry.sources[0].frame
        if frame is not None:
            key = tuple(replace(part, frame=None) for part in entry.sources), frame.projection
            members.setdefault(key, {})[stack_position(frame)] = entry.id
    stack_of: dict[int, Stack] = {}
    for planes in members.values():
        if len(planes) > 1:
            stack = Stack(planes)
            stack_of |= dict.fromkeys(planes.values(), stack)
    return stack_of
