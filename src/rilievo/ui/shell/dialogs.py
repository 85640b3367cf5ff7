"""Questions in a window of their own, over the window; the folder of an answer is remembered."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QWidget

from rilievo.ui.commands.context import Answer

Kind = TypeVar("Kind")
_Button = QMessageBox.StandardButton


class WindowDialogs:
    """The dialogs of one window."""

    def __init__(self, parent: QWidget) -> None:
        self._parent = parent

    def ask_files(self, title: str, kinds: str) -> list[Path]:
        """Choose files to open."""
        names, _ = QFileDialog.getOpenFileNames(self._parent, title, self._folder(), kinds)
        return [Path(name) for name in names]

    def ask_file(self, title: str, kinds: str) -> Path | None:
        """Choose one file to open."""
        name, _ = QFileDialog.getOpenFileName(self._parent, title, self._folder(), kinds)
        return Path(name) if name else None

    def ask_name(self, title: str, name: str, kinds: str) -> Path | None:
        """Choose a name to save under."""
        start = str(Path(self._folder()) / name)
        chosen, _ = QFileDialog.getSaveFileName(self._parent, title, start, kinds)
        return Path(chosen) if chosen else None

    def ask_name_of(
        self, title: str, name: str, kinds: Mapping[str, Kind]
    ) -> tuple[Path | None, Kind]:
        """As `ask_name`, with several kinds of file; return also the kind that was chosen."""
        start = str(Path(self._folder()) / name)
        chosen, kind = QFileDialog.getSaveFileName(self._parent, title, start, ";;".join(kinds))
        return (Path(chosen) if chosen else None), kinds.get(kind, next(iter(kinds.values())))

    def ask_folder(self, title: str) -> Path | None:
        """Choose a folder."""
        name = QFileDialog.getExistingDirectory(self._parent, title, self._folder())
        return Path(name) if name else None

    def ask_text(self, title: str, label: str) -> str | None:
        """Type a line; None when it was left empty."""
        text, good = QInputDialog.getText(self._parent, title, label)
        return text if good and text.strip() else None

    def ask_leaving(self, name: str) -> Answer:
        """Ask what becomes of a study with unsaved changes."""
        answer = QMessageBox.question(
            self._parent,
            "Save changes?",
            f"“{name}” has changes that are not saved.",
            _Button.Save | _Button.Discard | _Button.Cancel,
        )
        known: dict[QMessageBox.StandardButton, Answer] = {
            _Button.Save: "save",
            _Button.Discard: "discard",
        }
        return known.get(answer, "cancel")

    def remember_folder(self, path: Path) -> None:
        """Begin the next dialog at a file's folder."""
        folder = path if path.is_dir() else path.parent
        QSettings().setValue("folder", str(folder.absolute()))

    @staticmethod
    def _folder() -> str:
        return str(QSettings().value("folder", str(Path.home())))
