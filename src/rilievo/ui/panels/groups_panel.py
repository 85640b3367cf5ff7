"""Statistics of the groups, and the tests between them, as tables."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QIcon, QPainter, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QAbstractItemView, QTableWidget, QTableWidgetItem

from rilievo.core.compare import Comparison, GroupStatistics
from rilievo.core.compare.effects import Effect
from rilievo.core.compare.pairwise_tests import PairwiseResult
from rilievo.core.compare.plots.group_style import GroupStyle, group_style
from rilievo.core.compare.wording import test_text
from rilievo.core.wording.numbers import p_number, shown
from rilievo.ui.panels.tiles import draw_dot

_GROUP_HEADS = (
    "Group",
    "n",
    "Regions",
    "Mean",
    "SD",
    "SEM",
    "95 % interval",
    "Median",
    "Quartiles",
    "× reference",
    "p",
    "Effect",
)
_TEST_HEADS = (
    "Compared",
    "n",
    "Difference",
    "95 % interval",
    "Test",
    "p",
    "corrected",
    "Effect",
    "95 % interval",
    "n for 80 % power",
)


def style_icon(style: GroupStyle) -> QIcon:
    """Return the mark of a group as an icon."""
    pixmap = QPixmap(28, 28)
    pixmap.setDevicePixelRatio(2.0)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    draw_dot(painter, QPointF(7, 7), style.colour, style.marker)
    painter.end()
    return QIcon(pixmap)


def group_icon(groups: tuple[str, ...], group: str) -> QIcon:
    """Return the mark of a group of the study as an icon."""
    return style_icon(group_style(groups, group))


def _span(ends: tuple[float, float], digits: int = 4) -> str:
    if math.isnan(ends[0]):
        return "–"
    return f"{shown(ends[0], digits)} – {shown(ends[1], digits)}"


def _effect_span(effect: Effect) -> str:
    """The interval of an effect, with what it is where that is not just 95 %."""
    mark = "≥ 95 %: " if "at least" in effect.interval_is else ""
    mark = "≈ 95 %: " if "approximate" in effect.interval_is else mark
    span = _span(effect.interval, 3)
    return span if span == "–" else mark + span


def group_cells(comparison: Comparison, one: GroupStatistics) -> list[str]:
    """Return the texts of a group's row."""
    first = one.group == comparison.reference
    versus = next(
        (v for v in comparison.versus if v.first == comparison.reference and v.second == one.group),
        None,
    )
    return [
        one.group,
        str(one.samples if comparison.question.unit != "region" else one.regions),
        str(one.regions),
        shown(one.mean),
        shown(one.sd, 3),
        shown(one.sem, 3),
        _span(one.interval),
        shown(one.median),
        _span(one.quartiles),
        "" if first else shown(one.ratio, 3),
        "" if versus is None else p_number(versus.corrected),
        "" if versus is None else f"{versus.effect.symbol} {shown(versus.effect.value, 3)}",
    ]


def test_cells(versus: PairwiseResult) -> list[str]:
    """Return the texts of a test's row."""
    n = str(versus.n[0]) if versus.paired else f"{versus.n[1]}, {versus.n[0]}"
    start = [
        f"{versus.second} − {versus.first}",
        n + (" pairs" if versus.paired else ""),
        shown(versus.difference),
        _span(versus.interval),
    ]
    if versus.why_not:
        return [*start, versus.why_not, "–", "–", "–", "–", "–"]
    return [
        *start,
        test_text(versus.test),
        p_number(versus.test.p),
        p_number(versus.corrected),
        f"{versus.effect.symbol} {shown(versus.effect.value, 3)}",
        _effect_span(versus.effect),
        str(versus.needed or "–"),
    ]


test_cells.__test__ = False  # type: ignore[attr-defined]


