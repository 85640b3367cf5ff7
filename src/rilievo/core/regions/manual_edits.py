"""Changes of single regions by hand, remembered as long as the region is still there.

An edit keeps the pixels of the region it was made on, in positions of the file. When the method
runs again it applies to the region that overlaps those most.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from rilievo.core.image.image import Placement, placed, unplaced
from rilievo.core.parameters import Parameters
from rilievo.core.regions.label_map import LabelMap, Mask, relabelled
from rilievo.core.regions.pixel_shapes import StencilShape
from rilievo.core.regions.region_set import RegionAnnotation, RegionSet, class_index
from rilievo.core.regions.shape import covered
from rilievo.core.regions.shapes import AnyShape, LineShape

Kind = Literal["reject", "accept", "reclassify", "redraw", "cut", "merge"]
# A region is the same as before if it shares at least so much of what both cover together.
SAME_FROM = 0.5
_WORDS: dict[Kind, str] = {
    "accept": "accepted by hand",
    "reclassify": "class given by hand",
    "redraw": "redrawn by hand",
    "cut": "cut by hand",
    "merge": "merged by hand",
    "reject": "rejected by hand",
}


class HandEdit(Parameters):
    """One change of a region by hand.

    where : pixels of the region (of several, for a merge); a single pixel stands for the region
    that covers it. to : the class it is given. shape : what it is redrawn as, or cut along.
    """

    kind: Kind = Field(
        description="what was done: reject, accept, reclassify, redraw, cut or merge"
    )
    region_class: str = Field(
        min_length=1, max_length=80, description="class of the region that is edited"
    )
    where: tuple[StencilShape, ...] = Field(
        min_length=1, max_length=1000, description="stencils of the regions that are meant"
    )
    to: str = Field("", max_length=80, description="class it becomes, where it is reclassified")
    shape: AnyShape | None = Field(None, description="the new outline, or the line of the cut")

    @model_validator(mode="after")
    def _whole(self) -> HandEdit:
        if self.kind == "reclassify" and not self.to:
            raise ValueError("gives a region no class")
        if self.kind == "redraw" and self.shape is None:
            raise ValueError("redraws a region as nothing")
        if self.kind == "cut" and not isinstance(self.shape, LineShape):
            raise ValueError("cuts a region along no line")
        return self


@dataclass(frozen=True, eq=False)
class Edited:
    """Regions after the edits by hand.

    rejected : number → reason. known : number → what is known. given : regions that belong to
    another class, by its name: masks of the whole picture. lost : edits whose region is gone.
    """

    found: LabelMap
    rejected: dict[int, str] = field(default_factory=dict)
    known: dict[int, RegionAnnotation] = field(default_factory=dict)
    given: tuple[tuple[str, Mask], ...] = ()
    lost: int = 0


Positions = tuple[NDArray[np.int64], NDArray[np.int64]]


def edited(label_map: LabelMap, edits: Sequence[HandEdit], placement: Placement) -> Edited:
    """Apply the edits of one class, in their order.

    placement : how positions of the file become positions of the labels.
    """
    # What an edit was about is told by pixels: numbers change with every cut.
    marked: list[tuple[HandEdit, Positions]] = []
    lost = 0
    for edit in edits:
        there = {}
        for stencil in edit.where:
            number, positions = match(label_map, stencil, placement, dropped=edit.kind == "accept")
            if number:
                there[number] = positions
        if not there:
            lost += 1
        elif edit.kind in ("cut", "merge", "redraw"):
            label_map, changed = _reshaped(label_map, edit, list(there), placement)
            marked.append((edit, changed))
        else:
            for number, positions in there.items():
                if number < 0:
                    labels = label_map.labels.copy()
                    labels[labels == number] = label_map.count + 1
                    label_map = label_map.with_labels(labels, apart=True)
                marked.append((edit, positions))
    return _told(label_map, marked, lost)


def _told(label_map: LabelMap, marked: list[tuple[HandEdit, Positions]], lost: int) -> Edited:
    """What the edits say of the regions as they are after all edits."""
    rejected: dict[int, str] = {}
    annotation_of: dict[int, RegionAnnotation] = {}
    given = []
    for edit, positions in marked:
        numbers = np.unique(label_map.labels[positions])
        for number in numbers[numbers > 0].tolist():
            if edit.kind == "reject":
                rejected[number] = _WORDS["reject"]
            elif edit.kind == "accept":
                rejected.pop(number, None)
            elif edit.kind == "reclassify":
                rejected[number] = f"now of class {edit.to}"
                given.append((edit.to, np.asarray(label_map.labels == number)))
            annotation_of[number] = RegionAnnotation(edit=_WORDS[edit.kind])
    return Edited(label_map, rejected, annotation_of, tuple(given), lost)


def match(
    label_map: LabelMap, stencil: StencilShape, placement: Placement, *, dropped: bool = False
) -> tuple[int, Positions]:
    """Return the region that is the same as the stencil, 0 for none, and the pixels (y, x) shared.

    The one that shares most pixels, if those are at least half of what both cover together; for a
    stencil of one pixel, the one that covers it. dropped : regions that were left out count too.
    """
    y, x = _pixels(stencil, placement, label_map.labels.shape)
    labels = label_map.labels[y, x]
    some = labels != 0 if dropped else labels > 0
    if not some.any():
        return 0, (y, x)
    numbers, shared = np.unique(labels[some], return_counts=True)
    best = int(shared.argmax())
    number = int(numbers[best])
    positions = y[labels == number], x[labels == number]
    if stencil.area > 1:
        # Only the surroundings need to be counted: what reaches farther is another region.
        area = int(np.count_nonzero(_around(label_map.labels, x, y) == number))
        if shared[best] < SAME_FROM * (x.size + area - int(shared[best])):
            return 0, positions
    return number, positions


def stencil_in_file(mask: Mask, x: int, y: int, placement: Placement) -> StencilShape:
    """Return pixels of the picture as pixels of the file; the mask's first one lies at (x, y)."""
    rows, columns = np.nonzero(mask)
    positions = np.rint(np.stack(unplaced(placement, columns + x, rows + y))).astype(np.int64)  # type: ignore[arg-type]
    left, top = positions.min(axis=1)
    wide, high = positions.max(axis=1) - (left, top) + 1
    there = np.zeros((high, wide), np.bool_)
    there[positions[1] - top, positions[0] - left] = True
    return StencilShape.of(there, int(left), int(top))


