"""Watching a folder: begun by choosing one, ended by asking again."""

from __future__ import annotations

from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.compute.folder_watcher import FolderWatcher


class WatchCommands:
    """One folder at a time."""

    def __init__(self, context: CommandContext, watcher: FolderWatcher) -> None:
        self._context, self._watcher = context, watcher

    @property
    def is_watching(self) -> bool:
        """Whether a folder is watched."""
        return self._watcher.folder is not None

    def toggle(self) -> None:
        """Choose a folder to watch, or stop watching."""
        if self.is_watching:
            self._watcher.stop()
            return
        folder = self._context.dialogs.ask_folder("Watch a folder")
        if folder is not None:
            self._watcher.start(folder)
