"""What would change the answer: the difference of two groups under each choice, as a strip."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QModelIndex, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QPainter, QPen
from PyQt6.QtWidgets import (
    QComboBox,
    QHeaderView,
    QLabel,
    QPushButton,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.report.sensitivity import AlternativeResult, alternatives_frame, sentences
from rilievo.core.wording.numbers import p_number, shown
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import faint, side_by_side
from rilievo.ui.widgets.choice_boxes import fill

_HEADS = ("Choice", "Difference and 95 % interval", "Difference", "p", "")
_STRIP, _MARGIN = 1, 10
_ABOUT = (
    "Measures all samples again under the choices one could ask about: the threshold ± 10 %, each "
    "automatic way, other backgrounds, with rejected regions, split strength, limits, the test."
)


class ChoicesView(QWidget):
    """A row a choice, sorted by the difference."""

    wanted = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._results: Sequence[AlternativeResult] = ()
        self.run = QPushButton("Try the choices")
        self.run.setToolTip("Measures every sample once for each choice; it can be stopped")
        self.run.clicked.connect(self.wanted)
        self.pair = QComboBox()
        self.pair.setAccessibleName("Groups")
        self.pair.activated.connect(lambda _: self._fill())
        self.copy = QPushButton("Copy table")
        self.copy.clicked.connect(self._copy)
        self.table = QTableWidget(0, len(_HEADS))
        self.table.setAccessibleName("The difference under each choice")
        self.table.setHorizontalHeaderLabels(_HEADS)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        self._strip = _Strip(theme, self.table)
        self.table.setItemDelegateForColumn(_STRIP, self._strip)
        vertical, head = self.table.verticalHeader(), self.table.horizontalHeader()
        if vertical is not None:
            vertical.hide()
            vertical.setDefaultSectionSize(scaled(24))
        if head is not None:
            head.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            head.setSectionResizeMode(_STRIP, QHeaderView.ResizeMode.Stretch)
            head.setMinimumSectionSize(scaled(40))
        self.said = QLabel(_ABOUT)
        self.said.setWordWrap(True)
        self.said.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.stale = faint("")
        self.stale.setProperty("role", "check")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 16, 8)
        layout.setSpacing(8)
        layout.addWidget(side_by_side(self.run, self.pair, self.copy, stretch=True))
        layout.addWidget(self.said)
        layout.addWidget(self.stale)
        layout.addWidget(self.table, 1)
        self.show_results(())

    @property
    def results(self) -> Sequence[AlternativeResult]:
        """What is shown."""
        return self._results

    def show_results(self, results: Sequence[AlternativeResult]) -> None:
        """Show what follows from each choice."""
        self._results = results
        pairs = list(dict.fromkeys((one.first, one.second) for one in results))
        texts = [f"{second} − {first}" for first, second in pairs]
        fill(self.pair, ((text, text) for text in texts), self.pair.currentText())
        self.pair.setVisible(len(pairs) > 1)
        self.copy.setVisible(bool(results))
        self.table.setVisible(bool(results))
        self.note_stale("")
        self._fill()

    def note_stale(self, why: str) -> None:
        """Say that the results are not of what is there now; "" where they are."""
        self.stale.setText(why)
        self.stale.setVisible(bool(why))

    def say(self, text: str) -> None:
        """Say why there are no results."""
        self.said.setText(text)

    def _fill(self) -> None:
        pairs = list(dict.fromkeys((one.first, one.second) for one in self._results))
        if not pairs:
            self.table.setRowCount(0)
            self.said.setText(_ABOUT)
            return
        pair = pairs[max(self.pair.currentIndex(), 0)]
        own = [one for one in self._results if (one.first, one.second) == pair]
        self.said.setText("\n".join(sentences(own)))
        self._strip.show(own)
        ordered = sorted(own, key=lambda one: (math.isnan(one.difference), one.difference))
        self.table.setRowCount(len(ordered))
        for row, one in enumerate(ordered):
            for column, text in enumerate(_texts(one)):
                item = QTableWidgetItem(text)
                item.setData(Qt.ItemDataRole.UserRole, one)
                if one.kind == "as it is":
                    font = item.font()
                    font.setBold(True)
                    item.setFont(font)
                if one.why_not:
                    item.setToolTip(one.why_not)
                self.table.setItem(row, column, item)

    def _copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(alternatives_frame(self._results).csv_text(separator="\t"))


def _texts(one: AlternativeResult) -> list[str]:
    if one.versus is None:
        return [one.title, "", "–", "–", "not to be compared"]
    low, high = one.versus.interval
    ends = f"{shown(low)} to {shown(high)}" if math.isfinite(low) else ""
    flipped = "another conclusion" if one.flips else ""
    return [one.title, ends, shown(one.difference), p_number(one.versus.corrected), flipped]


class _Strip(QStyledItemDelegate):
    """Paints a difference with its interval on an axis that all rows share."""

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self._theme = theme
        self._low, self._high, self._base = 0.0, 1.0, 0.0

    def show(self, results: Sequence[AlternativeResult]) -> None:
        """Take the axis of these results; 0 is on it."""
        known = [one.versus for one in results if one.versus is not None]
        ends = [end for one in known for end in (*one.interval, one.difference)]
        finite = [end for end in ends if math.isfinite(end)] + [0.0]
        self._low, self._high = min(finite), max(finite)
        self._base = results[0].difference if results else 0.0

    def paint(
        self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex
    ) -> None:
        one = index.data(Qt.ItemDataRole.UserRole)
        if painter is None or not isinstance(one, AlternativeResult) or one.versus is None:
            return
        box = QRectF(option.rect)
        span = (self._high - self._low) or 1.0

        def x(value: float) -> float:
            width = box.width() - 2 * _MARGIN
            return box.left() + _MARGIN + width * (value - self._low) / span

        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._theme.colour("hairline"), 1.2))
        painter.drawLine(QPointF(x(0), box.top()), QPointF(x(0), box.bottom()))
        if math.isfinite(self._base):
            painter.setPen(QPen(self._theme.colour("faint"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(
                QPointF(x(self._base), box.top()), QPointF(x(self._base), box.bottom())
            )
        colour = self._theme.colour("accent" if one.flips else "ink")
        middle = box.center().y()
        low, high = one.versus.interval
        painter.setPen(QPen(colour, 1.6))
        if math.isfinite(low):
            painter.drawLine(QPointF(x(low), middle), QPointF(x(high), middle))
        painter.setBrush(colour)
        painter.setPen(Qt.PenStyle.NoPen)
        size = 4.5 if one.kind == "as it is" else 3.5
        at = QPointF(x(one.difference), middle)
        if one.flips:
            # Not by colour alone.
            painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size))
        else:
            painter.drawEllipse(at, size, size)
        painter.restore()
