"""Making the report of the study: progress, cancel, where it went."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices

from rilievo.core.batch import Control
from rilievo.core.errors import RilievoError

if TYPE_CHECKING:
    from rilievo.ui.window import Window

_KINDS = "Report as web page (*.html);;Report as PDF (*.pdf)"


class Reporting(QObject):
    """One report at a time."""

    changed = pyqtSignal()
    _heard = pyqtSignal(object, str, float)  # control, what is done, how far

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._control: Control | None = None
        self.what, self.fraction = "", 0.0
        self._heard.connect(self._hear)

    @property
    def is_running(self) -> bool:
        """Whether a report is being made."""
        return self._control is not None

    def ask(self, suffix: str = ".html") -> None:
        """Choose a name for the report."""
        name = f"{self._window.model.state.name} – report{suffix}".replace("/", "-")
        kinds = _KINDS if suffix == ".html" else "Report as PDF (*.pdf)"
        path = self._window.files.ask_name("Save report", name, kinds)
        if path is not None:
            known = path.suffix.lower() in (".html", ".pdf")
            self.save(path if known else path.with_name(path.name + suffix))

    def ask_folder(self) -> None:
        """Choose a folder for tables, method, history and report."""
        folder = self._window.files.ask_folder_for("Folder for tables and report")
        if folder is not None:
            self.save(folder)

    def save(self, path: Path) -> None:
        """Write the report, by the name's ending; into a folder with all tables."""
        from rilievo.core.report.study_report import (  # noqa: PLC0415 (slow to import)
            study_contents,
            write_results,
            write_study_report,
        )

        if self._control is not None:
            return
        window = self._window
        state, history, batch = window.model.state, window.model.history(), window.bench.batch
        jobs, as_folder = batch.jobs, path.is_dir() or not path.suffix
        control = self._control = Control()

        def report(what: str, fraction: float) -> None:
            self._heard.emit(control, what, fraction)

        def work() -> None:
            contents = study_contents(
                state,
                history,
                jobs=jobs,
                store=batch.store(),
                control=control,
                report=report,
                evaluator=window.bench.evaluator,
            )
            control.wait()
            report("Writing", 1.0)
            if as_folder:
                write_results(state, history, path, contents)
            else:
                write_study_report(contents, path)

        self._hear(control, "Measuring", 0.0)
        self._window.jobs.run(
            "report", work, lambda _: self._done(control, path), self._failed, broke=self._end
        )

    def cancel(self) -> None:
        """Stop; nothing is written."""
        if self._control is not None:
            self._control.cancel()
            self._window.jobs.forget("report")
            self._control = None
            self._window.notice.tell("The report was cancelled; nothing was written.")
            self.changed.emit()

    def close(self) -> None:
        """Stop without telling anybody."""
        if self._control is not None:
            self._control.cancel()

    def _hear(self, control: Control, what: str, fraction: float) -> None:
        if control is self._control:
            self.what, self.fraction = what, fraction
            self.changed.emit()

    def _done(self, control: Control, path: Path) -> None:
        if control is not self._control:
            return
        self._end()
        page = path / "report.html" if path.is_dir() else path

        def show() -> None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(page.absolute())))

        self._window.notice.warn(f"The report is in {path.name}.", "Open it", show)

    def _end(self) -> None:
        self._control = None
        self.changed.emit()

    def _failed(self, error: RilievoError) -> None:
        self._end()
        self._window.notice.warn(str(error))
