"""Questions in a window of their own, over the window; the folder of an answer is remembered."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QWidget

from rilievo.ui.commands.command_context import Answer, Overwrite, WayIn

Kind = TypeVar("Kind")
_Button = QMessageBox.StandardButton
_MOST_FILES = 12


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

    def ask_locked(self, name: str, holder: str) -> WayIn:
        """Ask how a study is opened that another window has."""
        answers: dict[str, WayIn] = {"Open read-only": "read only", "Open a copy": "copy"}
        return self._ask(
            "Open elsewhere",
            f"“{name}” is open in another window ({holder}).",
            "Read-only, it is saved under another name; a copy is a study of its own.",
            answers,
            "cancel",
        )

    def ask_changed(self, name: str) -> Overwrite:
        """Ask whether a file that was changed from outside is written over."""
        answers: dict[str, Overwrite] = {
            "Save under another name": "elsewhere",
            "Write over it": "overwrite",
        }
        return self._ask(
            "Changed on disk",
            f"“{name}” was changed by another program since it was opened here.",
            "Written over, what was changed there is lost.",
            answers,
            "cancel",
        )

    def ask_outside(self, name: str, files: Sequence[Path]) -> bool:
        """Ask whether a file may lead to others that are not below its own folder."""
        shown = [str(file) for file in files[:_MOST_FILES]]
        if len(files) > len(shown):
            shown.append(f"… and {len(files) - len(shown)} more")
        allowed: dict[str, bool] = {"Read them": True}
        return self._ask(
            "Files elsewhere",
            f"“{name}” leads to files that are not below its own folder. Read them only if you "
            "know where it comes from.",
            "\n".join(shown),
            allowed,
            False,
        )

    def ask_unblinding(self) -> bool:
        """Ask whether what is hidden is to be seen."""
        answers: dict[str, bool] = {"Unblind": True}
        return self._ask(
            "Unblind the study",
            "Names, groups, files and attributes are shown again, and stay so.",
            "The history tells when; what is changed from now on counts as not blind.",
            answers,
            False,
        )

    def _ask(
        self, title: str, text: str, further: str, answers: Mapping[str, Kind], otherwise: Kind
    ) -> Kind:
        """Ask with a button an answer, and Cancel for what is so `otherwise`."""
        box = QMessageBox(QMessageBox.Icon.Question, title, text, parent=self._parent)
        box.setInformativeText(further)
        buttons = {
            box.addButton(said, QMessageBox.ButtonRole.AcceptRole): answer
            for said, answer in answers.items()
        }
        box.setDefaultButton(box.addButton(_Button.Cancel))
        box.exec()
        chosen = box.clickedButton()
        return next((a for button, a in buttons.items() if button is chosen), otherwise)

    def remember_folder(self, path: Path) -> None:
        """Begin the next dialog at a file's folder."""
        folder = path if path.is_dir() else path.parent
        QSettings().setValue("folder", str(folder.absolute()))

    @staticmethod
    def _folder() -> str:
        return str(QSettings().value("folder", str(Path.home())))
