"""Making the report of the study: one at a time, with progress, and stopped when asked."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.errors import RilievoError
from rilievo.core.progress import Control
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession


class ReportRunner(QObject):
    """What is done now is in `what`, how far it is in `fraction`."""

    changed = pyqtSignal()
    finished = pyqtSignal(object)  # where it was written to
    failed = pyqtSignal(str)
    _heard = pyqtSignal(object, str, float)  # control, what is done, how far

    def __init__(
        self, session: StudySession, compute: Compute, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._compute = session, compute
        self._control: Control | None = None
        self.what, self.fraction = "", 0.0
        self._heard.connect(self._hear)

    @property
    def is_running(self) -> bool:
        """Whether a report is being made."""
        return self._control is not None

    def save(self, path: Path) -> None:
        """Write the report, by the name's ending; into a folder with all tables."""
        from rilievo.core.report.outputs import write_outputs  # noqa: PLC0415 (slow to import)
        from rilievo.core.report.study_report import (  # noqa: PLC0415 (slow to import)
            study_contents,
            write_study_report,
        )

        if self._control is not None:
            return
        now, state = self._session.snapshot(path), self._session.state
        as_folder = path.is_dir() or not path.suffix
        control = self._control = Control()

        def report(what: str, fraction: float) -> None:
            self._heard.emit(control, what, fraction)

        def work() -> None:
            history = now.history()
            with self._compute.measurer(control) as measurer:
                contents = study_contents(state, history, measurer, report=report)
            control.wait()
            report("Writing", 1.0)
            if as_folder:
                write_outputs(contents, path)
            else:
                write_study_report(contents, path)

        self._hear(control, "Measuring", 0.0)
        self._compute.jobs.run(
            "report", work, lambda _: self._done(control, path), self._failed, broke=self._end
        )

    def cancel(self) -> None:
        """Stop; nothing is written."""
        if self._control is not None:
            self._control.cancel()
            self._compute.jobs.forget("report")
            self._end()

    def close(self) -> None:
        """Stop without telling anybody."""
        if self._control is not None:
            self._control.cancel()

    def _hear(self, control: Control, what: str, fraction: float) -> None:
        if control is self._control:
            self.what, self.fraction = what, fraction
            self.changed.emit()

    def _done(self, control: Control, path: Path) -> None:
        if control is self._control:
            self._end()
            self.finished.emit(path)

    def _end(self) -> None:
        self._control = None
        self.changed.emit()

    def _failed(self, error: RilievoError) -> None:
        self._end()
        self.failed.emit(str(error))
