"""What the actions of Outline do beside editing regions: new classes, edits taken back."""

from __future__ import annotations

from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.session.sample_edits import restore_edited
from rilievo.ui.stages.outline.classes_card import ClassesCard


class OutlineCommands:
    """Works on the region classes of the method."""

    def __init__(self, context: CommandContext, classes: ClassesCard) -> None:
        self._session, self._classes = context.session, classes

    def add_class(self, source: str) -> None:
        """Add a region class and work on it."""
        self._session.go_to("outline")
        self._classes.add_class(source)

    def restore_rejected(self) -> None:
        """Take back every rejection by hand in the focused sample."""
        restore_edited(self._session, "Restore rejected regions", ("reject",))
