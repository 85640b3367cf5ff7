"""The study as the window sees it: its state with undo, its history and its file.

What is worked on, what was measured and how it is looked at are parts of their own. Views listen
to the signals and never change the state except through `change`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from rilievo.core.errors import FileError
from rilievo.core.files.file_state import identity_of_files
from rilievo.core.files.sample_parts import Part
from rilievo.core.method.class_edits import with_known_levels
from rilievo.core.method.diff import Difference
from rilievo.core.method.method import Method, checked_copy
from rilievo.core.pipeline.fingerprints import package_versions
from rilievo.core.progress import no_report
from rilievo.core.study.blinding import (
    blinded,
    opened_names,
    renamed,
    unblinded,
)
from rilievo.core.study.history import HistoryEntry, entry_for
from rilievo.core.study.sealed_study import BLIND, UNBLIND
from rilievo.core.study.stacks import Stack, stacks_of
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.study.study_file import StudyContent, load_study, save_study
from rilievo.core.table.table import RegionTable
from rilievo.ui.session.focus import Focus
from rilievo.ui.session.measurements import Measurements
from rilievo.ui.session.study_lock import StudyLock
from rilievo.ui.session.view_settings import ViewSettings

STAGES = ("look", "correct", "outline", "measure", "compare")


_MERGES = 1
# Index in the undo stack, the change before it, and what that led to.
_Mark = tuple[int, "QUndoCommand | None", StudyState | None]


class _Change(QUndoCommand):
    """One change with the state before and after, and when; a drag merges into one."""

    def __init__(
        self, text: str, old: StudyState, new: StudyState, merge: str, show: Callable[..., None]
    ) -> None:
        super().__init__(text)
        # Read in threads, where the command itself may be gone.
        self._text = text
        self.time = datetime.now().astimezone().isoformat(timespec="seconds")
        self._entry: HistoryEntry | None = None
        self._old, self._new, self._merge, self._show = old, new, merge, show

    def id(self) -> int:
        # Qt asks `mergeWith` for equal numbers only; which drag it is, the text tells.
        return _MERGES if self._merge else -1

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, _Change):
            return False
        if (other.text(), other._merge) != (self.text(), self._merge):
            return False
        self._new, self.time, self._entry = other._new, other.time, None
        return True

    @property
    def result(self) -> StudyState:
        """The state after the change; another one once a drag went on."""
        return self._new

    @property
    def entry(self) -> HistoryEntry:
        """The change as the history has it."""
        if self._entry is None:
            self._entry = entry_for(self._text, self.time, self._old, self._new)
        return self._entry

    def undo(self) -> None:
        self._show(self._old)

    def redo(self) -> None:
        self._show(self._new)


@dataclass(frozen=True, eq=False)
class Snapshot:
    """All that a study file holds, as it is at a moment; nothing of it changes any more.

    changes : those of this session, whose entries are made when they are asked for. mark : where
    in the undo stack it is. study : which of the studies that the session has had. elsewhere :
    versions of the packages that made measurements before; from_here : whether some are of now.
    """

    state: StudyState
    tables: Mapping[int, RegionTable]
    measured: Mapping[int, RegionTable]
    earlier: tuple[HistoryEntry, ...]
    changes: tuple[_Change, ...]
    mark: _Mark
    study: int
    elsewhere: Sequence[Mapping[str, str]] = ()
    from_here: bool = False

    def environments(self) -> list[Mapping[str, str]]:
        """Return the versions of the packages that made the measurements; takes a moment."""
        own = [package_versions()] if self.from_here else []
        return [*self.elsewhere, *(one for one in own if one not in self.elsewhere)]

    def history(self) -> list[HistoryEntry]:
        """Return all changes in order; the first time this takes long."""
        return [*self.earlier, *(change.entry for change in self.changes)]

    def write(self, path: Path, report: Callable[[float], None] = no_report) -> None:
        """Write the study file. report : as `save_study`. Raises FileUnreadable."""
        save_study(self.state, path, self.tables, self.history(), report, self.environments())


class StudySession(QObject):
    """State, undo, history and file of one study, and the stage that is visited.

    focus : the sample, channel and regions that are worked on. measurements : tables of the
    samples. view : how the study is looked at.
    """

    changed = pyqtSignal(object, object)  # old and new StudyState
    file_changed = pyqtSignal()
    stage_changed = pyqtSignal(str)
    history_changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.state = StudyState()
        self.path: Path | None = None
        # What was changed before this study was opened; later changes are on the undo stack.
        self.earlier: tuple[HistoryEntry, ...] = ()
        self.undo_stack = QUndoStack(self)
        self.undo_stack.indexChanged.connect(self.history_changed)
        self.undo_stack.indexChanged.connect(self.file_changed)
        self._saved: _Mark = (0, None, None)
        self._number = 0
        # Of samples by their id and files; derived from these, so that no undo concerns it.
        self._checksums: dict[tuple[int, tuple[Part, ...]], str] = {}
        # What the file was when it was read or written last.
        self._file_state = ""
        self.lock: StudyLock | None = None
        self.stage = STAGES[0]
        self.focus = Focus(lambda: self.state, self)
        # The stacks of the samples for which they were last asked.
        self._stacks: tuple[tuple[SampleEntry, ...], dict[int, Stack]] = ((), {})
        self.measurements = Measurements(lambda: self.state, self)
        self.view = ViewSettings(self)

    # -- state

    def change(self, text: str, new: StudyState, merge: str = "") -> None:
        """Make `new` the state, undoable under `text`.

        merge : see `DragGesture`; what has the same text and merge id as the change
        before it becomes one entry with it."""
        if new == self.state:
            return
        self.undo_stack.push(_Change(text, self.state, new, merge, self._show))

    def change_method(self, text: str, method: Method, merge: str = "") -> None:
        """Make another method current."""
        self.change(text, replace(self.state, method=method), merge)

    def change_class(self, text: str, merge: str = "", **fields: object) -> None:
        """Change the region class in focus, undoable. Raises MethodError."""
        method, index = self.state.method, self.focus.class_index
        outline = checked_copy(method.outlines[index], **fields)
        self.change_method(text, method.with_outline(outline, index), merge)

    @property
    def is_blind(self) -> bool:
        """Whether names, groups and attributes of the samples are hidden."""
        return self.state.blinding.is_on

    def blind(self) -> None:
        """Hide names, groups and attributes; no undo leads behind it. Raises StudyError."""
        self._seal(BLIND, blinded(self.state), ())
        # The sample that was looked at would be known by its code.
        self.focus.set(sample_id=self.state.samples[0].id, regions=())

    def unblind(self) -> None:
        """Show what is hidden; the history tells that it was. Raises StudyError."""
        self._seal(UNBLIND, unblinded(self.state), opened_names(self.state))

    def _seal(self, text: str, new: StudyState, told: Sequence[Difference]) -> None:
        time = datetime.now().astimezone().isoformat(timespec="seconds")
        earlier = (*self.history(), HistoryEntry(time, text, "", tuple(told), new.method))
        # It means the same of the same samples, which have other names.
        self.measurements.take_method(self.state.method, new.method)
        self.earlier = earlier
        self.undo_stack.clear()
        self._saved = (-1, None, None)
        self._show(new)
        self.measurements.changed.emit()
        self.history_changed.emit()
        self.file_changed.emit()

    @property
    def stack(self) -> Stack | None:
        """The stack of which the focused sample is a plane; None where it is none."""
        samples = self.state.samples
        if self._stacks[0] is not samples:
            self._stacks = samples, stacks_of(samples)
        return self._stacks[1].get(self.focus.sample_id or -1)

    def _show(self, state: StudyState) -> None:
        old, self.state = self.state, self._with_facts(state)
        state = self.state
        self.measurements.keep_only({entry.id for entry in state.samples})
        moved = self.focus.keep_to(state)
        self.changed.emit(old, state)
        if moved:
            self.focus.changed.emit()

    def note_checksum(self, sample_id: int, checksum: str) -> None:
        """Remember a checksum that was read; not a change of the study's meaning."""
        entry = self.state.entry(sample_id)
        self._checksums[entry.id, entry.sources] = checksum
        if entry.checksum != checksum:
            self.state = self.state.with_entry(replace(entry, checksum=checksum))

    def _with_facts(self, state: StudyState) -> StudyState:
        """A state with what is known of the samples and the file by now: no undo takes it away."""
        samples = tuple(
            replace(entry, checksum=checksum)
            if (checksum := self._checksums.get((entry.id, entry.sources)))
            not in (None, entry.checksum)
            else entry
            for entry in state.samples
        )
        unnamed = StudyState().name
        name = self.state.name if state.name == unnamed else state.name
        method = state.method
        if [e.sources for e in samples] == [e.sources for e in self.state.samples]:
            method = with_known_levels(method, self.state.method)
        same = all(a is b for a, b in zip(samples, state.samples, strict=True))
        if same and name == state.name and method is state.method:
            return state
        return replace(state, samples=samples, name=name, method=method)

    def note_method(self, method: Method) -> None:
        """Take a method with levels that were found anew; not a change of the study's meaning."""
        old, self.state = self.state, replace(self.state, method=method)
        self.measurements.take_method(old.method, method)

    def named(self, sample: str) -> SampleEntry | None:
        """Return the sample of a name; None where there is none."""
        return next((entry for entry in self.state.samples if entry.name == sample), None)

    # -- stage

    def go_to(self, stage: str) -> None:
        """Visit a stage."""
        if stage != self.stage:
            self.stage = stage
            self.stage_changed.emit(stage)

    @property
    def shows_signal(self) -> bool:
        """Whether the stage shows the corrected picture."""
        return self.stage != "look"

    @property
    def shows_regions(self) -> bool:
        """Whether the stage shows regions."""
        return self.stage in ("outline", "measure", "compare")

    # -- history

    def history(self, *, undone: bool = False) -> list[HistoryEntry]:
        """Return all changes of the study in order; `undone` adds those that were taken back."""
        return [*self.earlier, *(change.entry for change in self._changes(undone=undone))]

    def _changes(self, *, undone: bool = False) -> list[_Change]:
        stack = self.undo_stack
        count = stack.count() if undone else stack.index()
        commands = [stack.command(k) for k in range(count)]
        return [command for command in commands if isinstance(command, _Change)]

    def go_back_to(self, count: int) -> None:
        """Make the study as it was after the first `count` changes of the history.

        Changes of this session are undone or redone; of those before, the method is taken up
        again, which is a change itself.
        """
        steps = count - len(self.earlier)
        if steps >= 0:
            self.undo_stack.setIndex(steps)
        elif count > 0:
            entry = self.earlier[count - 1]
            self.change_method(f"Go back to: {entry.text}", self._as_named_now(entry.method))

    def _as_named_now(self, method: Method) -> Method:
        """A method of the history, with the names that the samples have now."""
        codes = self.state.blinding.names
        names = {name: code for code, name in codes.items()} if self.is_blind else codes
        return renamed(method, names) if names else method

    # -- file

    @property
    def has_unsaved(self) -> bool:
        """Whether something would be lost by closing."""
        return self._mark() != self._saved or self.measurements.are_unsaved

    def _mark(self) -> _Mark:
        index = self.undo_stack.index()
        last = self.undo_stack.command(index - 1) if index else None
        return index, last, last.result if isinstance(last, _Change) else None

    def snapshot(self, path: Path) -> Snapshot:
        """Return all that is to be written to a file of this name."""
        named = self.state
        if self.state.name == StudyState().name:
            named = replace(self.state, name=path.stem)
        measured = dict(self.measurements.tables)
        tables = {} if self.measurements.is_stale else measured
        changes = tuple(self._changes())
        return Snapshot(
            named, tables, measured, self.earlier, changes, self._mark(), self._number,
            self.measurements.environments, self.measurements.are_from_here,
        )  # fmt: skip

    @property
    def number(self) -> int:
        """Another one for each study that is opened or begun; the same however it is saved."""
        return self._number

    def note_saved(self, snapshot: Snapshot, path: Path) -> None:
        """Remember that a file has what the study was at a moment; what came after is unsaved."""
        if snapshot.study != self._number:
            return  # another study was opened meanwhile
        if self.state.name == StudyState().name:
            self.state = replace(self.state, name=snapshot.state.name)
        self._take_file(path)
        self.measurements.note_saved(snapshot.measured)
        self._saved = snapshot.mark
        self.file_changed.emit()

    def save(self, path: Path) -> None:
        """Write the study file at once. Raises FileUnreadable."""
        snapshot = self.snapshot(path)
        snapshot.write(path)
        self.note_saved(snapshot, path)

    def _take_file(self, path: Path | None) -> None:
        """Make a file that of the study, and have other windows know."""
        if path != self.path or self.lock is None:
            self.release()
            if path is not None:
                self.lock = StudyLock(path)
                self.lock.take()
        self.path = path
        self._file_state = "" if path is None else _state_of(path)

    def release(self) -> None:
        """Leave the file to other windows."""
        if self.lock is not None:
            self.lock.leave()
            self.lock = None

    @property
    def is_read_only(self) -> bool:
        """Whether another window has the study, so that it is saved under another name."""
        return self.lock is not None and not self.lock.is_mine

    @property
    def changed_on_disk(self) -> bool:
        """Whether the file is another than the one that was read or written here."""
        return self.path is not None and self._file_state != _state_of(self.path) != ""

    def load(self, path: Path, *, as_copy: bool = False) -> None:
        """Read a study file in place of the present study. Raises StudyError."""
        self.take(load_study(path), path, as_copy=as_copy)

    def take(self, content: StudyContent, path: Path, *, as_copy: bool = False) -> None:
        """Make what a file holds the present study.

        as_copy : under no name yet, so that the file stays what it is.
        """
        state, tables, earlier, environments = content
        if as_copy:
            state = replace(state, name=f"{state.name} (copy)")
        self._replace(state, None if as_copy else path, tables, environments)
        self.earlier = earlier
        if as_copy:
            # Nothing has changed, and no file has it yet.
            self._saved = (-1, None, None)
        self.history_changed.emit()
        self.file_changed.emit()

    def load_unsaved(self, path: Path) -> None:
        """Take up unsaved work; it has no file of its own yet. Raises StudyError."""
        content = load_study(path)
        self._replace(StudyState(), None, {})
        self.earlier = content.history
        self.change("Take up unsaved work", content.state)

    def clear(self) -> None:
        """Begin a new study."""
        self._replace(StudyState(), None, {})

    def _replace(
        self,
        state: StudyState,
        path: Path | None,
        tables: dict[int, RegionTable],
        environments: Sequence[Mapping[str, str]] = (),
    ) -> None:
        old, self.state = self.state, state
        self._number += 1
        self._checksums.clear()
        # Quietly, and first: whoever hears of anything now would look for the old sample in the new
        # study.
        shown, self.view.aspect = self.view.aspect, None
        self.focus.begin_at(state)
        self._take_file(path)
        self.measurements.replace_all(tables, state.method, environments)
        self._saved = (0, None, None)
        self.undo_stack.clear()
        self.earlier = ()
        self.changed.emit(old, state)
        self.focus.changed.emit()
        self.focus.regions_changed.emit()
        self.measurements.changed.emit()
        if shown is not None:
            self.view.changed.emit()
        self.file_changed.emit()


def _state_of(path: Path) -> str:
    """Name what a file is now; "" for none."""
    try:
        return identity_of_files([path])
    except FileError:
        return ""