def edits_of(
    kind: Kind,
    sets: Sequence[RegionSet],
    regions: Iterable[int],
    names: Sequence[str],
    placement: Placement,
    **fields: Any,
) -> list[HandEdit]:
    """Return an edit for each region that is there. sets : by class; names : of the classes."""
    edits = []
    for region in sorted(regions):
        index = class_index(region)
        if index < len(sets) and sets[index].index_of(region) is not None:
            mask, x, y = sets[index].mask_of(region)
            where = (stencil_in_file(mask, x, y, placement),)
            edits.append(HandEdit(kind=kind, region_class=names[index], where=where, **fields))
    return edits


def crossed_by(regions: RegionSet, line: LineShape, placement: Placement) -> list[int]:
    """Return the regions that a line in the file runs through."""
    steps = np.linspace(0, 1, 4 * math.ceil(line.length + 1))
    numbers = set()
    for share in steps.tolist():
        x = line.x0 + share * (line.x1 - line.x0)
        y = line.y0 + share * (line.y1 - line.y0)
        numbers.add(regions.at(*(round(v) for v in placed(placement, x, y))))
    return sorted(numbers - {0})


def _around(
    labels: NDArray[np.int32], x: NDArray[np.int64], y: NDArray[np.int64]
) -> NDArray[np.int32]:
    """The labels within twice the extent of some pixels."""
    wide, high = int(np.ptp(x)) + 2, int(np.ptp(y)) + 2
    rows = slice(max(int(y.min()) - 2 * high, 0), int(y.max()) + 2 * high)
    return labels[rows, max(int(x.min()) - 2 * wide, 0) : int(x.max()) + 2 * wide]


def _pixels(
    stencil: StencilShape, placement: Placement, size: tuple[int, ...]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The pixels of a stencil where they lie now, as far as they are inside."""
    mask, left, top = stencil.mask()
    rows, columns = np.nonzero(mask)
    a, b, c, d, e, f = placement
    columns, rows = columns + left, rows + top
    x = np.rint(a * columns + b * rows + c).astype(np.int64)
    y = np.rint(d * columns + e * rows + f).astype(np.int64)
    inside = (x >= 0) & (y >= 0) & (x < size[1]) & (y < size[0])
    return y[inside], x[inside]


def _reshaped(
    label_map: LabelMap, edit: HandEdit, numbers: list[int], placement: Placement
) -> tuple[LabelMap, Positions]:
    """Cut, merge or redraw; with the pixels of what came of it."""
    labels = label_map.labels.copy()
    in_regions = np.isin(labels, numbers)
    if edit.kind == "merge":
        labels[in_regions] = numbers[0]
        return _kept_apart(label_map, labels), _positions(in_regions)
    if edit.shape is None:
        return label_map, _positions(in_regions)
    size = (labels.shape[0], labels.shape[1])
    rows, columns, mask = covered(edit.shape, size, placement)
    if edit.kind == "redraw":
        labels[in_regions] = 0
        part = labels[rows, columns]
        part[mask & (part <= 0)] = numbers[0]
        return label_map.with_labels(labels, apart=True), _positions(labels == numbers[0])
    # The pixels along the line go to the side on which they lie, so that none is lost.
    line = edit.shape
    if not isinstance(line, LineShape):
        return label_map, _positions(in_regions)
    ends = [placed(placement, line.x0, line.y0), placed(placement, line.x1, line.y1)]
    y, x = _positions(in_regions)
    across = (ends[1][0] - ends[0][0]) * (y - ends[0][1]) - (ends[1][1] - ends[0][1]) * (
        x - ends[0][0]
    )
    beyond = across > 0
    labels[y[beyond], x[beyond]] = label_map.count + 1 + labels[y[beyond], x[beyond]]
    return label_map.with_labels(labels, apart=True), (y, x)


def _positions(mask: Mask) -> Positions:
    y, x = np.nonzero(mask)
    return y.astype(np.int64), x.astype(np.int64)


def _kept_apart(label_map: LabelMap, labels: NDArray[np.int32]) -> LabelMap:
    """The regions with a merged one that may consist of parts."""
    numbers = np.unique(labels[labels > 0])
    table = np.zeros(int(numbers[-1]) + 1, np.int32)
    table[numbers] = np.arange(1, numbers.size + 1)
    labels = relabelled(labels, table, len(label_map.reasons))
    return LabelMap(
        labels, int(numbers.size), label_map.connectivity, label_map.reasons, apart=True
    )
