"""The study as a file: begun, opened, saved, packed, offered again after a crash."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSettings

from rilievo.core.errors import RilievoError
from rilievo.core.study.archive import PACKED_SUFFIX, pack_study, unpack_study
from rilievo.core.study.study_file import SUFFIX
from rilievo.ui.commands.context import CommandContext
from rilievo.ui.compute.recovery import left_behind

_MOST_RECENT = 8
_STUDIES = f"Rilievo studies (*{SUFFIX})"


class StudyCommands:
    """The `ask_…` methods open a dialog and hand the chosen name on; the others do the work."""

    def __init__(self, context: CommandContext) -> None:
        self._context = context
        self._session = context.session
        # False in tests: what is unsaved is dropped without a question.
        self.asks_before_leaving = True

    # -- begin and open

    def new(self) -> None:
        """Begin a new study."""
        if self.may_leave():
            self._session.clear()

    def ask_study(self) -> None:
        """Choose a study."""
        path = self._context.dialogs.ask_file(
            "Open study", f"Rilievo studies (*{SUFFIX} *{PACKED_SUFFIX})"
        )
        if path is not None:
            self.open_file(path)

    def open_file(self, path: Path) -> None:
        """Open a study file, or unpack a packed one."""
        if path.name.endswith(PACKED_SUFFIX):
            self.ask_unpack(path)
        else:
            self.open_study(path)

    def open_study(self, path: Path) -> None:
        """Open a study file in place of the present one."""
        if not self.may_leave():
            return
        try:
            self._session.load(path)
        except RilievoError as exc:
            self._context.warn_of(exc)
            return
        self._context.dialogs.remember_folder(path)
        self._remember_recent(path)

    def offer_unsaved(self) -> None:
        """Offer what a crash left behind."""
        found = left_behind()
        if found:
            self._context.notices.warn(
                "Rilievo was not closed properly last time; the unsaved work was kept.",
                "Open it",
                lambda: self.open_unsaved(found[0]),
            )

    def open_unsaved(self, path: Path) -> None:
        """Take up unsaved work."""
        if not self.may_leave():
            return
        try:
            self._session.load_unsaved(path)
        except RilievoError as exc:
            self._context.warn_of(exc)
            return
        path.unlink(missing_ok=True)

    def may_leave(self) -> bool:
        """Ask to save what would be lost; False means stay."""
        session = self._session
        if not (self.asks_before_leaving and session.has_unsaved and session.state.samples):
            return True
        answer = self._context.dialogs.ask_leaving(session.state.name)
        return self.save() if answer == "save" else answer == "discard"

    # -- save

    def save(self) -> bool:
        """Save under the present name, or ask for one; False when that did not happen."""
        return self.ask_save() if self._session.path is None else self.save_to(self._session.path)

    def ask_save(self) -> bool:
        """Choose a name and save."""
        path = self._context.dialogs.ask_name("Save study", f"study{SUFFIX}", _STUDIES)
        if path is None:
            return False
        return self.save_to(path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX))

    def save_to(self, path: Path) -> bool:
        """Save the study."""
        try:
            self._session.save(path)
        except RilievoError as exc:
            self._context.warn_of(exc)
            return False
        self._remember_recent(path)
        self._context.notices.tell(f"Saved {path.name}.")
        return True

    # -- handing over

    def ask_pack(self) -> None:
        """Choose a name for the packed study."""
        name = f"{self._session.state.name}{PACKED_SUFFIX}".replace("/", "-")
        path = self._context.dialogs.ask_name(
            "Pack study", name, f"Packed studies (*{PACKED_SUFFIX})"
        )
        if path is not None:
            plain = path.name.removesuffix(".zip").removesuffix(SUFFIX)
            self.pack(path.with_name(plain + PACKED_SUFFIX))

    def pack(self, path: Path) -> None:
        """Write the study with copies of its images."""
        state, history = self._session.state, self._session.history()
        measured = self._session.measurements
        tables = {} if measured.is_stale else dict(measured.tables)
        self._context.notices.tell(f"Packing {len(state.samples)} samples …")
        self._context.write(path, lambda: pack_study(state, path, tables, history))

    def ask_unpack(self, path: Path) -> None:
        """Choose where a packed study is unpacked."""
        folder = self._context.dialogs.ask_folder(f"Unpack “{path.name}” into")
        if folder is not None:
            self.unpack(path, folder)

    def unpack(self, path: Path, folder: Path) -> None:
        """Unpack a study below a folder, and open it."""
        self._context.notices.tell(f"Unpacking {path.name} …")
        self._context.compute.jobs.run(
            "unpack",
            lambda: unpack_study(path, folder),
            self.open_study,
            self._context.warn_of,
        )

    # -- used last

    @staticmethod
    def recent() -> list[Path]:
        """Return the studies used last that are still there."""
        names = QSettings().value("recent", [])
        listed = [names] if isinstance(names, str) else list(names or [])
        return [path for path in map(Path, listed) if path.exists()]

    def _remember_recent(self, path: Path) -> None:
        others = [known for known in self.recent() if known != path.absolute()]
        names = [str(p) for p in (path.absolute(), *others)][:_MOST_RECENT]
        QSettings().setValue("recent", names)
