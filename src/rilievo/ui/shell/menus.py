"""The menu bar, made from the list of actions; what is enabled follows what can be done now."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtGui import QAction, QKeySequence, QUndoStack
from PyQt6.QtWidgets import QMainWindow, QMenu

from rilievo.ui.commands.action import Action
from rilievo.ui.commands.actions import MENUS
from rilievo.ui.commands.study_commands import StudyCommands


class Menus:
    """The actions of one window as Qt has them, by id."""

    def __init__(
        self, window: QMainWindow, actions: Sequence[Action], study: StudyCommands
    ) -> None:
        self._window, self.entries, self._study = window, actions, study
        self.actions: dict[str, QAction] = {}
        self.menus: dict[str, QMenu] = {}
        self._fill()

    def _fill(self) -> None:
        bar = self._window.menuBar()
        if bar is None:
            return
        for name in MENUS:
            menu = bar.addMenu(name)
            if menu is not None:
                self.menus[name] = menu
                menu.aboutToShow.connect(self.refresh)
        for entry in self.entries:
            menu = self.menus[entry.menu]
            if entry.gap:
                menu.addSeparator()
            self.actions[entry.id] = self._make(entry)
            menu.addAction(self.actions[entry.id])
            if entry.recent:
                recent = menu.addMenu("Recent studies")
                if recent is not None:
                    recent.aboutToShow.connect(partial(self._fill_recent, recent))

    def _make(self, entry: Action) -> QAction:
        action = QAction(entry.text, self._window)
        action.setToolTip(entry.tip)
        action.setCheckable(entry.checked is not None)
        if entry.shortcut:
            action.setShortcut(QKeySequence(entry.shortcut))
        action.triggered.connect(lambda _=False: entry.run())
        return action

    def _fill_recent(self, menu: QMenu) -> None:
        menu.clear()
        paths = self._study.recent()
        for path in paths:
            action = menu.addAction(f"{path.stem} – {path.parent}")
            if action is not None:
                action.triggered.connect(partial(self._open, path))
        if not paths:
            action = menu.addAction("No study yet")
            if action is not None:
                action.setEnabled(False)

    def _open(self, path: Path, _checked: bool = False) -> None:
        self._study.open_study(path)

    def refresh(self) -> None:
        """Enable what can be done now."""
        for entry in self.entries:
            action = self.actions[entry.id]
            action.setEnabled(entry.enabled())
            if entry.checked is not None:
                action.setChecked(entry.checked())

    def name_undo(self, stack: QUndoStack) -> None:
        """Say what undo and redo would do."""
        for action_id, text in (
            ("edit.undo", f"Undo: {stack.undoText()}" if stack.canUndo() else "Undo"),
            ("edit.redo", f"Redo: {stack.redoText()}" if stack.canRedo() else "Redo"),
        ):
            self.actions[action_id].setText(text)
