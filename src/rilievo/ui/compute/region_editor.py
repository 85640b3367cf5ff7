"""Regions drawn and changed by hand: where the tools on the picture hand over what they made."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.regions.shape import Shape
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.drawn_regions import DrawnRegions
from rilievo.ui.compute.hand_edits import HandEdits
from rilievo.ui.compute.threshold_picks import ThresholdPicks
from rilievo.ui.session.study_session import StudySession


class RegionEditor(QObject):
    """drawn : drawn regions. by_hand : edits of found ones. picks : pixels for a threshold."""

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(
        self, session: StudySession, compute: Compute, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self.drawn = DrawnRegions(session, compute, self)
        self.by_hand = HandEdits(session, compute, self.drawn, self)
        self.picks = ThresholdPicks(session, compute, self)
        for part in (self.drawn, self.by_hand, self.picks):
            part.changed.connect(self.changed)
        for speaker in (self.drawn, self.picks):
            speaker.refused.connect(self.refused)

    def take(self, tool: str, shape: Shape) -> None:
        """Take what a tool drew."""
        if tool == "cut":
            self.by_hand.cut(shape)
        elif tool == "redraw":
            self.by_hand.redraw(shape)
        elif tool == "edit" or (tool == "brush" and self.drawn.painted is not None):
            self.drawn.put_shape(shape)
        else:
            self.drawn.add(tool, shape)

    def click(self, tool: str, x: int, y: int) -> None:
        """Take a pixel of the file that was clicked with a tool."""
        if tool == "flood":
            self.drawn.add(tool, self.drawn.flood_at(x, y))
        else:
            self.picks.pick(x, y, inside=tool == "pick_inside")
