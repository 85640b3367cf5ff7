"""Samples × checks as a heat map: what differs between samples besides the treatment."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPoint, QRect, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QFont,
    QGuiApplication,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PyQt6.QtWidgets import QLabel, QPushButton, QScrollArea, QToolTip, QVBoxLayout, QWidget

from rilievo.core.compare.checks_by_group import BatchTable, batch_table
from rilievo.core.compare.groups import OUTLYING
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font
from rilievo.ui.widgets.card import faint, side_by_side

_ROW, _HEAD, _LEFT = 22, 50, 132
_LEAST_COLUMN = 71
_MOST_SAID = 6
_TOO_FEW = "Two samples at least are compared; add images first."


class HeatMap(QWidget):
    """The cells; a click focuses the sample, arrow keys move."""

    def __init__(self, session: StudySession, theme: Theme) -> None:
        super().__init__()
        self._session, self._theme = session, theme
        self.table = BatchTable((), (), ())
        self.setObjectName("scrolled")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Checks of the batch")
        session.focus.changed.connect(self.update)

    def show_table(self, table: BatchTable) -> None:
        """Show the checks."""
        self.table = table
        wide = _LEFT + _LEAST_COLUMN * len(table.columns)
        self.setMinimumSize(QSize(wide, _HEAD + _ROW * len(table.samples) + 4))
        self.update()

    def _width(self) -> float:
        return (self.width() - _LEFT) / max(len(self.table.columns), 1)

    def cell(self, row: int, column: int) -> QRect:
        """Return the position of a cell."""
        width = self._width()
        left = round(_LEFT + column * width)
        return QRect(left, _HEAD + row * _ROW, round(_LEFT + (column + 1) * width) - left, _ROW)

    def _colour(self, z: float) -> QColor:
        """Water blue for low, sienna for high, the more the farther."""
        colour = self._theme.colour("water" if z < 0 else "accent")
        colour.setAlphaF(min(abs(z) / 8.0, 1.0) * 0.75)
        return colour

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if event is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        faint_ink, ink = self._theme.colour("faint"), self._theme.colour("ink")
        entry = self._session.focus.entry
        metrics = self.fontMetrics()
        for column, one in enumerate(self.table.columns):
            box = self.cell(0, column)
            painter.setPen(faint_ink)
            painter.setFont(text_font(11))
            head = QRect(box.left() + 4, 2, box.width() - 8, _HEAD - 8)
            flags = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom
            painter.drawText(head, int(flags | Qt.TextFlag.TextWordWrap), one.title)
        seen = event.rect()
        first = max((seen.top() - _HEAD) // _ROW, 0)
        last = min((seen.bottom() - _HEAD) // _ROW + 1, len(self.table.samples))
        for row in range(first, last):
            name = self.table.samples[row]
            focused = entry is not None and entry.name == name
            weight = QFont.Weight.DemiBold if focused else QFont.Weight.Normal
            painter.setFont(text_font(12, weight))
            painter.setPen(ink)
            left = QRect(8, _HEAD + row * _ROW, _LEFT - 16, _ROW)
            text = metrics.elidedText(name, Qt.TextElideMode.ElideRight, left.width())
            painter.drawText(left, int(Qt.AlignmentFlag.AlignVCenter), text)
            for column, one in enumerate(self.table.columns):
                box = self.cell(row, column).adjusted(1, 1, -1, -1)
                painter.fillRect(box, self._colour(one.z[row]))
                odd = one.is_odd(row)
                painter.setFont(text_font(12, QFont.Weight.Bold if odd else QFont.Weight.Normal))
                painter.setPen(ink)
                flags = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
                painter.drawText(box.adjusted(2, 0, -6, 0), int(flags), one.texts[row])
                if odd:
                    painter.setPen(QPen(self._theme.colour("check"), 2))
                    painter.drawRect(box)

    def _sample_at(self, at: QPoint) -> str | None:
        row = (at.y() - _HEAD) // _ROW
        return self.table.samples[row] if 0 <= row < len(self.table.samples) else None

    def _focus(self, name: str) -> None:
        entry = self._session.named(name)
        if entry is not None:
            self._session.focus.set(sample_id=entry.id)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        name = self._sample_at(event.pos()) if event is not None else None
        if name is not None:
            self._focus(name)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        entry = self._session.focus.entry
        if step is None or entry is None or entry.name not in self.table.samples:
            super().keyPressEvent(event)
            return
        row = self.table.samples.index(entry.name) + step
        self._focus(self.table.samples[min(max(row, 0), len(self.table.samples) - 1)])

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            text = self.told_at(event.pos())
            if text:
                QToolTip.showText(event.globalPos(), text, self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)

    def told_at(self, at: QPoint) -> str:
        """Return what a cell says in words."""
        name = self._sample_at(at)
        column = int((at.x() - _LEFT) / self._width()) if at.x() >= _LEFT else -1
        if name is None or not 0 <= column < len(self.table.columns):
            return ""
        one = self.table.columns[column]
        row = self.table.samples.index(name)
        apart = f"; stands apart, robust z = {one.z[row]:+.1f}" if one.is_odd(row) else ""
        return f"{name}: {one.title.lower()} {one.texts[row]}{apart}"


class BatchChecks(QWidget):
    """The heat map, and what to make of it."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self.map = HeatMap(session, theme)
        self._about = faint(
            "Colour says how far a sample is from the others: blue below, sienna above. Framed is "
            f"what stands apart (robust z over {OUTLYING:g})."
        )
        self._said = QLabel("")
        self._said.setWordWrap(True)
        self._said.setProperty("role", "check")
        self.copy_button = QPushButton("Copy table")
        self.copy_button.clicked.connect(self._copy)
        area = QScrollArea()
        area.setWidget(self.map)
        area.setWidgetResizable(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 16, 8)
        layout.setSpacing(8)
        layout.addWidget(area, 1)
        layout.addWidget(self._said)
        layout.addWidget(self._about)
        layout.addWidget(side_by_side(self.copy_button, stretch=True))
        for signal in (compute.checks.changed, session.measurements.changed):
            signal.connect(lambda *_: self.refresh())
        session.changed.connect(
            lambda old, new: self.refresh() if old.samples != new.samples else None
        )

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Look at the batch anew, in a thread."""
        if not self.isVisible():
            return
        properties, tables = (
            self._compute.checks.batch_properties(),
            self._session.measurements.ordered_tables(),
        )
        groups = {entry.name: entry.group for entry in self._session.state.samples}
        self._compute.jobs.run(
            "batch checks", lambda: batch_table(properties, tables, groups), self._show
        )

    def _show(self, table: BatchTable) -> None:
        self.map.show_table(table)
        odd = [f"{sample}: {title.lower()} {text}" for sample, title, text in table.odd_ones()]
        more = f"; and {len(odd) - _MOST_SAID} more, framed" if len(odd) > _MOST_SAID else ""
        said = table.sentences()
        if odd:
            said.append(f"Stands apart: {'; '.join(odd[:_MOST_SAID])}{more}.")
        if len(table.samples) < 2:
            said = [_TOO_FEW]
        elif not said:
            said = ["Nothing differs between the samples that is not within their usual scatter."]
        self._said.setText("\n".join(said))

    @property
    def said(self) -> str:
        """What to make of it."""
        return self._said.text()

    def _copy(self) -> None:
        table, clipboard = self.map.table, QGuiApplication.clipboard()
        lines = ["\t".join(["Sample", *(column.title for column in table.columns)])]
        for row, name in enumerate(table.samples):
            lines.append("\t".join([name, *(column.texts[row] for column in table.columns)]))
        if clipboard is not None:
            clipboard.setText("\n".join(lines))
