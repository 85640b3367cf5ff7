"""Positions of a stage: further images of a file that are stacks just like its first."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from rilievo.core.errors import FileError
from rilievo.core.files.reader import read_layout
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.stack import StackLayout

_MOST = 1000
_POSITION = "position"


def further_positions(path: Path, layout: StackLayout) -> tuple[int, ...]:
    """Return which further images of a file are stacks of the layout of its first, from 1 on.

    Pixels are not read. None where the first is no stack.
    """
    positions: list[int] = []
    while layout.count > 1 and len(positions) < _MOST:
        try:
            other = read_layout(path, len(positions) + 1)
        except FileError:
            break
        if other != layout:
            break
        positions.append(len(positions) + 1)
    return tuple(positions)


def with_positions(proposal: SampleRef, positions: tuple[int, ...]) -> list[SampleRef]:
    """Return a proposal of a file's first image, and one for each further position.

    Each knows its position, counted from 1.
    """
    if not positions:
        return [proposal]
    made = []
    for image in (0, *positions):
        name = proposal.name if image == 0 else f"{proposal.name} p{image + 1}"
        made.append(
            replace(
                proposal,
                name=name,
                parts=tuple(replace(part, image=image) for part in proposal.parts),
                attributes={**proposal.attributes, _POSITION: str(image + 1)},
            )
        )
    return made
