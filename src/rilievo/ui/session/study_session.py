"""The study as the window sees it: its state with undo, its history and its file.

What is worked on, what was measured and how it is looked at are parts of their own. Views listen
to the signals and never change the state except through `change`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from rilievo.core.method.method import Method, checked_copy
from rilievo.core.study.history import HistoryEntry, entry_for
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.study.study_file import load_history, load_study, save_study
from rilievo.core.table.table import RegionTable
from rilievo.ui.session.focus import Focus
from rilievo.ui.session.measurements import Measurements
from rilievo.ui.session.view_settings import ViewSettings

STAGES = ("look", "correct", "outline", "measure", "compare")


_MERGES = 1


class _Change(QUndoCommand):
    """One change with the state before and after, and when; a drag merges into one."""

    def __init__(
        self, text: str, old: StudyState, new: StudyState, merge: str, show: Callable[..., None]
    ) -> None:
        super().__init__(text)
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
    def entry(self) -> HistoryEntry:
        """The change as the history has it."""
        if self._entry is None:
            self._entry = entry_for(self.text(), self.time, self._old, self._new)
        return self._entry

    def undo(self) -> None:
        self._show(self._old)

    def redo(self) -> None:
        self._show(self._new)


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
        self.undo_stack.indexChanged.connect(lambda _: self.history_changed.emit())
        self.undo_stack.cleanChanged.connect(lambda _: self.file_changed.emit())
        self.stage = STAGES[0]
        self.focus = Focus(lambda: self.state, self)
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

    def _show(self, state: StudyState) -> None:
        old, self.state = self.state, state
        self.measurements.keep_only({entry.id for entry in state.samples})
        moved = self.focus.keep_to(state)
        self.changed.emit(old, state)
        if moved:
            self.focus.changed.emit()

    def note_checksum(self, sample_id: int, checksum: str) -> None:
        """Remember a checksum that was read; not a change of the study's meaning."""
        entry = self.state.entry(sample_id)
        if entry.checksum != checksum:
            self.state = self.state.with_entry(replace(entry, checksum=checksum))

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
        stack = self.undo_stack
        count = stack.count() if undone else stack.index()
        commands = [stack.command(k) for k in range(count)]
        return [*self.earlier, *(c.entry for c in commands if isinstance(c, _Change))]

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
            self.change_method(f"Go back to: {entry.text}", entry.method)

    # -- file

    @property
    def has_unsaved(self) -> bool:
        """Whether something would be lost by closing."""
        return not self.undo_stack.isClean() or self.measurements.are_unsaved

    def save(self, path: Path) -> None:
        """Write the study file. Raises FileUnreadable."""
        named = self.state
        if self.state.name == StudyState().name:
            named = replace(self.state, name=path.stem)
        current = {} if self.measurements.is_stale else self.measurements.tables
        save_study(named, path, current, self.history())
        self.state = named
        self.path = path
        self.measurements.note_saved()
        self.undo_stack.setClean()
        self.file_changed.emit()

    def load(self, path: Path) -> None:
        """Read a study file in place of the present study. Raises StudyError."""
        state, tables = load_study(path)
        earlier = load_history(path)
        self._replace(state, path, tables)
        self.earlier = earlier
        self.history_changed.emit()

    def load_unsaved(self, path: Path) -> None:
        """Take up unsaved work; it has no file of its own yet. Raises StudyError."""
        state, _ = load_study(path)
        earlier = load_history(path)
        self._replace(StudyState(), None, {})
        self.earlier = earlier
        self.change("Take up unsaved work", state)

    def clear(self) -> None:
        """Begin a new study."""
        self._replace(StudyState(), None, {})

    def _replace(
        self, state: StudyState, path: Path | None, tables: dict[int, RegionTable]
    ) -> None:
        old, self.state = self.state, state
        self.path = path
        self.measurements.replace_all(tables, state.method)
        self.undo_stack.clear()
        self.earlier = ()
        self.view.choose(aspect=None)
        self.focus.begin_at(state)
        self.changed.emit(old, state)
        self.focus.changed.emit()
        self.focus.regions_changed.emit()
        self.measurements.changed.emit()
        self.file_changed.emit()