class _Table(QTableWidget):
    """Rows of texts under heads; the first column has the room that is left."""

    heads: tuple[str, ...] = ()
    left = frozenset({0})

    def __init__(self, name: str) -> None:
        super().__init__(0, len(self.heads))
        self.setHorizontalHeaderLabels(self.heads)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setShowGrid(False)
        self.setProperty("role", "close")
        self.setAccessibleName(name)
        vertical, horizontal = self.verticalHeader(), self.horizontalHeader()
        if vertical is not None and horizontal is not None:
            vertical.hide()
            vertical.setDefaultSectionSize(28)
            horizontal.setMinimumSectionSize(50)
            horizontal.setStretchLastSection(False)
            horizontal.setHighlightSections(False)
        for column in range(len(self.heads)):
            head = self.horizontalHeaderItem(column)
            if head is not None:
                head.setTextAlignment(self._side(column))

    def _side(self, column: int) -> Qt.AlignmentFlag:
        left = column in self.left
        side = Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight
        return side | Qt.AlignmentFlag.AlignVCenter

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """Columns as wide as what they hold; the first has the room that is left."""
        if self.rowCount():
            self.resizeColumnsToContents()
        viewport = self.viewport()
        others = sum(self.columnWidth(column) for column in range(1, len(self.heads)))
        if viewport is not None:
            self.setColumnWidth(0, max(self.columnWidth(0), viewport.width() - others))

    def show_rows(self, rows: Sequence[tuple[list[str], QIcon | None]]) -> None:
        """Show rows; a row of one text is a heading over the following ones."""
        self.clearSpans()
        self.setRowCount(len(rows))
        for row, (texts, icon) in enumerate(rows):
            if len(texts) == 1:
                self.setSpan(row, 0, 1, len(self.heads))
            for column in range(len(self.heads)):
                item = QTableWidgetItem(texts[column] if column < len(texts) else "")
                item.setToolTip(item.text())
                item.setTextAlignment(self._side(column))
                if column == 0 and icon is not None:
                    item.setIcon(icon)
                if len(texts) == 1:
                    font = item.font()
                    font.setBold(True)
                    item.setFont(font)
                self.setItem(row, column, item)
        self._fit()

    def as_text(self) -> str:
        """Return the table as tab-separated text."""
        heads = [self.horizontalHeaderItem(column) for column in range(self.columnCount())]
        lines = ["\t".join(head.text() if head else "" for head in heads)]
        for row in range(self.rowCount()):
            items = [self.item(row, column) for column in range(self.columnCount())]
            lines.append("\t".join(item.text() if item else "" for item in items).rstrip("\t"))
        return "\n".join(lines)


class GroupsTable(_Table):
    """One row a group, beside the group that is compared against."""

    heads = _GROUP_HEADS

    def __init__(self) -> None:
        super().__init__("Statistics of the groups")

    def show_comparisons(self, comparisons: Sequence[Comparison]) -> None:
        """Show the statistics, or nothing."""
        rows: list[tuple[list[str], QIcon | None]] = []
        for comparison in comparisons:
            if len(comparisons) > 1:
                rows.append(([comparison.label], None))
            for one in comparison.statistics:
                by_group = comparison.question.by == "group"
                known = comparison.colours if by_group else comparison.groups
                icon = None if comparison.axis else group_icon(known, one.group)
                rows.append((group_cells(comparison, one), icon))
        self.show_rows(rows)
        head = self.horizontalHeaderItem(9)
        if head is not None and comparisons:
            head.setText(f"× {comparisons[0].reference}"[:14])
            head.setToolTip(f"Mean over the mean of {comparisons[0].reference}")


class TestsTable(_Table):
    """One row a test."""

    __test__ = False  # not one of pytest's

    heads = _TEST_HEADS
    left = frozenset({0, 4})

    def __init__(self) -> None:
        super().__init__("Tests between the groups")

    def show_comparisons(self, comparisons: Sequence[Comparison]) -> None:
        """Show the tests, or nothing."""
        rows: list[tuple[list[str], QIcon | None]] = []
        for comparison in comparisons:
            if len(comparisons) > 1:
                rows.append(([comparison.label], None))
            whole = comparison.overall
            if whole is not None and math.isfinite(whole.test.p):
                n = str(sum(s.samples for s in comparison.statistics))
                rows.append(
                    (
                        [
                            f"All {len(comparison.statistics)} groups", n, "", "",
                            test_text(whole.test), p_number(whole.test.p), "",
                            f"{whole.effect.symbol} {shown(whole.effect.value, 3)}",
                            _effect_span(whole.effect), str(whole.needed or "–"),
                        ],
                        None,
                    )
                )  # fmt: skip
            rows += [(test_cells(one), None) for one in comparison.versus]
        self.show_rows(rows)
