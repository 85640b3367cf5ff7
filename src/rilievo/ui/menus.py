"""The menu bar, made from the registry of actions."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from rilievo.ui.actions import ACTIONS, MENUS, Action

if TYPE_CHECKING:
    from rilievo.ui.window import Window


def build_menus(window: Window) -> dict[str, QAction]:
    """Fill the window's menu bar; return the actions by their id."""
    bar = window.menuBar()
    if bar is None:
        return {}
    menus: dict[str, QMenu] = {}
    for name in MENUS:
        menu = bar.addMenu(name)
        if menu is not None:
            menus[name] = menu
            menu.aboutToShow.connect(window.refresh_actions)
    actions = {}
    for entry in ACTIONS:
        menu = menus[entry.menu]
        if entry.gap:
            menu.addSeparator()
        actions[entry.id] = _make(window, entry)
        menu.addAction(actions[entry.id])
        if entry.id == "study.open":
            recent = menu.addMenu("Recent studies")
            if recent is not None:
                recent.aboutToShow.connect(partial(_fill_recent, window, recent))
    window.header.title.setMenu(menus["Study"])
    return actions


def _make(window: Window, entry: Action) -> QAction:
    action = QAction(entry.text, window)
    action.setToolTip(entry.tip)
    action.setCheckable(entry.checked is not None)
    if entry.shortcut:
        action.setShortcut(QKeySequence(entry.shortcut))
    action.triggered.connect(lambda _=False: entry.run(window))
    return action


def _fill_recent(window: Window, menu: QMenu) -> None:
    menu.clear()
    paths = window.files.recent()
    for path in paths:
        action = menu.addAction(f"{path.stem} – {path.parent}")
        if action is not None:
            action.triggered.connect(partial(_open, window, path))
    if not paths:
        action = menu.addAction("No study yet")
        if action is not None:
            action.setEnabled(False)


def _open(window: Window, path: Path, _checked: bool = False) -> None:
    window.files.open_study(path)
