"""How the window is arranged: what is folded away, where the Ridges lie, how it looks."""

from __future__ import annotations

from typing import Literal, Protocol

from rilievo.ui.commands.command_context import CommandContext

Part = Literal["cards", "ridges", "drawer"]
ThemeChoice = Literal["desktop", "paper", "night"]


class Arrangement(Protocol):
    """Where the parts of the window are."""

    def is_folded(self, part: Part) -> bool:
        """Whether a part is folded away to its edge."""

    def fold(self, part: Part, folded: bool) -> None:
        """Fold a part away, or bring it back as it was."""

    @property
    def picture_alone(self) -> bool:
        """Whether everything beside the picture is folded away."""

    def show_alone(self, alone: bool) -> None:
        """Show the picture alone, or bring back what was there before."""

    @property
    def ridges_below(self) -> bool:
        """Whether the Ridges lie below the picture."""

    def put_ridges(self, below: bool) -> None:
        """Put the Ridges below the picture, or below the cards."""


class Appearance(Protocol):
    """How the window looks."""

    @property
    def chosen(self) -> ThemeChoice:
        """The theme that was chosen."""

    def choose(self, chosen: ThemeChoice) -> None:
        """Put a theme in force and remember it."""

    @property
    def text_percent(self) -> int:
        """How large texts are."""

    def choose_text(self, percent: int) -> None:
        """Make texts larger or smaller, and remember it."""


class ArrangementCommands:
    """Folds, and the look of the window; no study depends on any of it."""

    def __init__(
        self, context: CommandContext, arrangement: Arrangement, appearance: Appearance
    ) -> None:
        self._context = context
        self.arrangement, self.appearance = arrangement, appearance

    def toggle_fold(self, part: Part) -> None:
        """Fold a part away, or bring it back."""
        self.arrangement.fold(part, not self.arrangement.is_folded(part))
        self._context.follow()

    def toggle_alone(self) -> None:
        """Show the picture alone, or everything again."""
        self.arrangement.show_alone(not self.arrangement.picture_alone)
        self._context.follow()

    def toggle_ridges(self) -> None:
        """Put the Ridges below the picture, or back below the cards."""
        self.arrangement.put_ridges(not self.arrangement.ridges_below)
        self._context.follow()

    def choose_theme(self, chosen: ThemeChoice) -> None:
        """Put a theme in force."""
        self.appearance.choose(chosen)
        self._context.follow()

    def choose_text(self, percent: int) -> None:
        """Make texts larger or smaller."""
        self.appearance.choose_text(percent)
        self._context.follow()
