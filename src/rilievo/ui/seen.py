"""Which picture is seen: of the whole method, or of one step by itself; where its pixels lie."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.image.image import Plane, unplaced
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method
from rilievo.core.pipeline.thumbnails import Aspect

if TYPE_CHECKING:
    from rilievo.ui.workbench import Workbench


class Seen(QObject):
    """What the picture shows of the study, as far as it is known now; computes nothing."""

    ends_changed = pyqtSignal()

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self._bench = bench
        # Display ranges of single steps: (channel, (step id, what of it)) → range.
        self._ends: dict[tuple[str, tuple[str, Aspect]], tuple[float, float]] = {}
        self._upto: tuple[Method, tuple[str, Aspect], Method] | None = None

    def ends(self, channel: str) -> tuple[float, float] | None:
        """Return the display range of a step by itself; None when the whole method is seen."""
        return None if self.aspect is None else self._ends.get((channel, self.aspect))

    @property
    def aspect(self) -> tuple[str, Aspect] | None:
        """The step that is looked at by itself, and what of it; only in Correct."""
        aspect = self._bench.model.viewing.aspect
        if aspect is None or self._bench.model.stage != "correct":
            return None
        known = any(use.id == aspect[0] and use.on for use in self._bench.model.state.method.steps)
        return aspect if known else None

    @property
    def method(self) -> Method:
        """The method of which the result is shown: all of it, or up to a step."""
        method, aspect = self._bench.model.state.method, self.aspect
        if aspect is None:
            return method
        if self._upto is None or self._upto[0] is not method or self._upto[1] != aspect:
            what = aspect[1]
            upto = step_edits.upto(
                method, aspect[0], before=what == "before", background=what == "background"
            )
            self._upto = (method, aspect, upto)
        return self._upto[2]

    def note_ends(
        self, channel: str, aspect: tuple[str, Aspect], ends: tuple[float, float]
    ) -> None:
        """Remember the range that suits what a step is shown as."""
        changed = self._ends.get((channel, aspect)) != ends
        self._ends[channel, aspect] = ends
        if changed and aspect == self.aspect:
            self.ends_changed.emit()

    def set_ends(self, channel: str, ends: tuple[float, float]) -> None:
        """Show a step by itself over another range; not part of the study."""
        if self.aspect is not None:
            self.note_ends(channel, self.aspect, ends)

    def frame_of(self, sample_id: int) -> Plane:
        """Return a plane with the size, calibration and placement of what is shown of a sample."""
        sample = self._bench.samples[sample_id]
        if not self._bench.shows_signal():
            return sample.channels[self._bench.channel_for(sample)]
        named = sample.renamed(self._bench.model.state.entry(sample_id).name)
        return self._bench.evaluator.peek_moved(named, self._bench.channel_for(sample), self.method)

    def plane(self, sample_id: int, channel: str) -> Plane | None:
        """Return what is shown of a channel if it is computed: native in Look, then the signal."""
        sample = self._bench.samples[sample_id]
        if channel not in sample.channels:
            return None
        if not self._bench.shows_signal():
            return sample.channels[channel]
        named = sample.renamed(self._bench.model.state.entry(sample_id).name)
        if not self.method.steps_for(named.name, channel):
            return sample.channels[channel]
        return self._bench.evaluator.peek_signal(named, channel, self.method)

    def file_pixel(self, x: int, y: int) -> tuple[int, int]:
        """Return which pixel of the file lies at a pixel of the focused picture."""
        sample_id = self._bench.model.sample_id
        if sample_id is None or sample_id not in self._bench.samples:
            return x, y
        frame = self.frame_of(sample_id)
        from_x, from_y = unplaced(frame.placement, x, y)
        return round(from_x), round(from_y)
