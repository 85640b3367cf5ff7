"""Pixels picked inside and outside, and the threshold that parts them best."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.method.class_definition import OutlinePick, ThresholdUse
from rilievo.core.pipeline.threshold_from_picks import ColourProposal, Proposal, proposed
from rilievo.core.regions.thresholds.colour import ColourRanges
from rilievo.core.wording.numbers import rounded
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession


class ThresholdPicks(QObject):
    """Works on the picks of the class in focus.

    right : the share of picks that the last proposal puts on the right side.
    """

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(
        self, session: StudySession, compute: Compute, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._compute = session, compute
        self.right: float | None = None

    def pick(self, x: int, y: int, *, inside: bool) -> None:
        """Add a pick; one that is there already goes away."""
        entry = self._session.focus.entry
        if entry is None:
            return
        picks = self._session.focus.outline.picks
        near = [p for p in picks if p.sample == entry.name and abs(p.x - x) + abs(p.y - y) <= 2]
        if near:
            kept = tuple(p for p in picks if p not in near)
            self._compute.session.change_class("Remove a pick", picks=kept)
        else:
            pick = OutlinePick(x=x, y=y, inside=inside, sample=entry.name)
            self._compute.session.change_class("Pick a pixel", picks=(*picks, pick))
        self._weigh(use=False)

    def clear(self) -> None:
        """Remove all picks."""
        self._compute.session.change_class("Clear picks", picks=())
        self.right = None
        self.changed.emit()

    def propose(self) -> None:
        """Set the threshold, or the ranges, that part the picks best."""
        self._weigh(use=True)

    def _weigh(self, *, use: bool) -> None:
        """Find what parts the picks, in a thread; `use` sets the threshold by it."""
        index, outline = self._session.focus.class_index, self._session.focus.outline
        analyses = self._compute.store.analyses()

        def done(found: Proposal | ColourProposal | None) -> None:
            if self._session.focus.class_index != index:
                return
            self.right = found.right if found is not None else None
            if use and found is not None:
                self._take_proposal(found)
            self.changed.emit()

        self._compute.jobs.run(
            "threshold from picks",
            lambda: proposed(analyses, outline),
            done,
            lambda error: self.refused.emit(str(error)),
        )

    def _take_proposal(self, found: Proposal | ColourProposal) -> None:
        parameters = self._session.focus.outline.threshold.parameters
        if isinstance(found, ColourProposal):
            space = parameters.space if isinstance(parameters, ColourRanges) else "channels"
            self._set_threshold("colour", space=space, ranges=found.ranges)
            return
        facts = self._compute.queue.focused
        known = (
            facts.signal.get(self._compute.store.outline_channel or "")
            if facts is not None
            else None
        )
        span = known.highest - known.lowest if known is not None else 0.0
        self._set_threshold("hand", keep=found.keep, level=rounded(found.level, span))

    def _set_threshold(self, way: str, keep: str = "", **parameters: Any) -> None:
        use = ThresholdUse.model_validate({"way": way, "parameters": parameters})
        keep = keep or self._session.focus.outline.keep
        self._compute.session.change_class("Threshold by picks", threshold=use, keep=keep)
