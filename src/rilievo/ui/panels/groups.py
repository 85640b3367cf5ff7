"""Statistics of the groups as a table."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QIcon, QPainter, QPixmap
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from rilievo.core.compare import Comparison, GroupStatistics
from rilievo.core.report.group_style import group_style
from rilievo.ui.numbers import shown
from rilievo.ui.panels.tiles import draw_dot

_HEADS = (
    "Group",
    "Samples",
    "Regions",
    "Mean",
    "95 % interval",
    "SD of samples",
    "Median",
    "Quartiles",
    "× first group",
)
_WIDTHS = (140, 74, 74, 72, 116, 118, 72, 116, 104)


def group_icon(groups: tuple[str, ...], group: str) -> QIcon:
    """Return the mark of a group as an icon."""
    pixmap = QPixmap(28, 28)
    pixmap.setDevicePixelRatio(2.0)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    style = group_style(groups, group)
    draw_dot(painter, QPointF(7, 7), style.colour, style.marker)
    painter.end()
    return QIcon(pixmap)


def cells(statistics: GroupStatistics, *, first: bool) -> list[str]:
    """Return the texts of a row."""

    def span(ends: tuple[float, float]) -> str:
        return "–" if math.isnan(ends[0]) else f"{shown(ends[0])} – {shown(ends[1])}"

    return [
        statistics.group,
        str(statistics.samples),
        str(statistics.regions),
        shown(statistics.mean),
        span(statistics.interval),
        shown(statistics.sd, 3),
        shown(statistics.median),
        span(statistics.quartiles),
        "" if first else shown(statistics.ratio, 3),
    ]


class GroupsTable(QTableWidget):
    """One row a group."""

    def __init__(self) -> None:
        super().__init__(0, len(_HEADS))
        self.setHorizontalHeaderLabels(_HEADS)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setShowGrid(False)
        self.setAccessibleName("Statistics of the groups")
        vertical, horizontal = self.verticalHeader(), self.horizontalHeader()
        if vertical is not None and horizontal is not None:
            vertical.hide()
            vertical.setDefaultSectionSize(28)
            for column, width in enumerate(_WIDTHS):
                self.setColumnWidth(column, width)
            horizontal.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
            horizontal.setHighlightSections(False)
        for column in range(len(_HEADS)):
            head = self.horizontalHeaderItem(column)
            if head is not None:
                head.setTextAlignment(_side(column))

    def show_comparison(self, comparison: Comparison | None) -> None:
        """Show the statistics, or nothing."""
        statistics = comparison.statistics if comparison else ()
        self.setRowCount(len(statistics))
        for row, one in enumerate(statistics):
            for column, text in enumerate(cells(one, first=row == 0)):
                item = QTableWidgetItem(text)
                item.setTextAlignment(_side(column))
                if column == 0 and comparison is not None:
                    item.setIcon(group_icon(comparison.groups, one.group))
                self.setItem(row, column, item)

    def as_text(self) -> str:
        """Return the table as tab-separated text."""
        lines = ["\t".join(_HEADS)]
        for row in range(self.rowCount()):
            items = [self.item(row, column) for column in range(self.columnCount())]
            lines.append("\t".join(item.text() if item else "" for item in items))
        return "\n".join(lines)


def _side(column: int) -> Qt.AlignmentFlag:
    side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
    return side | Qt.AlignmentFlag.AlignVCenter
