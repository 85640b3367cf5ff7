"""What the report's page and actions ask for: a name, a folder, what came of it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices

from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.compute.report_runner import ReportRunner

_SUFFIXES = (".html", ".pdf")
_PDF = "Report as PDF (*.pdf)"


class ReportCommands:
    """Asks where to, and says where it went."""

    def __init__(self, context: CommandContext, runner: ReportRunner) -> None:
        self._context, self._runner = context, runner
        runner.finished.connect(self._offer)
        runner.failed.connect(context.notices.warn)

    def ask(self, suffix: str = ".html") -> None:
        """Choose a name for the report."""
        if self._is_blind():
            return
        name = f"{self._context.session.state.name} – report{suffix}".replace("/", "-")
        kinds = f"Report as web page (*.html);;{_PDF}" if suffix == ".html" else _PDF
        path = self._context.dialogs.ask_name("Save report", name, kinds)
        if path is not None:
            known = path.suffix.lower() in _SUFFIXES
            self._runner.save(path if known else path.with_name(path.name + suffix))

    def ask_folder(self) -> None:
        """Choose a folder for tables, method, history and report."""
        if self._is_blind():
            return
        folder = self._context.dialogs.ask_folder("Folder for tables and report")
        if folder is not None:
            self._runner.save(folder)

    def _is_blind(self) -> bool:
        """Whether the study is blinded, which is said: a report names files and groups."""
        blind = self._context.session.is_blind
        if blind:
            self._context.notices.tell(
                "The study is blinded, and a report names files and groups; unblind it first."
            )
        return blind

    def cancel(self) -> None:
        """Stop; nothing is written."""
        if self._runner.is_running:
            self._runner.cancel()
            self._context.notices.tell("The report was cancelled; nothing was written.")

    def _offer(self, path: Path) -> None:
        page = path / "report.html" if path.is_dir() else path

        def show() -> None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(page.absolute())))

        self._context.notices.warn(f"The report is in {path.name}.", "Open it", show)
