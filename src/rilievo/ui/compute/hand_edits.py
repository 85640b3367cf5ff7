"""Single regions accepted, rejected, merged, cut, redrawn, given another class by hand."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

from PyQt6.QtCore import QObject, Qt, pyqtSignal

from rilievo.core.regions.manual_edits import HandEdit, Kind, crossed_by, edits_of, stencil_in_file
from rilievo.core.regions.pixel_shapes import StencilShape
from rilievo.core.regions.region_set import number_in_class
from rilievo.core.regions.shape import Shape
from rilievo.core.regions.shapes import LineShape
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.drawn_regions import DrawnRegions
from rilievo.ui.session.sample_edits import edit_regions
from rilievo.ui.session.study_session import StudySession

EditKind = Literal["reject", "accept", "merge"]


class HandEdits(QObject):
    """Works on the selected regions. left_out : a pixel of the left-out region clicked last."""

    changed = pyqtSignal()

    def __init__(
        self,
        session: StudySession,
        compute: Compute,
        drawn: DrawnRegions,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._compute, self._drawn = session, compute, drawn
        self.left_out: tuple[int, int] | None = None

    def label_of(self, region: int) -> str:
        """Return what a region is called."""
        regions = self._compute.regions.containing(region)
        label = regions.label_of(region) if regions is not None else str(number_in_class(region))
        return f"region {label}" if label.isdigit() else label

    def _edits(
        self, kind: Kind, regions: Iterable[int], sample_id: int | None = None, **fields: Any
    ) -> list[HandEdit]:
        """Edits of regions of a sample, by default the one in focus."""
        sample_id = self._session.focus.sample_id if sample_id is None else sample_id
        facts = self._compute.queue.summaries.get(sample_id or -1)
        if facts is None or sample_id is None:
            return []
        names = self._session.state.method.class_names
        placement = self._compute.displayed.frame_of(sample_id).placement
        return edits_of(kind, facts.regions, regions, names, placement, **fields)

    def _take(self, text: str, edits: Iterable[HandEdit]) -> None:
        """Change regions of the sample in focus."""
        if self._session.focus.sample_id is not None:
            edit_regions(self._session, text, {self._session.focus.sample_id: edits})

    def edit_selected(self, kind: EditKind) -> None:
        """Reject, accept or merge the selected regions; drawn ones are removed when rejected."""
        if self._session.focus.elsewhere and kind != "merge":
            self._edit_everywhere(kind)
            return
        if self._drawn.is_drawing and kind == "reject":
            self._drawn.delete_selected()
            return
        chosen = sorted(self._session.focus.regions)
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
            for sample_id, regions in self._session.focus.selected_regions().items()
        }
        count = sum(len(own) for own in edits.values())
        if count:
            edit_regions(self._session, f"{kind.capitalize()} {count} regions", edits)
        if kind == "reject":
            self._session.focus.set(regions=())

    def select_at(self, pixel: tuple[int, int], modifiers: Qt.KeyboardModifier) -> None:
        """Select the region at a pixel; with Ctrl or Shift beside those that are selected."""
        region = self._compute.regions.at(*pixel)
        self.point_out(*pixel)
        add = modifiers & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        if not add:
            self._session.focus.set(regions={region} - {0})
        elif region:
            self._session.focus.set(regions=self._session.focus.regions ^ {region})

    def point_out(self, x: int, y: int) -> None:
        """Choose the region that was left out at a pixel, if there is one."""
        regions = self._compute.regions.focused
        there = regions is not None and bool(regions.reason_at(x, y))
        self.left_out = (x, y) if there else None
        self.changed.emit()

    def _accept_at(self, x: int, y: int) -> None:
        """Take back in the region that was left out at a pixel."""
        regions, placement = self._compute.regions.focused, self._drawn.placement
        region_class, sample_id = (
            self._session.focus.outline.region_class,
            self._session.focus.sample_id,
        )
        if regions is None:
            return

        def work() -> StencilShape | None:
            found = regions.left_out_at(x, y)
            return None if found is None else stencil_in_file(*found, placement)

        def done(stencil: StencilShape | None) -> None:
            if stencil is not None and self._session.focus.sample_id == sample_id:
                edit = HandEdit(kind="accept", region_class=region_class, where=(stencil,))
                self._take("Accept a region", [edit])

        self.left_out = None
        # One beside another, so that none is lost when the next is clicked soon.
        self._compute.jobs.run(f"accept {x} {y}", work, done)

    def give_class(self, name: str) -> None:
        """Make the selected regions regions of another class."""
        edits = self._edits("reclassify", sorted(self._session.focus.regions), to=name)
        if edits:
            self._take(f"Give class {name}", edits)
            self._session.focus.set(regions=())

    def cut(self, shape: Shape) -> None:
        """Cut the regions that the line crosses."""
        regions = self._compute.regions.focused
        if regions is None or not isinstance(shape, LineShape):
            return
        edits = self._edits("cut", crossed_by(regions, shape, self._drawn.placement), shape=shape)
        if edits:
            self._take("Cut a region", edits)
        self._session.view.choose(tool="point")

    def redraw(self, shape: Shape) -> None:
        """Give the selected region another outline."""
        edits = self._edits("redraw", sorted(self._session.focus.regions)[:1], shape=shape)
        if edits:
            self._take("Redraw a region", edits)
        self._session.view.choose(tool="point")
