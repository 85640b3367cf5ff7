"""Drawn regions: what one draws with, where shapes lie, and how they are changed."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.errors import MethodError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import UNMOVED, Placement, placed, unplaced
from rilievo.core.method import class_edits
from rilievo.core.method.method import checked_copy
from rilievo.core.regions.drawn_shapes import (
    DrawnRegion,
    for_all_samples,
    numbers_of,
    usual_tolerance,
)
from rilievo.core.regions.pixel_shapes import FloodShape, StencilShape
from rilievo.core.regions.region_set import CLASS_STRIDE
from rilievo.core.regions.shape import Point, Shape
from rilievo.core.regions.shapes import GridShape
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession


class DrawnRegions(QObject):
    """Works on the drawn regions of the class in focus.

    radius, line_width, tolerance, connected, everywhere, stamp, grid : what one draws with.
    """

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(
        self, session: StudySession, compute: Compute, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._compute = session, compute
        self.radius = 5.0
        self.line_width = 3.0
        self.tolerance: float | None = None
        self.connected = True
        self.everywhere = False
        self.stamp: Shape | None = None
        self.grid = GridShape(
            rows=1, columns=7, first=(0, 0), across=(0, 0), down=(0, 0), width=40, height=40
        )

    def set(self, **choices: Any) -> None:
        """Change what one draws with."""
        for name, value in choices.items():
            setattr(self, name, value)
        self.changed.emit()

    @property
    def placement(self) -> Placement:
        """How positions of the file become positions of the picture."""
        sample_id = self._session.focus.sample_id
        if sample_id is None or sample_id not in self._compute.store.samples:
            return UNMOVED
        return self._compute.displayed.frame_of(sample_id).placement

    @property
    def shape_placement(self) -> Placement:
        """As `placement`, for the selected drawn region, which may stand in the picture itself."""
        found = {index for index, _ in self.selected()}
        drawn = self._session.focus.outline.drawn
        apart = len(found) == 1 and drawn[next(iter(found))].frame == "picture"
        return UNMOVED if apart else self.placement

    def to_file(self, x: float, y: float) -> Point:
        """Return the position of the file at a position of the picture."""
        return unplaced(self.placement, x, y)

    def from_file(self, x: float, y: float) -> Point:
        """Return the position of the picture at a position of the file."""
        return placed(self.placement, x, y)

    @property
    def is_drawing(self) -> bool:
        """Whether the class in focus is drawn."""
        return self._session.focus.outline.source == "drawn" and self._session.stage == "outline"

    def selected(self) -> list[tuple[int, int | None]]:
        """Return the index in the list, and the cell of a grid, of the selected drawn regions."""
        regions = self._compute.regions.focused
        if regions is None or not self.is_drawing:
            return []
        known = [regions.facts(region).drawn for region in sorted(self._session.focus.regions)]
        return [
            one
            for one in known
            if one is not None and one[0] < len(self._session.focus.outline.drawn)
        ]

    @property
    def selected_shape(self) -> tuple[Shape, int | None] | None:
        """The shape that is taken hold of: that of the single selected region."""
        found = self.selected()
        if len({index for index, _ in found}) != 1:
            return None
        index, cell = found[0]
        return self._session.focus.outline.drawn[index].shape, cell if len(found) == 1 else None

    @property
    def painted(self) -> StencilShape | None:
        """The painted region that the brush goes on with."""
        found = self.selected_shape
        return found[0] if found is not None and isinstance(found[0], StencilShape) else None

    def add(self, tool: str, shape: Shape) -> None:
        """Add a drawn region to the class in focus, or to a new class where that is not drawn."""
        entry = self._session.focus.entry
        if entry is None:
            return
        if self._session.focus.outline.source != "drawn":
            method = class_edits.added(self._session.state.method, "drawn")
            self._session.change_method(f"Add class {method.class_names[-1]}", method)
            self._session.focus.set_class(len(method.outlines) - 1)
        one = DrawnRegion(shape=shape, sample=entry.name)
        if self.everywhere:
            one = self._for_all(one)
        if tool not in ("stamp", "flood", "grid"):
            self.stamp = shape
        before = len(self._session.focus.outline.drawn)
        text = "Draw a grid" if isinstance(shape, GridShape) else "Draw a region"
        self._change(text, (*self._session.focus.outline.drawn, one))
        self._session.focus.set(regions=self._numbers_of(before))
        self.changed.emit()

    def flood_at(self, x: int, y: int) -> FloodShape:
        """Return the flood from a pixel of the file."""
        tolerance = self.tolerance
        if tolerance is None:
            facts = self._compute.queue.focused
            known = facts.signal.get(self._compute.store.outline_channel or "") if facts else None
            tolerance = usual_tolerance(known or Histogram.nothing())
        return FloodShape(x=x, y=y, tolerance=tolerance, connected=self.connected)

    def _numbers_of(self, index: int) -> list[int]:
        """The numbers that a drawn region will have in the sample in focus."""
        sample = self._session.focus.entry.name if self._session.focus.entry is not None else ""
        first = self._session.focus.class_index * CLASS_STRIDE
        return [first + k for k in numbers_of(self._session.focus.outline.drawn, index, sample)]

    def _change(self, text: str, drawn: Iterable[DrawnRegion]) -> None:
        try:
            self._compute.session.change_class(text, drawn=tuple(drawn))
        except MethodError as exc:
            self.refused.emit(str(exc))

    def put_shape(self, shape: Shape) -> None:
        """Give the selected drawn region another shape."""
        found = self.selected()
        if found:
            self.change_drawn("Change a drawn region", found[0][0], shape=shape)

    def change_drawn(self, text: str, index: int, **fields: Any) -> None:
        """Change shape, name, group or attributes of a drawn region."""
        drawn = list(self._session.focus.outline.drawn)
        try:
            drawn[index] = checked_copy(drawn[index], **fields)
        except MethodError as exc:
            self.refused.emit(str(exc))
            return
        self._change(text, drawn)

    def transform(self, how: str, by: float = 1.0) -> None:
        """Move, grow, shrink or mirror the selected drawn regions."""
        indices = {index for index, _ in self.selected()}
        if not indices:
            return
        drawn = list(self._session.focus.outline.drawn)
        for index in indices:
            shape = drawn[index].shape
            changed = {
                "left": lambda s=shape: s.moved(-by, 0),
                "right": lambda s=shape: s.moved(by, 0),
                "up": lambda s=shape: s.moved(0, -by),
                "down": lambda s=shape: s.moved(0, by),
                "grow": lambda s=shape: s.grown(by),
                "shrink": lambda s=shape: s.grown(-by),
                "mirror x": lambda s=shape: s.mirrored(s.centre[0], "x"),
                "mirror y": lambda s=shape: s.mirrored(s.centre[1], "y"),
            }[how]()
            drawn[index] = drawn[index].model_copy(update={"shape": changed})
        self._change(f"{how.capitalize()} drawn regions", drawn)

    def duplicate(self) -> None:
        """Add copies of the selected drawn regions, a little aside."""
        positions = sorted({index for index, _ in self.selected()})
        drawn = self._session.focus.outline.drawn
        copies = [
            drawn[k].model_copy(update={"shape": drawn[k].shape.moved(8, 8)}) for k in positions
        ]
        if copies:
            self._change("Duplicate drawn regions", (*drawn, *copies))
            self._session.focus.set(regions=self._numbers_of(len(drawn)))

    def delete_selected(self) -> None:
        """Remove the selected drawn regions."""
        gone = {index for index, _ in self.selected()}
        if gone:
            drawn = self._session.focus.outline.drawn
            self._change("Remove drawn regions", (d for k, d in enumerate(drawn) if k not in gone))
            self._session.focus.set(regions=())

    def spread(self) -> None:
        """Make the selected drawn regions those of all samples."""
        indices = {index for index, _ in self.selected()}
        drawn = [
            self._for_all(one) if k in indices else one
            for k, one in enumerate(self._session.focus.outline.drawn)
        ]
        self._change("Copy regions to all samples", drawn)

    def _for_all(self, region: DrawnRegion) -> DrawnRegion:
        steps = self._session.state.method.steps
        registered = any(use.on and use.step == "geometry.register" for use in steps)
        return for_all_samples(region, self.placement, registered=registered)
