"""Blinding a study and unblinding it again."""

from __future__ import annotations

from rilievo.core.errors import StudyError
from rilievo.ui.commands.command_context import CommandContext


class BlindingCommands:
    """Hides what tells samples apart while they are worked on, and shows it again when asked."""

    def __init__(self, context: CommandContext) -> None:
        self._context, self._session = context, context.session

    def blind(self) -> None:
        """Give samples codes for names, in a random order, without groups and attributes."""
        try:
            self._session.blind()
        except StudyError as exc:
            self._context.notices.warn(str(exc))
            return
        self._context.notices.tell(
            "Names, groups, files and attributes are hidden, and samples stand in a random order. "
            "The changes before cannot be undone any more."
        )

    def unblind(self) -> None:
        """Show everything again, once that was confirmed."""
        if self._context.dialogs.ask_unblinding():
            self._session.unblind()
            self._context.notices.tell("The study is unblinded; its history says when.")
