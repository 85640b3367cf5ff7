"""The study as a file: begun, opened, saved, packed, offered again after a crash."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QEventLoop, QSettings

from rilievo.core.errors import RilievoError
from rilievo.core.report.verify import Verdict, verify
from rilievo.core.study.archive import PACKED_SUFFIX, pack_study, unpack_study
from rilievo.core.study.outside_files import (
    chosen_files,
    files_of_study,
    outside,
    remember_chosen,
)
from rilievo.core.study.study_file import SUFFIX, StudyContent, load_study
from rilievo.ui.commands.command_context import CommandContext, WayIn
from rilievo.ui.compute.progress_tasks import Report
from rilievo.ui.compute.recovery import left_behind
from rilievo.ui.session.study_lock import StudyLock

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
        path = path.absolute()
        before = self._session.state

        def work(report: Report) -> tuple[StudyContent, list[Path]]:
            content = load_study(path, report)
            return content, outside(
                files_of_study(content.state), [path.parent], chosen_files(path)
            )

        def done(result: tuple[StudyContent, list[Path]]) -> None:
            # What was changed while it was read is asked about as well.
            if self._session.state is before or self.may_leave():
                self._take(path, *result)

        self._context.compute.awaited.run(
            "open study",
            f"Opening {path.name}",
            work,
            done,
            self._context.warn_of,
            stopped=lambda: self._context.notices.tell(f"“{path.name}” was not opened."),
            newest=True,
        )

    def _take(self, path: Path, content: StudyContent, led_outside: list[Path]) -> None:
        """Make what was read the present study, unless it is left again here."""
        how = self._way_in(path)
        if how == "cancel" or not self._may_lead_outside(path, led_outside):
            return
        self._session.take(content, path, as_copy=how == "copy")
        self._context.pages.take_up_stage()
        self._context.dialogs.remember_folder(path)
        self._remember_recent(path)
        if how == "read only":
            self._context.notices.warn(
                f"“{path.name}” is open in another window; here it is saved under another name."
            )

    def _way_in(self, path: Path) -> WayIn:
        """How a study is opened: another window may have it."""
        if path == self._session.path:
            return "as it is"
        lock = StudyLock(path)
        if lock.take():
            lock.leave()
            return "as it is"
        return self._context.dialogs.ask_locked(path.name, lock.holder)

    def _may_lead_outside(self, path: Path, found: list[Path]) -> bool:
        """Ask about files that a study leads to and that nobody chose here; False means no."""
        chosen = chosen_files(path)
        if not found:
            return True
        if not self._context.dialogs.ask_outside(path.name, found):
            return False
        remember_chosen(path, {*chosen, *found})
        return True

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
        if answer != "save":
            return answer == "discard"
        path = self._name_to_save()
        return path is not None and self.save_to(path)

    # -- save

    def save(self) -> None:
        """Save under the present name, or ask for one."""
        path = self._name_to_save()
        if path is not None:
            self._write(path, lambda _: None)

    def ask_save(self) -> None:
        """Choose a name and save."""
        path = self._ask_name()
        if path is not None:
            self._write(path, lambda _: None)

    def save_to(self, path: Path) -> bool:
        """Save and wait for it; False when that did not happen."""
        waiting, ended = QEventLoop(), []

        def end(saved: bool) -> None:
            ended.append(saved)
            waiting.quit()

        self._write(path, end)
        if not ended:
            waiting.exec(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)
        return bool(ended and ended[0])

    def _name_to_save(self) -> Path | None:
        """The name to save under: the present one, unless the file is not this window's."""
        session = self._session
        if session.path is None or session.is_read_only:
            return self._ask_name()
        if session.changed_on_disk:
            answer = self._context.dialogs.ask_changed(session.path.name)
            if answer != "overwrite":
                return self._ask_name() if answer == "elsewhere" else None
        return session.path

    def _ask_name(self) -> Path | None:
        path = self._context.dialogs.ask_name("Save study", f"study{SUFFIX}", _STUDIES)
        if path is None or path.suffix == SUFFIX:
            return path
        return path.with_name(path.name + SUFFIX)

    def _write(self, path: Path, end: Callable[[bool], None]) -> None:
        """Write the study as it is now in a thread; `end` is told whether that was done."""
        path = path.absolute()
        session, context = self._session, self._context
        if path != session.path or session.is_read_only:
            lock = StudyLock(path)
            if not lock.take():
                context.notices.warn(
                    f"“{path.name}” is open in another window; save under another name."
                )
                end(False)
                return
            lock.leave()
        snapshot = session.snapshot(path)

        def work(report: Report) -> None:
            snapshot.write(path, report)
            remember_chosen(path, outside(files_of_study(snapshot.state), [path.parent]))

        def done(_: None) -> None:
            session.note_saved(snapshot, path)
            self._remember_recent(path)
            context.notices.tell(f"Saved {path.name}.")
            end(True)

        def failed(error: RilievoError) -> None:
            context.warn_of(error)
            end(False)

        def stopped() -> None:
            context.notices.tell(f"Saving was stopped; {path.name} is as it was.")
            end(False)

        context.compute.awaited.run(
            "write the study",
            f"Saving {path.name}",
            work,
            done,
            failed,
            stopped=stopped,
            broke=lambda: end(False),
        )

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
        now, notices = self._session.snapshot(path), self._context.notices
        self._context.compute.awaited.run(
            f"write {path}",
            f"Packing {len(now.state.samples)} samples",
            lambda report: pack_study(
                now.state, path, now.tables, now.history(), report, now.environments()
            ),
            lambda _: notices.tell(f"Saved {path.name}."),
            self._context.warn_of,
            stopped=lambda: notices.tell("Packing was stopped; nothing was written."),
        )

    def verify(self) -> None:
        """Measure the study again as its file has it, and say what is not the same."""
        notices, path = self._context.notices, self._session.path
        if path is None or self._session.has_unsaved:
            notices.tell("Save the study first: what its file holds is measured again.")
            return
        self._context.compute.awaited.run(
            "verify",
            f"Measuring {len(self._session.state.samples)} samples again",
            lambda report: verify(path, report=report),
            lambda verdict: notices.tell(_of_verdict(verdict)),
            self._context.warn_of,
            stopped=lambda: notices.tell("Verifying was stopped."),
        )

    def ask_unpack(self, path: Path) -> None:
        """Choose where a packed study is unpacked."""
        folder = self._context.dialogs.ask_folder(f"Unpack “{path.name}” into")
        if folder is not None:
            self.unpack(path, folder)

    def unpack(self, path: Path, folder: Path) -> None:
        """Unpack a study below a folder, and open it."""
        self._context.compute.awaited.run(
            "unpack",
            f"Unpacking {path.name}",
            lambda report: unpack_study(path, folder, report),
            self.open_study,
            self._context.warn_of,
            stopped=lambda: self._context.notices.tell(f"Unpacking {path.name} was stopped."),
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


def _of_verdict(verdict: Verdict) -> str:
    """What verifying found, as lines of a notice."""
    head = "Everything is the same." if verdict.is_same else "Not everything is the same."
    return "\n".join([head, *verdict.sentences()])
