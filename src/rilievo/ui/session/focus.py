"""What is worked on now: sample, channel, regions, region class, neighbourhood."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.image.neighbourhood import LARGEST
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.study.study import SampleEntry, StudyState


class Focus(QObject):
    """The focused sample with its channel and regions; one selection for the whole window.

    Regions of other samples that are chosen together with it are in `elsewhere`.
    """

    changed = pyqtSignal()  # another sample or channel
    regions_changed = pyqtSignal()
    class_changed = pyqtSignal()
    reach_changed = pyqtSignal()

    def __init__(self, state: Callable[[], StudyState], parent: QObject | None = None) -> None:
        """state : gives the study as it is now."""
        super().__init__(parent)
        self._state = state
        self.sample_id: int | None = None
        self.channel: str | None = None
        self.regions: frozenset[int] = frozenset()
        self.elsewhere: dict[int, frozenset[int]] = {}
        self.also: frozenset[int] = frozenset()
        self.reach = 1
        self._class_index = 0

    # -- samples

    @property
    def entry(self) -> SampleEntry | None:
        """The focused sample."""
        return None if self.sample_id is None else self._state().entry(self.sample_id)

    @property
    def chosen(self) -> tuple[SampleEntry, ...]:
        """The focused sample and those chosen together with it, in their order."""
        ids = self.also | {self.sample_id}
        return tuple(entry for entry in self._state().samples if entry.id in ids)

    def choose_also(self, sample_ids: Iterable[int]) -> None:
        """Choose samples together with the focused one."""
        known = {entry.id for entry in self._state().samples}
        self.also = frozenset(sample_ids) & known
        self.changed.emit()

    def set(
        self,
        sample_id: int | None = None,
        channel: str | None = None,
        regions: Iterable[int] | None = None,
    ) -> None:
        """Focus on a sample, a channel, regions; what is None stays, but a new sample has none."""
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
            self.changed.emit()
        if selected or moved:
            self.regions_changed.emit()

    def selected_regions(self) -> dict[int, frozenset[int]]:
        """Return the chosen regions of every sample that has some."""
        own = {} if self.sample_id is None else {self.sample_id: self.regions}
        return {k: regions for k, regions in {**self.elsewhere, **own}.items() if regions}

    def chosen_by_name(self) -> dict[str, frozenset[int]]:
        """Return the chosen regions of every sample that has some, by its name."""
        chosen = self.selected_regions()
        return {self._state().entry(sample_id).name: own for sample_id, own in chosen.items()}

    def choose_by_name(self, chosen: Mapping[str, Iterable[int]], focus: str = "") -> None:
        """As `select_regions`, by the names of samples; unknown names are passed over."""
        ids = {entry.name: entry.id for entry in self._state().samples}
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
        self.set(sample_id=focus, regions=known.get(focus or -1, frozenset()))
        self.elsewhere = elsewhere
        if self.selected_regions() != before:
            self.regions_changed.emit()

    # -- class and neighbourhood

    @property
    def class_index(self) -> int:
        """Index of the region class that is worked on."""
        return min(self._class_index, len(self._state().method.outlines) - 1)

    @property
    def outline(self) -> ClassDefinition:
        """The region class that is worked on."""
        return self._state().method.outlines[self.class_index]

    def set_class(self, index: int) -> None:
        """Work on another region class."""
        if index != self.class_index:
            self._class_index = index
            self.class_changed.emit()

    def set_reach(self, size: int) -> None:
        """Read the size × size pixels around the pointer; size is made odd and kept in range."""
        size = min(max(size, 1), LARGEST) | 1
        if size != self.reach:
            self.reach = size
            self.reach_changed.emit()

    # -- following the study

    def keep_to(self, state: StudyState) -> bool:
        """Leave a sample that the study no longer has; return whether it was in focus."""
        ids = {entry.id for entry in state.samples}
        if self.sample_id in ids:
            return False
        self._leave(state)
        return True

    def begin_at(self, state: StudyState) -> None:
        """Stand at the first sample of another study."""
        self._class_index = 0
        self.channel = None
        self._leave(state)

    def _leave(self, state: StudyState) -> None:
        self.sample_id = state.samples[0].id if state.samples else None
        self.regions = self.also = frozenset()
        self.elsewhere = {}
