"""The Help menu: guide, first measurement, keys, versions, reporting a problem."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QWidget

from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.help.guide_window import GuideWindow
from rilievo.ui.help.help_dialogs import AboutDialog, ProblemDialog, Row, ShortcutSheet


class HelpCommands:
    """Opens what explains the program, in windows beside this one."""

    def __init__(
        self,
        context: CommandContext,
        window: QWidget,
        keys: Callable[[], Sequence[Row]],
        walk: Callable[[], None],
        ask: Callable[[], None],
    ) -> None:
        """keys : all actions with theirs. walk : begins the first measurement. ask : has a part of
        the window pointed at, which is then explained.
        """
        self._session, self._window = context.session, window
        self._keys = keys
        self.begin_walk, self.ask_what = walk, ask
        self._guide: GuideWindow | None = None
        self.dialog: QWidget | None = None

    @property
    def guide(self) -> GuideWindow:
        """The guide, made when it is first wanted."""
        if self._guide is None:
            self._guide = GuideWindow(self._window)
        return self._guide

    def open_guide(self) -> None:
        """Show the guide at the present stage."""
        self.guide.open_at("guide", self._session.stage.capitalize())

    def open_topic(self, topic: str) -> None:
        """Show the guide at a topic: page#heading."""
        page, _, heading = topic.partition("#")
        self.guide.open_at(page, heading)

    def open_keys(self) -> None:
        """Show all keys."""
        self._open(ShortcutSheet(self._keys(), self._window))

    def open_about(self) -> None:
        """Show versions and licences."""
        self._open(AboutDialog(self._window))

    def open_problem(self) -> None:
        """Collect what a report of a problem needs."""
        self._open(ProblemDialog(self._window))

    def close(self) -> None:
        """Close what is open: the window goes."""
        for window in (self._guide, self.dialog):
            if window is not None:
                window.close()
                window.deleteLater()
        self._guide = self.dialog = None

    def _open(self, dialog: QWidget) -> None:
        if self.dialog is not None:
            self.dialog.close()
            self.dialog.deleteLater()
        self.dialog = dialog
        dialog.show()
        dialog.raise_()
