"""Summaries per sample, class and channel, as the exported table of samples has them."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QAbstractItemView, QTableWidget, QTableWidgetItem

from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.summaries import SUMMARY_TITLES, sample_frame
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.session.study_session import StudySession


class SummaryPanel(QTableWidget):
    """A row a sample, class and channel."""

    def __init__(self, session: StudySession, jobs: Jobs) -> None:
        super().__init__()
        self._session, self._jobs = session, jobs
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setAccessibleName("Summary of the samples")
        vertical = self.verticalHeader()
        if vertical is not None:
            vertical.hide()
            vertical.setDefaultSectionSize(24)
        self.setToolTip("Double click to choose the regions that a row sums up")
        self.itemSelectionChanged.connect(self._on_row)
        self.itemDoubleClicked.connect(lambda item: self.choose_regions(item.row()))
        session.measurements.changed.connect(self.refresh)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show the present measurements."""
        if not self.isVisible():
            return
        tables = self._session.measurements.ordered_tables()

        def work() -> ResultFrame:
            frame = sample_frame(tables)
            return frame.chosen([name for name in frame.names if name != "file"]).without_empty()

        self._jobs.run("summary", work, self._show)

    def _show(self, frame: ResultFrame) -> None:
        units = {
            unit
            for table in self._session.measurements.tables.values()
            for unit in table.units.values()
        }
        signal = " or ".join(sorted(units)) or "counts"
        self.setColumnCount(len(frame.names))
        titles = [SUMMARY_TITLES.get(name, name).format(signal=signal) for name in frame.names]
        self.setHorizontalHeaderLabels(titles)
        self.setRowCount(len(frame))
        for row, values in enumerate(frame.rows()):
            for column, value in enumerate(values):
                text = value if isinstance(value, str) else shown(float(value), 5)
                item = QTableWidgetItem(text)
                if not isinstance(value, str):
                    item.setTextAlignment(
                        int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                    )
                self.setItem(row, column, item)
        self.resizeColumnsToContents()

    def choose_regions(self, row: int) -> None:
        """Choose the regions of the sample and class that a row sums up."""
        sample, region_class = (self._text(row, title) for title in ("Sample", "Class"))
        entry = self._session.named(sample)
        table = self._session.measurements.tables.get(entry.id) if entry is not None else None
        if entry is not None and table is not None and region_class in table.classes:
            own = table.of_class(table.classes.index(region_class))
            self._session.focus.set(sample_id=entry.id, regions=table.ids[own].tolist())

    def _text(self, row: int, title: str) -> str:
        for column in range(self.columnCount()):
            head, item = self.horizontalHeaderItem(column), self.item(row, column)
            if head is not None and head.text() == title and item is not None:
                return item.text()
        return ""

    def _on_row(self) -> None:
        rows = {index.row() for index in self.selectedIndexes()}
        item = self.item(next(iter(rows)), 0) if len(rows) == 1 else None
        entry = self._session.named(item.text()) if item is not None else None
        if entry is not None:
            self._session.focus.set(sample_id=entry.id)
