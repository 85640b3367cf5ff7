"""Regions drawn and changed by hand: what the tools on the picture and the cards ask for."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

import numpy as np
from PyQt6.QtCore import QObject, Qt, pyqtSignal

from rilievo.core import region_classes
from rilievo.core.by_pick import level_between, ranges_around
from rilievo.core.errors import MethodError
from rilievo.core.image import UNMOVED, Placement, placed, unplaced
from rilievo.core.method import checked_copy
from rilievo.core.outline import OutlinePick, ThresholdUse
from rilievo.core.regions.drawn import DrawnRegion
from rilievo.core.regions.edits import HandEdit, Kind
from rilievo.core.regions.find import CLASS_STRIDE, class_place, number_in_class
from rilievo.core.regions.shapes import (
    FloodShape,
    GridShape,
    LineShape,
    Point,
    RingShape,
    Shape,
    StencilShape,
)
from rilievo.core.thresholds.colour import ColourRanges, hue_saturation_value
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import rounded
from rilievo.ui.workbench import Workbench

EditKind = Literal["reject", "accept", "merge"]
_WORDS = {"reject": "Reject", "accept": "Accept", "merge": "Merge"}


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
        elif tool in ("pick_inside", "pick_outside"):
            if isinstance(shape, RingShape):
                self._pick(round(shape.x), round(shape.y), inside=tool == "pick_inside")
        elif tool == "brush" and self.painted is not None:
            self._put_shape(shape)
        else:
            self.add(tool, shape)

    def add(self, tool: str, shape: Shape) -> None:
        """Add a drawn region to the class in focus, or to a new class where that is not drawn."""
        entry = self._model.entry
        if entry is None:
            return
        if self._model.outline.source != "drawn":
            method = region_classes.added(self._model.state.method, "drawn")
            self._model.change_method(f"Add class {method.class_names[-1]}", method)
            self._model.focus_class(len(method.outlines) - 1)
        if tool == "flood":
            shape = self._flood(shape)
        one = DrawnRegion(shape=shape, sample=entry.name)
        if self.everywhere:
            one = self._spread(one, None)
        if tool not in ("stamp", "flood", "grid"):
            self.stamp = shape
        before = len(self._model.outline.drawn)
        text = "Draw a grid" if isinstance(shape, GridShape) else "Draw a region"
        self._change(text, (*self._model.outline.drawn, one))
        self._model.focus(regions=self._numbers_of(before))
        self.changed.emit()

    def _flood(self, shape: Shape) -> Shape:
        x, y = (round(v) for v in shape.centre)
        tolerance = self.tolerance
        if tolerance is None:
            facts = self._bench.focused_facts
            known = facts.signal.get(self._bench.outline_channel or "") if facts else None
            span = known.quantile(0.99) - known.quantile(0.01) if known is not None else 0.0
            tolerance = float(f"{span / 20:.2g}")
        return FloodShape(x=x, y=y, tolerance=tolerance, connected=self.connected)

    def _numbers_of(self, place: int) -> list[int]:
        """The numbers that a drawn region will have in the sample in focus."""
        entry, shift = self._model.entry, self._model.class_place * CLASS_STRIDE
        number, found = shift, []
        for k, region in enumerate(self._model.outline.drawn):
            if entry is None or not region.is_in(entry.name):
                continue
            cells = len(region.shape.cells()) if isinstance(region.shape, GridShape) else 1
            if k == place:
                found = list(range(number + 1, number + cells + 1))
            number += cells
        return found

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

    def spread(self, sample: str | None) -> None:
        """Make the selected drawn regions those of one sample, or of all."""
        places = {place for place, _ in self.selected()}
        drawn = [
            self._spread(one, sample) if k in places else one
            for k, one in enumerate(self._model.outline.drawn)
        ]
        self._change(
            "Copy regions to all samples" if sample is None else "Keep regions here", drawn
        )

    def _spread(self, region: DrawnRegion, sample: str | None) -> DrawnRegion:
        """A region for all samples; where pictures are registered, at one place of all of them."""
        steps = self._model.state.method.steps
        registered = any(use.on and use.step == "geometry.register" for use in steps)
        if sample is not None or not registered or region.frame == "picture":
            return region.model_copy(update={"sample": sample})
        x, y = self.from_file(0.0, 0.0)
        moved = region.shape.moved(x, y)
        return region.model_copy(update={"sample": None, "frame": "picture", "shape": moved})

    # -- edits of found regions

    def label_of(self, region: int) -> str:
        """Return what a region is called."""
        regions = self._bench.regions_with(region)
        name = regions.facts(region).name if regions is not None else ""
        return name or f"region {number_in_class(region)}"

    def _stencil(self, region: int) -> StencilShape | None:
        """The pixels of a region as positions of the file; as they lie, if pixels were turned."""
        regions = self._bench.regions_with(region)
        if regions is None or regions.place_of(region) is None:
            return None
        mask, x, y = regions.mask_of(region)
        a, b, c, d, e, f = self.placement
        if (a, b, d, e) == (1.0, 0.0, 0.0, 1.0):
            return StencilShape.of(mask, round(x - c), round(y - f))
        rows, columns = np.nonzero(mask)
        places = [
            self.to_file(float(u + x), float(v + y)) for v, u in zip(rows, columns, strict=True)
        ]
        whole = np.rint(places).astype(np.int64)
        low = whole.min(axis=0)
        there = np.zeros(tuple((whole.max(axis=0) - low + 1)[::-1]), np.bool_)
        there[whole[:, 1] - low[1], whole[:, 0] - low[0]] = True
        return StencilShape.of(there, int(low[0]), int(low[1]))

    def _edits(self, kind: Kind, regions: Iterable[int], **fields: Any) -> list[HandEdit]:
        names = self._model.state.method.class_names
        edits = []
        for region in regions:
            stencil = self._stencil(region)
            if stencil is not None:
                edits.append(
                    HandEdit(
                        kind=kind,
                        region_class=names[class_place(region)],
                        where=(stencil,),
                        **fields,
                    )
                )
        return edits

    def edit_selected(self, kind: EditKind) -> None:
        """Reject, accept or merge the selected regions; drawn ones are removed when rejected."""
        if self.is_drawing and kind == "reject":
            self.delete_drawn()
            return
        chosen = sorted(self._model.regions)
        if kind == "accept" and not chosen and self.left_out is not None:
            self.accept_at(*self.left_out)
            return
        edits = self._edits(kind, chosen)
        if not edits:
            return
        if kind == "merge":
            where = tuple(stencil for edit in edits for stencil in edit.where)
            edits = [HandEdit(kind="merge", region_class=edits[0].region_class, where=where)]
        labels = ", ".join(self.label_of(region) for region in chosen[:5])
        self._model.edit_regions(f"{_WORDS[kind]} {labels}", edits)
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

    def accept_at(self, x: int, y: int) -> None:
        """Take back in the region that was left out at a pixel."""
        regions = self._bench.focused_regions
        if regions is None or not regions.reason_at(x, y):
            return
        label = int(regions.labels[y, x])
        rows, columns = np.nonzero(regions.labels == label)
        left, top = int(columns.min()), int(rows.min())
        mask = np.zeros((int(rows.max()) - top + 1, int(columns.max()) - left + 1), np.bool_)
        mask[rows - top, columns - left] = True
        at = self.to_file(left, top)
        edit = HandEdit(
            kind="accept",
            region_class=self._model.outline.region_class,
            where=(StencilShape.of(mask, round(at[0]), round(at[1])),),
        )
        self.left_out = None
        self._model.edit_regions("Accept a region", [edit])

    def give_class(self, name: str) -> None:
        """Make the selected regions regions of another class."""
        edits = self._edits("reclassify", sorted(self._model.regions), to=name)
        if edits:
            self._model.edit_regions(f"Give class {name}", edits)
            self._model.focus(regions=())

    def _cut(self, shape: Shape) -> None:
        """Cut the regions that the line crosses."""
        regions = self._bench.focused_regions
        if regions is None or not isinstance(shape, LineShape):
            return
        steps = np.linspace(0, 1, max(2, round(4 * max(shape.as_rectangle().width, 1))))
        crossed = set[int]()
        for t in steps:
            x, y = self.from_file(
                shape.x0 + t * (shape.x1 - shape.x0), shape.y0 + t * (shape.y1 - shape.y0)
            )
            crossed.add(regions.at(round(x), round(y)))
        edits = self._edits("cut", sorted(crossed - {0}), shape=shape)
        if edits:
            self._model.edit_regions("Cut a region", edits)
        self._model.viewing.choose(tool="point")

    def _redraw(self, shape: Shape) -> None:
        edits = self._edits("redraw", sorted(self._model.regions)[:1], shape=shape)
        if edits:
            self._model.edit_regions("Redraw a region", edits)
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
        """Find what parts the picks, in a thread."""
        method, place = self._model.state.method, self._model.class_place
        outline, evaluator = self._model.outline, self._bench.evaluator
        names = {e.name: e.id for e in self._model.state.samples if e.id in self._bench.samples}
        picks = [pick for pick in outline.picks if pick.sample in names]
        parameters = outline.threshold.parameters
        colour = parameters if isinstance(parameters, ColourRanges) else None
        on = self._bench.outline_channel or ""

        def values(inside: bool) -> dict[str, np.ndarray]:
            found: dict[str, list[float]] = {}
            for pick in picks:
                if pick.inside != inside:
                    continue
                sample = self._bench.samples[names[pick.sample]].renamed(pick.sample)
                read: dict[str, float] = {}
                for name in sample.channel_names if colour is not None else (on,):
                    plane = evaluator.signal(sample, name, method)
                    x, y = (round(v) for v in placed(plane.placement, pick.x, pick.y))
                    if 0 <= x < plane.shape[1] and 0 <= y < plane.shape[0]:
                        read[name] = float(plane.pixels[y, x])
                if colour is not None and colour.space == "hsv":
                    three = [np.array([read.get(k, np.nan)]) for k in ("red", "green", "blue")]
                    hsv = hue_saturation_value(*three)
                    read = dict(
                        zip(("hue", "saturation", "value"), (float(v[0]) for v in hsv), strict=True)
                    )
                for name, value in read.items():
                    found.setdefault(name, []).append(value)
            return {name: np.array(v) for name, v in found.items()}

        def work() -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
            return values(True), values(False)

        def done(found: tuple[dict[str, np.ndarray], dict[str, np.ndarray]]) -> None:
            if self._model.class_place == place:
                self._propose(found, colour, on, use)

        self._bench.jobs.run("picks", work, done, lambda error: self.refused.emit(str(error)))

    def _propose(
        self,
        found: tuple[dict[str, np.ndarray], dict[str, np.ndarray]],
        colour: ColourRanges | None,
        on: str,
        use: bool,
    ) -> None:
        inside, outside = found
        if colour is not None:
            ranges = ranges_around(inside, outside)
            self.right = ranges.right if ranges is not None else None
            if use and ranges is not None:
                self._set_threshold("colour", space=colour.space, ranges=ranges.ranges)
        else:
            none = np.zeros(0)
            level = level_between(inside.get(on, none), outside.get(on, none))
            self.right = level.right if level is not None else None
            if use and level is not None:
                histogram = self._bench.focused_facts
                known = histogram.signal.get(on) if histogram is not None else None
                span = known.highest - known.lowest if known is not None else 0.0
                self._set_threshold("hand", keep=level.keep, level=rounded(level.level, span))
        self.changed.emit()

    def _set_threshold(self, way: str, keep: str = "", **parameters: Any) -> None:
        use = ThresholdUse.model_validate({"way": way, "parameters": parameters})
        keep = keep or self._model.outline.keep
        self._bench.change_outline("Threshold by picks", threshold=use, keep=keep)
