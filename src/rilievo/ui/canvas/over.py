"""Everything that is drawn over the picture, in its order."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter, QPen

from rilievo.core.image.neighbourhood import covered
from rilievo.ui.canvas.geometry import Geometry
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
from rilievo.ui.canvas.places import NumberPlaces
from rilievo.ui.canvas.rulers import THICK, paint_rulers
from rilievo.ui.canvas.shape_painting import paint_outline_picks
from rilievo.ui.model import StudyModel
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench

if TYPE_CHECKING:
    from rilievo.ui.canvas.picture import Picture

_GRID_FROM_ZOOM = 8.0
_MOST_MARKED = 400


class OverPicture:
    """Grid, numbers, patches, readings, scale bar, rulers, navigator, focus frame."""

    def __init__(self, picture: Picture, model: StudyModel, bench: Workbench, theme: Theme) -> None:
        self._picture, self._model, self._bench, self._theme = picture, model, bench, theme
        self._number_places = NumberPlaces()

    def paint(self, painter: QPainter, geometry: Geometry) -> None:
        """Draw all of it, from below to above."""
        sample = self._bench.focused_sample
        if geometry.scale >= _GRID_FROM_ZOOM:
            paint_grid(painter, geometry)
        rests = self._bench.drag.level is None
        if self._bench.outlines_shown() and not self._picture.shows_before and rests:
            places = self._number_places.at(geometry, self._bench.focused_regions)
            if self._model.stage == "measure" and self._model.viewing.marked:
                self._paint_marked(painter, geometry)
            paint_numbers(painter, places, self._model.regions)
        if self._model.stage == "correct":
            for patch in self._picture.patch_tool.shown():
                paint_patch(painter, geometry, patch, self._theme, self._picture.patch_label)
        self._paint_readings(painter, geometry)
        self._picture.beside.paint_line(painter, geometry)
        if sample is not None:
            calibration = self._bench.seen.frame_of(self._model.sample_id or 0).calibration
            rulers = self._model.viewing.rulers
            paint_scale_bar(painter, geometry, calibration, left=THICK if rulers else 0)
            if rulers:
                paint_rulers(
                    painter,
                    geometry,
                    calibration,
                    self._model.viewing.pixel,
                    fits_places=self._model.viewing.fits_places,
                )
        if self._model.viewing.navigator and self._picture.navigator.is_wanted(geometry):
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
        table = self._model.tables.get(self._model.sample_id or -1)
        regions, channel = self._bench.focused_regions, self._model.channel
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
        entry = self._model.entry
        if entry is not None and self._model.stage in ("look", "measure"):
            picks = [p for p in self._model.state.method.picks if p.is_in(entry.name)]
            placement = self._bench.seen.frame_of(entry.id).placement
            paint_picks(painter, geometry, picks, self._picture.chosen_picks, placement)
        if self._picture.line is not None and self._model.stage in ("look", "correct"):
            paint_line(painter, geometry, self._picture.line, cursor=self._picture.line_cursor)
        if self._picture.under is not None and self._model.reach > 1:
            part, inside = covered(
                *self._picture.under, self._model.reach, self._model.viewing.form, geometry.shape
            )
            paint_neighbourhood(painter, geometry, part, inside)
        self._paint_drawing(painter, geometry)

    def paint_why_not(self, painter: QPainter) -> None:
        """Say why there is no picture."""
        entry = self._model.entry
        if entry is None:
            return
        if entry.id in self._bench.errors:
            title, text = f"{entry.name} cannot be shown", self._bench.errors[entry.id]
        else:
            title, text = "Reading …", entry.path.name
        paint_hint(painter, self._picture.rect(), self._theme, title, text)

    def _paint_drawing(self, painter: QPainter, geometry: Geometry) -> None:
        """Picks for a threshold, handles of the selected shape, and what a tool draws."""
        entry, outlining = self._model.entry, self._picture.outlining
        if entry is not None and self._model.stage == "outline":
            picks = [p for p in self._model.outline.picks if p.sample == entry.name]
            paint_outline_picks(painter, geometry, picks, outlining.placement)
        tool = self._picture.tool
        if outlining.is_drawing and (tool is None or tool is self._picture.edit_tool):
            self._picture.edit_tool.paint(painter, geometry)
        elif tool is not None:
            tool.paint(painter, geometry)
