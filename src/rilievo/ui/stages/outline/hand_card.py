"""Regions by hand: accept, reject, give another class, cut, merge, redraw; region by region."""

from __future__ import annotations

from PyQt6.QtWidgets import QMenu, QPushButton, QToolButton

from rilievo.core.wording.lists import counted
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.session.sample_edits import restore_edited
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.widgets.card import Card, faint, side_by_side


class HandCard(Card):
    """Buttons for the selected regions, and what was done so far."""

    def __init__(self, session: StudySession, compute: Compute, editor: RegionEditor) -> None:
        super().__init__("By hand", fold="by hand", folded=True)
        self._session, self._compute, self._editor = session, compute, editor
        self.text = faint()
        self.add(self.text)
        self.accept = QPushButton("Accept")
        self.accept.setToolTip("Keep the selected regions, whatever the clean-up says (Y)")
        self.accept.clicked.connect(lambda: editor.by_hand.edit_selected("accept"))
        self.reject = QPushButton("Reject")
        self.reject.setToolTip("Leave the selected regions out (Delete)")
        self.reject.clicked.connect(lambda: editor.by_hand.edit_selected("reject"))
        self.merge = QPushButton("Merge")
        self.merge.setToolTip("Make one region of the selected ones (M)")
        self.merge.clicked.connect(lambda: editor.by_hand.edit_selected("merge"))
        self.cut = QPushButton("Cut …")
        self.cut.setToolTip("Draw a line across a region to part it (X)")
        self.cut.clicked.connect(lambda: session.view.use("cut"))
        self.redraw = QPushButton("Redraw …")
        self.redraw.setToolTip("Draw the outline of the selected region anew")
        self.redraw.clicked.connect(lambda: session.view.use("redraw"))
        self.give = QToolButton()
        self.give.setText("Give class ▾")
        self.give.setToolTip("Make the selected regions regions of another class")
        self.give.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.give.setMenu(self.menu)
        self.add(side_by_side(self.accept, self.reject, self.merge, stretch=True))
        self.add(side_by_side(self.cut, self.redraw, self.give, stretch=True))
        self.restore = QPushButton("Take back all edits by hand")
        self.restore.setProperty("role", "link")
        self.restore.clicked.connect(
            lambda: restore_edited(
                session,
                "Take back edits by hand",
                ("reject", "accept", "reclassify", "redraw", "cut", "merge"),
            )
        )
        self.add(self.restore)

    def _fill_menu(self) -> None:
        self.menu.clear()
        for name in self._session.state.method.class_names:
            if name != self._session.focus.outline.region_class:
                self.menu.addAction(name, lambda name=name: self._editor.by_hand.give_class(name))
        if self.menu.isEmpty():
            action = self.menu.addAction("Add a second class first")
            if action is not None:
                action.setEnabled(False)

    def refresh(self) -> None:
        """Show what is selected and what was done."""
        drawn = self._session.focus.outline.source == "drawn"
        self.setVisible(not drawn)
        chosen = len(self._session.focus.regions)
        for button in (self.reject, self.give):
            button.setEnabled(chosen > 0)
        self.accept.setEnabled(chosen > 0 or self._editor.by_hand.left_out is not None)
        self.redraw.setEnabled(chosen == 1)
        self.merge.setEnabled(chosen > 1)
        entry = self._session.focus.entry
        edits = self._session.state.method.exception_for(entry.name).edits if entry else ()
        self.restore.setVisible(bool(edits))
        self.restore.setText(f"Take back {counted(len(edits), 'edit')} by hand")
        self.text.setText(self._said(chosen))
        done = counted(len(edits), "edit") if edits else "nothing changed"
        self.set_summary(f"{chosen} selected" if chosen else done)

    def _said(self, chosen: int) -> str:
        regions, left_out = self._compute.regions.focused, self._editor.by_hand.left_out
        if not chosen and left_out is not None and regions is not None:
            reason = regions.reason_at(*left_out)
            return f"Left out: {reason}. Accept takes the region back." if reason else ""
        if not chosen:
            return (
                "Click selects a region, Ctrl-click several; N and P step through them. What was "
                "left out is drawn pale; the status line says why."
            )
        labels = [
            self._editor.by_hand.label_of(region)
            for region in sorted(self._session.focus.regions)[:8]
        ]
        return f"Selected: {', '.join(labels)}."
