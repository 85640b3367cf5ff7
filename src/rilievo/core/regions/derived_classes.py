"""Classes made from others by a rule, so that they hold for every sample."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from rilievo.core.parameters import Parameters
from rilievo.core.regions.binary_morphology import eroded, grown
from rilievo.core.regions.label_map import Labels, connected
from rilievo.core.regions.region_set import RegionAnnotation, RegionSet

Operation = Literal[
    "union", "intersection", "difference", "complement", "ring", "grown", "shrunk", "inside", "rest"
]
# What each does, in words of A and B, for menu, help and documentation.
OPERATIONS: dict[Operation, str] = {
    "union": "A or B: pixels of either",
    "intersection": "A and B: pixels of both",
    "difference": "A without B",
    "complement": "Everything but A",
    "ring": "Ring around each A",
    "grown": "Each A grown",
    "shrunk": "Each A shrunk",
    "inside": "Parts of B inside each A",
    "rest": "Rest of each A, without B",
}
OF_TWO: tuple[Operation, ...] = ("union", "intersection", "difference", "inside", "rest")
OF_EACH: tuple[Operation, ...] = ("ring", "grown", "shrunk", "inside", "rest")


class Derivation(Parameters):
    """How a class follows from others.

    gap, width : of a ring, or how far it is grown or shrunk (width); in pixels or in units.
    """

    operation: Operation = Field(
        "ring", title="Made as", description="how the class is made from the others"
    )
    a: str = Field("", max_length=80, title="A", description="name of the first class")
    b: str = Field(
        "",
        max_length=80,
        title="B",
        description="name of the second class, where the operation takes two",
    )
    gap: float = Field(
        2.0, ge=0, le=10_000, title="Gap", description="distance from the region to its ring"
    )
    width: float = Field(
        5.0,
        ge=0,
        le=10_000,
        title="Width",
        description="width of the ring, or by how much regions grow",
    )
    lengths_in: Literal["px", "unit"] = Field(
        "px", title="Lengths in", description="unit of gap and width: pixels or the calibrated unit"
    )

    @property
    def needs(self) -> tuple[str, ...]:
        """The classes that it is made from."""
        return (self.a, self.b) if self.operation in OF_TWO else (self.a,)


def derived_labels(
    derivation: Derivation,
    first: RegionSet,
    second: RegionSet | None,
    connectivity: Literal[4, 8],
    pixels_per_unit: float = 1.0,
) -> tuple[Labels, dict[int, RegionAnnotation]]:
    """Return the regions of a derived class, numbered from 1, with their parents.

    first, second : A and B. pixels_per_unit : of the derivation's lengths.

    What is derived from each A has A as its parent, and for all but `inside` the number of its
    index among the As; the parts inside are numbered in row order. A ring has the pixels farther
    than gap and at most gap + width from its A, nearest to it, and in no A.
    """
    a = first.labels
    gap, width = derivation.gap * pixels_per_unit, derivation.width * pixels_per_unit
    operation = derivation.operation
    if operation in OF_EACH:
        numbered = _numbered_from_one(first)
        if operation == "ring":
            near, far = grown(numbered, gap), grown(numbered, gap + width)
            return _children(np.where(near > 0, np.int32(0), far), first)
        if operation in ("grown", "shrunk"):
            change = grown if operation == "grown" else eroded
            return _children(np.maximum(change(numbered, width), 0), first)
        b = _labels(second, a)
        if operation == "rest":
            return _children(np.where(b > 0, np.int32(0), numbered), first)
        return _parts_inside(numbered, b, first, connectivity)
    if operation == "complement":
        mask = a <= 0
    elif operation == "union":
        mask = (a > 0) | (_labels(second, a) > 0)
    elif operation == "intersection":
        mask = (a > 0) & (_labels(second, a) > 0)
    else:
        mask = (a > 0) & ~(_labels(second, a) > 0)
    return connected(np.asarray(mask), connectivity)[0], {}


def _labels(regions: RegionSet | None, like: Labels) -> Labels:
    return np.zeros_like(like) if regions is None else regions.labels


def _numbered_from_one(regions: RegionSet) -> Labels:
    """The regions under their indices from 1, without what was left out."""
    labels = np.maximum(regions.labels, 0)
    if regions.count == 0:
        return labels
    first = int(regions.ids[0])
    table = np.zeros(int(regions.ids[-1]) - first + 2, np.int32)
    table[regions.ids - first + 1] = np.arange(1, regions.count + 1)
    return np.asarray(table[np.maximum(labels - np.int32(first - 1), 0)])


def _children(labels: Labels, parents: RegionSet) -> tuple[Labels, dict[int, RegionAnnotation]]:
    """Regions that have the index of their parent as number."""
    there = np.unique(labels[labels > 0])
    return labels, {int(k): _of_parent(parents, int(k)) for k in there}


def _of_parent(parents: RegionSet, index: int) -> RegionAnnotation:
    parent = int(parents.ids[index - 1])
    facts = parents.facts(parent)
    return RegionAnnotation(facts.name, facts.group, facts.attributes, parent)


def _parts_inside(
    a: Labels, b: Labels, parents: RegionSet, connectivity: Literal[4, 8]
) -> tuple[Labels, dict[int, RegionAnnotation]]:
    """The parts of each region of B inside each A, numbered in row order."""
    both = (a > 0) & (b > 0)
    # Parts are apart where either the A or the B differs.
    pairs = _pair_numbers(np.where(both, a, 0), np.where(both, b, 0))
    labels, count = connected(pairs, connectivity, distinct=True)
    owner = np.zeros(count + 1, np.int64)
    owner[labels[both]] = a[both]
    return labels, {k: _of_parent(parents, int(owner[k])) for k in range(1, count + 1)}


def _pair_numbers(a: Labels, b: Labels) -> NDArray[np.int32]:
    """A number from 1 for each pair that occurs; 0 where there is none."""
    keys = a.astype(np.int64) << 32 | b
    result = np.zeros(a.shape, np.int32)
    inside = a > 0
    result[inside] = np.unique(keys[inside], return_inverse=True)[1].ravel() + 1
    return result
