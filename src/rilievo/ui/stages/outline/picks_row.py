"""A threshold by picks: pixels inside and outside, and what parts them best."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.widgets.card import faint, side_by_side


class PicksRow(QWidget):
    """Buttons for both kinds of picks; the proposal with its share of picks on the right side."""

    def __init__(self, session: StudySession, editor: RegionEditor) -> None:
        super().__init__()
        self._session, self._editor = session, editor
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        self.inside, self.outside = QPushButton("Pick inside"), QPushButton("Pick outside")
        for button, tool, tip in (
            (self.inside, "pick_inside", "Click pixels that belong to the objects"),
            (self.outside, "pick_outside", "Click pixels that do not belong to them"),
        ):
            button.setCheckable(True)
            button.setToolTip(f"{tip}; click one again to remove it")
            button.clicked.connect(lambda _, tool=tool: session.view.use(tool))
        self.use = QPushButton("Use")
        self.use.setToolTip("Set the threshold, or the ranges, that part the picks best")
        self.use.clicked.connect(editor.picks.propose)
        self.clear = QPushButton("Clear")
        self.clear.clicked.connect(editor.picks.clear)
        layout.addWidget(
            side_by_side(self.inside, self.outside, self.use, self.clear, stretch=True)
        )
        self.text = faint()
        layout.addWidget(self.text)

    def refresh(self) -> None:
        """Show the picks of the class in focus."""
        picks = self._session.focus.outline.picks
        tool = self._session.view.tool
        self.inside.setChecked(tool == "pick_inside")
        self.outside.setChecked(tool == "pick_outside")
        inside = sum(1 for pick in picks if pick.inside)
        self.use.setEnabled(0 < inside < len(picks))
        self.clear.setEnabled(bool(picks))
        text = "Or pick a few pixels inside objects and a few outside."
        if picks:
            text = f"{inside} inside, {len(picks) - inside} outside."
            if self._editor.picks.right is not None:
                text += f" {100 * self._editor.picks.right:.0f} % lie on the right side."
        self.text.setText(text)
