"""Regions drawn and changed by hand: what the tools on the picture and the cards ask for."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

from PyQt6.QtCore import QObject, Qt, pyqtSignal

from rilievo.core.errors import MethodError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import UNMOVED, Placement, placed, unplaced
from rilievo.core.method import class_edits
from rilievo.core.method.class_definition import OutlinePick, ThresholdUse
from rilievo.core.method.method import checked_copy
from rilievo.core.pipeline.threshold_from_picks import ColourProposal, Proposal, proposed
from rilievo.core.regions.drawn import (
    DrawnRegion,
    for_all_samples,
    numbers_of,
    usual_tolerance,
)
from rilievo.core.regions.manual_edits import HandEdit, Kind, crossed_by, edits_of, stencil_in_file
from rilievo.core.regions.region_set import CLASS_STRIDE, number_in_class
from rilievo.core.regions.shapes import (
    FloodShape,
    GridShape,
    LineShape,
    Point,
    Shape,
    StencilShape,
)
from rilievo.core.regions.thresholds.colour import ColourRanges
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import rounded
from rilievo.ui.workbench import Workbench

EditKind = Literal["reject", "accept", "merge"]


class Outlining(QObject):
    """What one draws with, and the changes that follow."""

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self, model: StudyModel, bench: Workbench, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._model, self._bench = model, bench
        self.radius = 5.0
        self.line_width = 3.0
        self.tolerance: float | None = None
        self.connected = True
        self.everywhere = False
        self.stamp: Shape | None = None
        self.grid = GridShape(
            rows=1, columns=7, first=(0, 0), across=(0, 0), down=(0, 0), width=40, height=40
        )
        # A pixel of the left-out region that was clicked last.
        self.left_out: tuple[int, int] | None = None
        # The share of picks that the proposal puts on the right side.
        self.right: float | None = None

    def set(self, **choices: Any) -> None:
        """Change what one draws with."""
        for name, value in choices.items():
            setattr(self, name, value)
        self.changed.emit()

    # -- places

    @property
    def placement(self) -> Placement:
        """How positions of the file become positions of the picture."""
        sample_id = self._model.sample_id
        if sample_id is None or sample_id not in self._bench.samples:
            return UNMOVED
        return self._bench.seen.frame_of(sample_id).placement

    @property
    def shape_placement(self) -> Placement:
        """As `placement`, for the selected drawn region, which may stand in the picture itself."""
        found = {place for place, _ in self.selected()}
        drawn = self._model.outline.drawn
        apart = len(found) == 1 and drawn[next(iter(found))].frame == "picture"
        return UNMOVED if apart else self.placement

    def to_file(self, x: float, y: float) -> Point:
        """Return the position of the file at a position of the picture."""
        return unplaced(self.placement, x, y)

    def from_file(self, x: float, y: float) -> Point:
        """Return the position of the picture at a position of the file."""
        return placed(self.placement, x, y)

    # -- drawn regions

    @property
    def is_drawing(self) -> bool:
        """Whether the class in focus is drawn."""
        return self._model.outline.source == "drawn" and self._model.stage == "outline"

    def selected(self) -> list[tuple[int, int | None]]:
        """Return the place in the list, and the cell of a grid, of the selected drawn regions."""
        regions = self._bench.focused_regions
        if regions is None or not self.is_drawing:
            return []
        known = [regions.facts(region).drawn for region in sorted(self._model.regions)]
        return [one for one in known if one is not None and one[0] < len(self._model.outline.drawn)]

    @property
    def selected_shape(self) -> tuple[Shape, int | None] | None:
        """The shape that is taken hold of: that of the single selected region."""
        found = self.selected()
        if len({place for place, _ in found}) != 1:
            return None
        place, cell = found[0]
        return self._model.outline.drawn[place].shape, cell if len(found) == 1 else None

    @property
    def painted(self) -> StencilShape | None:
        """The painted region that the brush goes on with."""
        found = self.selected_shape
        return found[0] if found is not None and isinstance(found[0], StencilShape) else None

    def take(self, tool: str, shape: Shape) -> None:
        """Take what a tool drew."""
        if tool == "edit":
            self._put_shape(shape)
        elif tool == "cut":
            self._cut(shape)
        elif tool == "redraw":
            self._redraw(shape)
        elif tool == "brush" and self.painted is not None:
            self._put_shape(shape)
        else:
            self.add(tool, shape)

    def click(self, tool: str, x: int, y: int) -> None:
        """Take a pixel of the file that was clicked with a tool."""
        if tool == "flood":
            self.add(tool, self._flood(x, y))
        else:
            self._pick(x, y, inside=tool == "pick_inside")

    def add(self, tool: str, shape: Shape) -> None:
        """Add a drawn region to the class in focus, or to a new class where that is not drawn."""
        entry = self._model.entry
        if entry is None:
            return
        if self._model.outline.source != "drawn":
            method = class_edits.added(self._model.state.method, "drawn")
            self._model.change_method(f"Add class {method.class_names[-1]}", method)
            self._model.focus_class(len(method.outlines) - 1)
        one = DrawnRegion(shape=shape, sample=entry.name)
        if self.everywhere:
            one = self._for_all(one)
        if tool not in ("stamp", "flood", "grid"):
            self.stamp = shape
        before = len(self._model.outline.drawn)
        text = "Draw a grid" if isinstance(shape, GridShape) else "Draw a region"
        self._change(text, (*self._model.outline.drawn, one))
        self._model.focus(regions=self._numbers_of(before))
        self.changed.emit()

    def _flood(self, x: int, y: int) -> FloodShape:
        tolerance = self.tolerance
        if tolerance is None:
            facts = self._bench.focused_facts
            known = facts.signal.get(self._bench.outline_channel or "") if facts else None
            tolerance = usual_tolerance(known or Histogram.nothing())
        return FloodShape(x=x, y=y, tolerance=tolerance, connected=self.connected)

    def _numbers_of(self, place: int) -> list[int]:
        """The numbers that a drawn region will have in the sample in focus."""
        sample = self._model.entry.name if self._model.entry is not None else ""
        first = self._model.class_place * CLASS_STRIDE
        return [first + k for k in numbers_of(self._model.outline.drawn, place, sample)]

    def _change(self, text: str, drawn: Iterable[DrawnRegion], merge: int = -1) -> None:
        try:
            self._bench.change_outline(text, merge, drawn=tuple(drawn))
        except MethodError as exc:
            self.refused.emit(str(exc))

    def _put_shape(self, shape: Shape) -> None:
        found = self.selected()
        if found:
            self.change_drawn("Change a drawn region", found[0][0], shape=shape)

    def change_drawn(self, text: str, place: int, merge: int = -1, **fields: Any) -> None:
        """Change shape, name, group or attributes of a drawn region."""
        drawn = list(self._model.outline.drawn)
        try:
            drawn[place] = checked_copy(drawn[place], **fields)
        except MethodError as exc:
            self.refused.emit(str(exc))
            return
        self._change(text, drawn, merge)

    def transform(self, how: str, by: float = 1.0) -> None:
        """Move, grow, shrink or mirror the selected drawn regions."""
        places = {place for place, _ in self.selected()}
        if not places:
            return
        drawn = list(self._model.outline.drawn)
        for place in places:
            shape = drawn[place].shape
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
            drawn[place] = drawn[place].model_copy(update={"shape": changed})
        self._change(f"{how.capitalize()} drawn regions", drawn)

    def duplicate(self) -> None:
        """Add copies of the selected drawn regions, a little aside."""
        places = sorted({place for place, _ in self.selected()})
        drawn = self._model.outline.drawn
        copies = [drawn[k].model_copy(update={"shape": drawn[k].shape.moved(8, 8)}) for k in places]
        if copies:
            self._change("Duplicate drawn regions", (*drawn, *copies))
            self._model.focus(regions=self._numbers_of(len(drawn)))

    def delete_drawn(self) -> None:
        """Remove the selected drawn regions."""
        gone = {place for place, _ in self.selected()}
        if gone:
            drawn = self._model.outline.drawn
            self._change("Remove drawn regions", (d for k, d in enumerate(drawn) if k not in gone))
            self._model.focus(regions=())

    def spread(self) -> None:
        """Make the selected drawn regions those of all samples."""
        places = {place for place, _ in self.selected()}
        drawn = [
            self._for_all(one) if k in places else one
            for k, one in enumerate(self._model.outline.drawn)
        ]
        self._change("Copy regions to all samples", drawn)

    def _for_all(self, region: DrawnRegion) -> DrawnRegion:
        steps = self._model.state.method.steps
        registered = any(use.on and use.step == "geometry.register" for use in steps)
        return for_all_samples(region, self.placement, registered=registered)

    # -- edits of found regions

    def label_of(self, region: int) -> str:
        """Return what a region is called."""
        regions = self._bench.regions_with(region)
        label = regions.label_of(region) if regions is not None else str(number_in_class(region))
        return f"region {label}" if label.isdigit() else label

    def _edits(
        self, kind: Kind, regions: Iterable[int], sample_id: int | None = None, **fields: Any
    ) -> list[HandEdit]:
        """Edits of regions of a sample, by default the one in focus."""
        sample_id = self._model.sample_id if sample_id is None else sample_id
        facts = self._bench.facts.get(sample_id or -1)
        if facts is None or sample_id is None:
            return []
        names = self._model.state.method.class_names
        placement = self._bench.seen.frame_of(sample_id).placement
        return edits_of(kind, facts.regions, regions, names, placement, **fields)

    def _take(self, text: str, edits: Iterable[HandEdit]) -> None:
        """Change regions of the sample in focus."""
        if self._model.sample_id is not None:
            self._model.edit_regions(text, {self._model.sample_id: edits})

    def edit_selected(self, kind: EditKind) -> None:
        """Reject, accept or merge the selected regions; drawn ones are removed when rejected."""
        if self._model.elsewhere and kind != "merge":
            self._edit_everywhere(kind)
            return
        if self.is_drawing and kind == "reject":
            self.delete_drawn()
            return
        chosen = sorted(self._model.regions)
        if kind == "accept" and not chosen and self.left_out is not None:
            self._accept_at(*self.left_out)
            return
        edits = self._edits(kind, chosen)
        if not edits:
            return
        if kind == "merge":
            where = tuple(stencil for edit in edits for stencil in edit.where)
            edits = [HandEdit(kind="merge", region_class=edits[0].region_class, where=where)]
        labels = ", ".join(self.label_of(region) for region in chosen[:5])
        self._take(f"{kind.capitalize()} {labels}", edits)

    def _edit_everywhere(self, kind: Literal["reject", "accept"]) -> None:
        """Reject or accept the regions that are chosen in several samples, as one change."""
        edits = {
            sample_id: self._edits(kind, regions, sample_id)
            for sample_id, regions in self._model.selected_regions().items()
        }
        count = sum(len(own) for own in edits.values())
        if count:
            self._model.edit_regions(f"{kind.capitalize()} {count} regions", edits)
        if kind == "reject":
            self._model.focus(regions=())

    def select_at(self, pixel: tuple[int, int], modifiers: Qt.KeyboardModifier) -> None:
        """Select the region at a pixel; with Ctrl or Shift beside those that are selected."""
        region = self._bench.region_at(*pixel)
        self.point_out(*pixel)
        add = modifiers & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        if not add:
            self._model.focus(regions={region} - {0})
        elif region:
            self._model.focus(regions=self._model.regions ^ {region})

    def point_out(self, x: int, y: int) -> None:
        """Choose the region that was left out at a pixel, if there is one."""
        regions = self._bench.focused_regions
        there = regions is not None and bool(regions.reason_at(x, y))
        self.left_out = (x, y) if there else None
        self.changed.emit()

    def _accept_at(self, x: int, y: int) -> None:
        """Take back in the region that was left out at a pixel."""
        regions, placement = self._bench.focused_regions, self.placement
        region_class, sample_id = self._model.outline.region_class, self._model.sample_id
        if regions is None:
            return

        def work() -> StencilShape | None:
            found = regions.left_out_at(x, y)
            return None if found is None else stencil_in_file(*found, placement)

        def done(stencil: StencilShape | None) -> None:
            if stencil is not None and self._model.sample_id == sample_id:
                edit = HandEdit(kind="accept", region_class=region_class, where=(stencil,))
                self._take("Accept a region", [edit])

        self.left_out = None
        self._bench.jobs.run("accept", work, done)

    def give_class(self, name: str) -> None:
        """Make the selected regions regions of another class."""
        edits = self._edits("reclassify", sorted(self._model.regions), to=name)
        if edits:
            self._take(f"Give class {name}", edits)
            self._model.focus(regions=())

    def _cut(self, shape: Shape) -> None:
        """Cut the regions that the line crosses."""
        regions = self._bench.focused_regions
        if regions is None or not isinstance(shape, LineShape):
            return
        edits = self._edits("cut", crossed_by(regions, shape, self.placement), shape=shape)
        if edits:
            self._take("Cut a region", edits)
        self._model.viewing.choose(tool="point")

    def _redraw(self, shape: Shape) -> None:
        edits = self._edits("redraw", sorted(self._model.regions)[:1], shape=shape)
        if edits:
            self._take("Redraw a region", edits)
        self._model.viewing.choose(tool="point")

    # -- picks for a threshold

    def _pick(self, x: int, y: int, *, inside: bool) -> None:
        """Add a pick; one that is there already goes away."""
        entry = self._model.entry
        if entry is None:
            return
        picks = self._model.outline.picks
        near = [p for p in picks if p.sample == entry.name and abs(p.x - x) + abs(p.y - y) <= 2]
        if near:
            kept = tuple(p for p in picks if p not in near)
            self._bench.change_outline("Remove a pick", picks=kept)
        else:
            pick = OutlinePick(x=x, y=y, inside=inside, sample=entry.name)
            self._bench.change_outline("Pick a pixel", picks=(*picks, pick))
        self._weigh(use=False)

    def clear_picks(self) -> None:
        """Remove all picks."""
        self._bench.change_outline("Clear picks", picks=())
        self.right = None
        self.changed.emit()

    def propose(self) -> None:
        """Set the threshold, or the ranges, that part the picks best."""
        self._weigh(use=True)

    def _weigh(self, *, use: bool) -> None:
        """Find what parts the picks, in a thread; `use` sets the threshold by it."""
        method, place, evaluator = (
            self._model.state.method, self._model.class_place, self._bench.evaluator,
        )  # fmt: skip
        samples = {
            e.name: self._bench.samples[e.id].renamed(e.name)
            for e in self._model.state.samples
            if e.id in self._bench.samples
        }

        def done(found: Proposal | ColourProposal | None) -> None:
            if self._model.class_place != place:
                return
            self.right = found.right if found is not None else None
            if use and found is not None:
                self._take_proposal(found)
            self.changed.emit()

        self._bench.jobs.run(
            "picks",
            lambda: proposed(evaluator, samples, method, place),
            done,
            lambda error: self.refused.emit(str(error)),
        )

    def _take_proposal(self, found: Proposal | ColourProposal) -> None:
        parameters = self._model.outline.threshold.parameters
        if isinstance(found, ColourProposal):
            space = parameters.space if isinstance(parameters, ColourRanges) else "channels"
            self._set_threshold("colour", space=space, ranges=found.ranges)
            return
        facts = self._bench.focused_facts
        known = facts.signal.get(self._bench.outline_channel or "") if facts is not None else None
        span = known.highest - known.lowest if known is not None else 0.0
        self._set_threshold("hand", keep=found.keep, level=rounded(found.level, span))

    def _set_threshold(self, way: str, keep: str = "", **parameters: Any) -> None:
        use = ThresholdUse.model_validate({"way": way, "parameters": parameters})
        keep = keep or self._model.outline.keep
        self._bench.change_outline("Threshold by picks", threshold=use, keep=keep)
