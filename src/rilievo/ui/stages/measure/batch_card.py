"""Where samples are measured, how far it is, and those that could not be."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QLineEdit, QListWidget, QListWidgetItem, QPushButton

from rilievo.core.wording.numbers import duration
from rilievo.ui.compute.batch_runner import BatchRunner, most_jobs
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.widgets.card import Card, faint, side_by_side

_ID = Qt.ItemDataRole.UserRole


class BatchCard(Card):
    """Processes or cluster, progress with pause and cancel, failed samples."""

    def __init__(self, session: StudySession, batch: BatchRunner) -> None:
        super().__init__("All samples", fold="measure batch", folded=True)
        self._session, self._batch = session, batch
        self._opened = False
        self.jobs = QComboBox()
        self.jobs.addItem("in this window", 1)
        for count in range(2, most_jobs() + 1):
            self.jobs.addItem(f"in {count} processes", count)
        self.jobs.setCurrentIndex(max(self.jobs.findData(batch.jobs), 0))
        self.jobs.setToolTip("Processes are faster for many samples; the numbers are the same")
        self.jobs.activated.connect(self._choose_jobs)
        self.add_row("Measured", self.jobs)
        self.scheduler = QLineEdit(batch.scheduler)
        self.scheduler.setPlaceholderText("none")
        self.scheduler.setToolTip(
            "Address of a Dask scheduler, such as tcp://host:8786; its workers measure then"
        )
        self.scheduler.editingFinished.connect(self._choose_scheduler)
        self.add_row("On a cluster", self.scheduler)
        self.about = faint()
        self.add(self.about)
        self.pause, self.cancel = QPushButton("Pause"), QPushButton("Cancel")
        self.pause.clicked.connect(batch.pause)
        self.cancel.clicked.connect(batch.cancel)
        self._buttons = side_by_side(self.pause, self.cancel, stretch=True)
        self.add(self._buttons)
        self.failed = QListWidget()
        self.failed.setAccessibleName("Samples that were not measured")
        self.failed.setWordWrap(True)
        self.failed.setMaximumHeight(120)
        self.failed.itemActivated.connect(self._focus)
        self.failed.itemClicked.connect(self._focus)
        self.add(self.failed)
        self.again = QPushButton("Try these again")
        self.again.clicked.connect(batch.retry)
        self._again = side_by_side(self.again, stretch=True)
        self.add(self._again)
        batch.changed.connect(self.refresh)
        self.refresh()

    def _choose_jobs(self) -> None:
        self._batch.jobs = int(self.jobs.currentData())
        self.refresh()

    def _choose_scheduler(self) -> None:
        self._batch.scheduler = self.scheduler.text()
        self.refresh()

    def _focus(self, item: QListWidgetItem) -> None:
        self._session.focus.set(sample_id=int(item.data(_ID)))

    def _open_while(self, wanted: bool) -> None:
        """Open by itself while there is something to see, and fold again after it."""
        if wanted and self.folded:
            self._opened = True
            self._show_folded(False)
        elif not wanted and self._opened:
            self._opened = False
            self._show_folded(True)

    def refresh(self) -> None:
        """Show how far it is."""
        batch = self._batch
        self._buttons.setVisible(batch.is_running)
        self.pause.setText("Go on" if batch.is_paused else "Pause")
        self.jobs.setEnabled(not batch.scheduler)
        if batch.is_running:
            left = batch.seconds_left
            time_left = f", {duration(left)} left" if left and not batch.is_paused else ""
            state = "Paused after" if batch.is_paused else "Measuring"
            text = f"{state} {batch.done} of {batch.total} samples{time_left}."
        else:
            text = (
                "Each result is kept as it finishes. What has not changed since is not measured "
                "again, also after a crash."
            )
        self.about.setText(text)
        known = {entry.id: entry.name for entry in self._session.state.samples}
        failures = {i: reason for i, reason in batch.failures.items() if i in known}
        if self.failed.count() != len(failures):
            self.failed.clear()
            for sample_id, reason in failures.items():
                item = QListWidgetItem(f"{known[sample_id]}: {reason}")
                item.setData(_ID, sample_id)
                self.failed.addItem(item)
        self._open_while(batch.is_running or bool(failures))
        self.failed.setVisible(bool(failures))
        self._again.setVisible(bool(failures) and not batch.is_running)
