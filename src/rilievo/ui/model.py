"""The study as the window sees it: state with undo, measurements, and what is in focus.

Views listen to the signals and never change the state except through `change`.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from rilievo.core.image.neighbourhood import LARGEST
from rilievo.core.method.class_definition import Outline
from rilievo.core.method.method import Method, SampleException, checked_copy, digest, step_use
from rilievo.core.method.picks import Pick, next_number
from rilievo.core.regions.manual_edits import HandEdit
from rilievo.core.signal.steps.repair_pixels import Repair
from rilievo.core.study.history import HistoryEntry, entry_for
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.study.study_file import load_history, load_study, save_study
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.table import RegionTable
from rilievo.ui.viewing import Viewing

REPAIR_KEY = "repair.pixels"
STAGES = ("look", "correct", "outline", "measure", "compare")


class _Change(QUndoCommand):
    """One change with the state before and after, and when; a drag merges into one."""

    def __init__(
        self, text: str, old: StudyState, new: StudyState, merge: int, show: Callable[..., None]
    ) -> None:
        super().__init__(text)
        self.time = datetime.now().astimezone().isoformat(timespec="seconds")
        self._entry: HistoryEntry | None = None
        self._old, self._new, self._merge, self._show = old, new, merge, show

    def id(self) -> int:
        return self._merge

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, _Change) or other.text() != self.text():
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


class StudyModel(QObject):
    """State, undo, file and measurements of one study, and the focus in it."""

    changed = pyqtSignal(object, object)  # old and new StudyState
    tables_changed = pyqtSignal()
    file_changed = pyqtSignal()
    focus_changed = pyqtSignal()
    selection_changed = pyqtSignal()
    reach_changed = pyqtSignal()
    stage_changed = pyqtSignal(str)
    class_changed = pyqtSignal()
    history_changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.state = StudyState()
        self.path: Path | None = None
        self.tables: dict[int, RegionTable] = {}
        self._made_with: dict[int, str] = {}
        self._saved_tables = True
        self._derived: tuple[object, list[RegionTable]] | None = None
        # What was changed before this study was opened; later changes are on the undo stack.
        self.earlier: tuple[HistoryEntry, ...] = ()
        self.undo_stack = QUndoStack(self)
        self.undo_stack.indexChanged.connect(lambda _: self.history_changed.emit())
        self.undo_stack.cleanChanged.connect(lambda _: self.file_changed.emit())
        self.stage = STAGES[0]
        self.sample_id: int | None = None
        self.channel: str | None = None
        self.regions: frozenset[int] = frozenset()
        # Regions that are chosen in other samples than the one in focus.
        self.elsewhere: dict[int, frozenset[int]] = {}
        self._class_place = 0
        self.also: frozenset[int] = frozenset()
        self.reach = 1
        self.viewing = Viewing(self)

    # -- state

    def change(self, text: str, new: StudyState, merge: int = -1) -> None:
        """Make `new` the state, undoable under `text`; equal merge numbers become one entry."""
        if new == self.state:
            return
        self.undo_stack.push(_Change(text, self.state, new, merge, self._show))

    def change_method(self, text: str, method: Method, merge: int = -1) -> None:
        """Make another method current."""
        self.change(text, replace(self.state, method=method), merge)

    def _show(self, state: StudyState) -> None:
        old, self.state = self.state, state
        ids = {entry.id for entry in state.samples}
        self.tables = {k: v for k, v in self.tables.items() if k in ids}
        if self.sample_id not in ids:
            self.sample_id = state.samples[0].id if state.samples else None
            self.regions = self.also = frozenset()
            self.elsewhere = {}
            self.changed.emit(old, state)
            self.focus_changed.emit()
        else:
            self.changed.emit(old, state)

    def note_checksum(self, sample_id: int, checksum: str) -> None:
        """Remember a checksum that was read; not a change of the study's meaning."""
        entry = self.state.entry(sample_id)
        if entry.checksum != checksum:
            self.state = self.state.with_entry(replace(entry, checksum=checksum))

    def note_method(self, method: Method) -> None:
        """Take a method with levels that were found anew; not a change of the study's meaning."""
        old, self.state = self.state, replace(self.state, method=method)
        self._made_with = {
            k: digest(method.of_regions) if v == digest(old.method.of_regions) else v
            for k, v in self._made_with.items()
        }

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

    # -- focus

    @property
    def entry(self) -> SampleEntry | None:
        """The focused sample."""
        return None if self.sample_id is None else self.state.entry(self.sample_id)

    @property
    def chosen(self) -> tuple[SampleEntry, ...]:
        """The focused sample and those chosen together with it, in their order."""
        ids = self.also | {self.sample_id}
        return tuple(entry for entry in self.state.samples if entry.id in ids)

    def choose_also(self, sample_ids: Iterable[int]) -> None:
        """Choose samples together with the focused one."""
        known = {entry.id for entry in self.state.samples}
        self.also = frozenset(sample_ids) & known
        self.focus_changed.emit()

    def focus(
        self,
        sample_id: int | None = None,
        channel: str | None = None,
        regions: Iterable[int] | None = None,
    ) -> None:
        """Focus a sample, a channel, regions; what is None stays, but a new sample has none."""
        moved = sample_id is not None and sample_id != self.sample_id
        other_channel = channel is not None and channel != self.channel
        if moved:
            self.sample_id = sample_id
            self.also = frozenset()
        if moved or regions is not None:
            self.elsewhere = {}
        if other_channel:
            self.channel = channel
        chosen = frozenset(regions) if regions is not None else self.regions
        if moved and regions is None:
            chosen = frozenset()
        selected = chosen != self.regions
        self.regions = chosen
        if moved or other_channel:
            self.focus_changed.emit()
        if selected or moved:
            self.selection_changed.emit()

    def selected_regions(self) -> dict[int, frozenset[int]]:
        """Return the chosen regions of every sample that has some."""
        own = {} if self.sample_id is None else {self.sample_id: self.regions}
        return {k: regions for k, regions in {**self.elsewhere, **own}.items() if regions}

    def named(self, sample: str) -> SampleEntry | None:
        """Return the sample of a name; None where there is none."""
        return next((entry for entry in self.state.samples if entry.name == sample), None)

    def chosen_by_name(self) -> dict[str, frozenset[int]]:
        """Return the chosen regions of every sample that has some, by its name."""
        chosen = self.selected_regions()
        return {self.state.entry(sample_id).name: own for sample_id, own in chosen.items()}

    def choose_by_name(self, chosen: Mapping[str, Iterable[int]], focus: str = "") -> None:
        """As `select_regions`, by the names of samples; unknown names are passed over."""
        ids = {entry.name: entry.id for entry in self.state.samples}
        known = {ids[name]: regions for name, regions in chosen.items() if name in ids}
        self.select_regions(known, ids.get(focus, self.sample_id))

    def select_regions(
        self, chosen: Mapping[int, Iterable[int]], sample_id: int | None = None
    ) -> None:
        """Choose regions of several samples, and focus one of these."""
        known = {k: frozenset(regions) for k, regions in chosen.items()}
        focus = sample_id if sample_id in known else next(iter(known), self.sample_id)
        elsewhere = {k: regions for k, regions in known.items() if k != focus and regions}
        before = self.selected_regions()
        self.focus(sample_id=focus, regions=known.get(focus or -1, frozenset()))
        self.elsewhere = elsewhere
        if self.selected_regions() != before:
            self.selection_changed.emit()

    @property
    def class_place(self) -> int:
        """Place of the region class that is worked on."""
        return min(self._class_place, len(self.state.method.outlines) - 1)

    @property
    def outline(self) -> Outline:
        """The region class that is worked on."""
        return self.state.method.outlines[self.class_place]

    def focus_class(self, place: int) -> None:
        """Work on another region class."""
        if place != self.class_place:
            self._class_place = place
            self.class_changed.emit()

    def set_reach(self, size: int) -> None:
        """Read the size × size pixels around the pointer; size is made odd and kept in range."""
        size = min(max(size, 1), LARGEST) | 1
        if size != self.reach:
            self.reach = size
            self.reach_changed.emit()

    def go_to(self, stage: str) -> None:
        """Visit a stage."""
        if stage != self.stage:
            self.stage = stage
            self.stage_changed.emit(stage)

    # -- picks

    def add_pick(self, x: int, y: int) -> None:
        """Pin a reading of the focused sample, with the neighbourhood that is read now."""
        entry = self.entry
        if entry is None:
            return
        picks = self.state.method.picks
        last = picks[-1] if picks else None
        pick = Pick(
            number=next_number(picks),
            # Several picks of a specimen are set one after the other.
            specimen=last.specimen if last is not None and last.sample == entry.name else "",
            x=x,
            y=y,
            size=self.reach,
            form=self.viewing.form,
            sample=entry.name,
        )
        self.set_picks(f"Set pick {pick.number}", (*picks, pick))

    def set_picks(self, text: str, picks: tuple[Pick, ...]) -> None:
        """Make these the picks, undoable."""
        self.change_method(text, self.state.method.changed(picks=picks))

    def change_picks(self, text: str, numbers: Iterable[int], **fields: Any) -> None:
        """Change some picks by their numbers."""
        wanted = set(numbers)
        self.set_picks(
            text,
            tuple(
                checked_copy(pick, **fields) if pick.number in wanted else pick
                for pick in self.state.method.picks
            ),
        )

    def remove_picks(self, numbers: Iterable[int]) -> None:
        """Remove picks by their numbers."""
        gone = set(numbers)
        kept = tuple(pick for pick in self.state.method.picks if pick.number not in gone)
        self.set_picks("Remove picks", kept)

    # -- exceptions of a sample

    def repair(self, patch: Repair) -> None:
        """Replace a patch of the focused sample, in the step for repairs."""
        entry, method = self.entry, self.state.method
        if entry is None:
            return
        use = next((use for use in method.steps if use.step == REPAIR_KEY), None)
        if use is None:
            # Repairs come before all else, so that no background is formed from a bad pixel.
            use = step_use("repair", REPAIR_KEY)
            method = method.changed(steps=(use, *method.steps))
        exception = method.exception_for(entry.name)
        known = exception.parameters.get(use.id, {}).get("repairs", ())
        repairs = [*known, patch.model_dump()]
        parameters = {**exception.parameters, use.id: {"repairs": repairs}}
        changed = SampleException(parameters=parameters, edits=exception.edits)
        self.change_method("Repair pixels", method.with_exception(entry.name, changed))

    def edit_regions(self, text: str, edits: Mapping[int, Iterable[HandEdit]]) -> None:
        """Change regions of samples by hand, as one change."""
        method = self.state.method
        for sample_id, own in edits.items():
            name = self.state.entry(sample_id).name
            exception = method.exception_for(name)
            changed = exception.model_copy(update={"edits": (*exception.edits, *own)})
            method = method.with_exception(name, changed)
        self.change_method(text, method)

    def restore_edited(self, text: str, kinds: Collection[str]) -> None:
        """Take back the edits by hand of some kinds in the focused sample."""
        entry = self.entry
        if entry is not None:
            exception = self.state.method.exception_for(entry.name)
            kept = tuple(edit for edit in exception.edits if edit.kind not in kinds)
            changed = exception.model_copy(update={"edits": kept})
            self.change_method(text, self.state.method.with_exception(entry.name, changed))

    # -- measurements

    def set_table(self, sample_id: int, table: RegionTable, method: Method) -> None:
        """Keep the measurements of a sample."""
        self.tables[sample_id] = table
        self._made_with[sample_id] = digest(method.of_regions)
        self._saved_tables = False

    @property
    def is_stale(self) -> bool:
        """Whether measurements are shown that the present method did not make."""
        now = digest(self.state.method.of_regions)
        return any(self._made_with.get(sample_id) != now for sample_id in self.tables)

    def ordered_tables(self) -> list[RegionTable]:
        """Return the measurements in the order of the samples, with groups and derived columns."""
        tables = [
            replace(self.tables[entry.id], group=entry.group)
            for entry in self.state.samples
            if entry.id in self.tables
        ]
        columns = self.state.method.measure.derived
        if not columns:
            return tables
        known = [(self.tables[e.id], e.group) for e in self.state.samples if e.id in self.tables]
        key = (columns, tuple((id(table), group) for table, group in known))
        if self._derived is None or self._derived[0] != key:
            self._derived = (key, with_derived(tables, columns))
        return list(self._derived[1])

    # -- file

    @property
    def has_unsaved(self) -> bool:
        """Whether something would be lost by closing."""
        return not self.undo_stack.isClean() or (bool(self.tables) and not self._saved_tables)

    def save(self, path: Path) -> None:
        """Write the study file. Raises FileUnreadable."""
        named = self.state
        if self.state.name == StudyState().name:
            named = replace(self.state, name=path.stem)
        current = {} if self.is_stale else self.tables
        save_study(named, path, current, self.history())
        self.state = named
        self.path = path
        self._saved_tables = True
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
        self.tables = tables
        self._made_with = dict.fromkeys(tables, digest(state.method.of_regions))
        self._saved_tables = True
        self.undo_stack.clear()
        self.earlier = ()
        self.viewing.choose(aspect=None)
        self._class_place = 0
        self.sample_id = state.samples[0].id if state.samples else None
        self.channel = None
        self.regions = self.also = frozenset()
        self.elsewhere = {}
        self.changed.emit(old, state)
        self.focus_changed.emit()
        self.selection_changed.emit()
        self.tables_changed.emit()
        self.file_changed.emit()
