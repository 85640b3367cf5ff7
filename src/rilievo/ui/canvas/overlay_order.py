"""Everything that is drawn over the picture, in its order."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter, QPen

from rilievo.core.image.neighbourhood import covered
from rilievo.ui.canvas.canvas_context import OverlayContext
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.number_positions import NumberPositions
from rilievo.ui.canvas.overlays import (
    paint_grid,
    paint_hint,
    paint_line,
    paint_mark,
    paint_neighbourhood,
    paint_numbers,
    paint_patch,
    paint_picks,
    paint_scale_bar,
    paint_tag,
)
from rilievo.ui.canvas.rulers import THICK, paint_rulers
from rilievo.ui.canvas.shape_painting import paint_outline_picks
from rilievo.ui.canvas.tool_box import ToolBox
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme

_GRID_FROM_ZOOM = 8.0
_MOST_MARKED = 400


class OverlayOrder:
    """Grid, numbers, patches, readings, scale bar, rulers, navigator, focus frame."""

    def __init__(
        self,
        picture: OverlayContext,
        tools: ToolBox,
        session: StudySession,
        compute: Compute,
        theme: Theme,
    ) -> None:
        self._picture, self._tools, self._theme = picture, tools, theme
        self._session, self._compute = session, compute
        self._number_positions = NumberPositions()

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        """Draw all of it, from below to above."""
        sample = self._compute.store.focused
        if geometry.scale >= _GRID_FROM_ZOOM:
            paint_grid(painter, geometry)
        rests = self._compute.drag.level is None
        if self._compute.session.shows_regions and not self._picture.shows_before and rests:
            covered = [
                (box.left(), box.top(), box.width(), box.height()) for box in self._picture.covered
            ]
            positions = self._number_positions.at(geometry, self._compute.regions.focused, covered)
            if self._session.stage == "measure" and self._session.view.marked:
                self._paint_marked(painter, geometry)
            paint_numbers(painter, positions, self._session.focus.regions)
        if self._session.stage == "correct":
            for patch in self._tools.patch.shown():
                paint_patch(painter, geometry, patch, self._theme, self._picture.patch_label)
            self._tools.card.paint(painter, geometry)
        self._paint_readings(painter, geometry)
        self._picture.beside.paint_line(painter, geometry)
        if sample is not None:
            calibration = self._compute.displayed.frame_of(
                self._session.focus.sample_id or 0
            ).calibration
            rulers = self._session.view.rulers
            paint_scale_bar(painter, geometry, calibration, left=THICK if rulers else 0)
            if rulers:
                paint_rulers(
                    painter,
                    geometry,
                    calibration,
                    self._session.view.pixel,
                    self._theme,
                    count_from_one=self._session.view.count_from_one,
                )
        if self._session.view.navigator and self._picture.navigator.is_wanted(geometry):
            self._picture.navigator.paint(
                painter, geometry, self._picture.navigator.box(geometry, self._picture.margin)
            )
        if self._picture.shows_before:
            paint_tag(painter, self._picture.width(), self._theme, "before")
        if self._picture.hasFocus():
            painter.setPen(QPen(self._theme.colour("accent"), 2))
            painter.drawRect(QRectF(self._picture.rect()).adjusted(1, 1, -1, -1))

    def _paint_marked(self, painter: QPainter, geometry: Geometry) -> None:
        """Frame the regions whose numbers bear a mark on the focused channel."""
        table = self._session.measurements.tables.get(self._session.focus.sample_id or -1)
        regions, channel = self._compute.regions.focused, self._session.focus.channel
        if table is None or regions is None:
            return
        flags = table.flags.get(channel or table.channels[0])
        if flags is None:
            return
        ids, boxes = geometry.boxes_of(regions)
        for box in boxes[np.isin(ids, table.ids[flags > 0])][:_MOST_MARKED]:
            paint_mark(painter, box, self._theme)

    def _paint_readings(self, painter: QPainter, geometry: Geometry) -> None:
        """Picks, the line of the profile, and the pixels around the pointer."""
        entry = self._session.focus.entry
        if entry is not None and self._session.stage in ("look", "measure"):
            picks = [p for p in self._session.state.method.picks if p.is_in(entry.name)]
            placement = self._compute.displayed.frame_of(entry.id).placement
            paint_picks(painter, geometry, picks, self._picture.chosen_picks, placement)
        if self._picture.line is not None and self._session.stage in ("look", "correct"):
            paint_line(painter, geometry, self._picture.line, cursor=self._picture.line_cursor)
        under, (height, width) = self._picture.under, geometry.shape
        # The pointer may be where the picture before was larger.
        is_inside = under is not None and 0 <= under[0] < width and 0 <= under[1] < height
        if under is not None and is_inside and self._session.focus.reach > 1:
            part, inside = covered(
                *under,
                self._session.focus.reach,
                self._session.view.form,
                geometry.shape,
            )
            paint_neighbourhood(painter, geometry, part, inside)
        self._paint_drawing(painter, geometry)

    def paint_why_not(self, painter: QPainter) -> None:
        """Say why there is no picture."""
        entry = self._session.focus.entry
        if entry is None:
            return
        if entry.id in self._compute.store.errors:
            title, text = f"{entry.name} cannot be shown", self._compute.store.errors[entry.id]
        else:
            title, text = "Reading …", entry.name
        paint_hint(painter, self._picture.rect(), self._theme, title, text)

    def _paint_drawing(self, painter: QPainter, geometry: Geometry) -> None:
        """Picks for a threshold, handles of the selected shape, and what a tool draws."""
        entry, editor = self._session.focus.entry, self._picture.editor
        if entry is not None and self._session.stage == "outline":
            picks = [p for p in self._session.focus.outline.picks if p.sample == entry.name]
            paint_outline_picks(painter, geometry, picks, editor.drawn.placement)
        tool = self._tools.current
        if editor.drawn.is_drawing and (tool is None or tool is self._tools.edit):
            self._tools.edit.paint(painter, geometry)
        elif tool is not None:
            tool.paint(painter, geometry)
