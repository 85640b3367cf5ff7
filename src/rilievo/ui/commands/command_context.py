"""What commands get: the study, what is computed of it, and a little of the window."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, Protocol, TypeVar

from PyQt6.QtGui import QGuiApplication

from rilievo.core.errors import RilievoError
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession

Kind = TypeVar("Kind")
Answer = Literal["save", "discard", "cancel"]
WayIn = Literal["as it is", "read only", "copy", "cancel"]
Overwrite = Literal["overwrite", "elsewhere", "cancel"]


class Notices(Protocol):
    """Messages in place, above the picture."""

    def tell(self, text: str) -> None:
        """Show news for a few seconds."""

    def warn(self, text: str, do: str = "", action: Callable[[], None] | None = None) -> None:
        """Show a message, with something to do about it, until it is closed."""

    def hide(self) -> None:
        """Take the message away."""


class Dialogs(Protocol):
    """Questions in a window of their own; each remembers the folder of the answer."""

    def ask_files(self, title: str, kinds: str) -> list[Path]:
        """Choose files to open."""

    def ask_file(self, title: str, kinds: str) -> Path | None:
        """Choose one file to open."""

    def ask_name(self, title: str, name: str, kinds: str) -> Path | None:
        """Choose a name to save under."""

    def ask_name_of(
        self, title: str, name: str, kinds: Mapping[str, Kind]
    ) -> tuple[Path | None, Kind]:
        """As `ask_name`, with several kinds of file; return also the kind that was chosen."""

    def ask_folder(self, title: str) -> Path | None:
        """Choose a folder."""

    def ask_text(self, title: str, label: str) -> str | None:
        """Type a line."""

    def ask_leaving(self, name: str) -> Answer:
        """Ask what becomes of a study with unsaved changes."""

    def ask_locked(self, name: str, holder: str) -> WayIn:
        """Ask how a study is opened that another window has."""

    def ask_changed(self, name: str) -> Overwrite:
        """Ask whether a file that was changed from outside is written over."""

    def ask_unblinding(self) -> bool:
        """Ask whether what is hidden is to be seen."""

    def ask_outside(self, name: str, files: Sequence[Path]) -> bool:
        """Ask whether a file may lead to others that are not below its own folder."""

    def remember_folder(self, path: Path) -> None:
        """Begin the next dialog at a file's folder."""


class Pages(Protocol):
    """What covers the picture, and what covers the cards of the stage."""

    @property
    def origin_shown(self) -> bool:
        """Whether the origin of a number is shown in place of the cards."""

    def show_picture(self) -> None:
        """Go back from what covers the picture."""

    def take_up_stage(self) -> None:
        """Go to the stage where the window was left last time, the first time this is asked."""

    def show_metadata(self) -> None:
        """Show everything the focused sample's file says."""

    def show_intake(self, paths: Sequence[Path]) -> None:
        """Show what files would become."""

    def show_methods(self) -> None:
        """Show the library of methods beside the present one."""

    def show_report(self) -> None:
        """Show what goes into the report."""

    def show_history(self) -> None:
        """Show what was changed."""

    def show_origin(self, shown: bool) -> None:
        """Show the origin of a number, or the stage's cards again."""


@dataclass(frozen=True)
class CommandContext:
    """Given to all commands. follow : has actions enabled and disabled as things are now."""

    session: StudySession
    compute: Compute
    notices: Notices
    dialogs: Dialogs
    pages: Pages
    follow: Callable[[], None]

    def warn_of(self, error: RilievoError) -> None:
        """Show an error that is meant for the user."""
        self.notices.warn(str(error))

    def write(self, path: Path, work: Callable[[], None]) -> None:
        """Write a file in a thread, then say so."""
        self.dialogs.remember_folder(path)
        self.compute.awaited.run(
            f"write {path}",
            f"Writing {path.name}",
            lambda _: work(),
            lambda _: self.notices.tell(f"Saved {path.name}."),
            self.warn_of,
        )

    def copy_text(self, text: str, said: str) -> None:
        """Put a text on the clipboard, then say so."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(text)
            self.notices.tell(said)
