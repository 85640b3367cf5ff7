"""How one looks: tools, layout, overlays, the split line, views that are copied."""

from __future__ import annotations

from rilievo.core.study.study import OwnView
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.session.view_settings import Tool


class ViewCommands:
    """Changes how the study is looked at; no number depends on any of it."""

    def __init__(self, context: CommandContext) -> None:
        self._context = context
        self._session, self._view = context.session, context.session.view
        self.copied_view: OwnView | None = None

    def use_tool(self, tool: Tool) -> None:
        """Take a tool into hand, or put it away."""
        self._view.use(tool)

    def toggle(self, name: str) -> None:
        """Switch something that is shown on or off."""
        self._view.choose(**{name: not getattr(self._view, name)})

    def toggle_form(self) -> None:
        """Read a disc instead of a square, or the other way round."""
        self._view.choose(form="disc" if self._view.form == "square" else "square")

    def toggle_on_pictures(self, word: str) -> None:
        """Put something on saved pictures, or leave it out."""
        self._view.choose(on_pictures=self._view.on_pictures ^ {word})

    def change_reach(self, by: int) -> None:
        """Read a larger or a smaller neighbourhood."""
        self._session.focus.set_reach(self._session.focus.reach + by)

    def remove_line(self) -> None:
        """Take the profile line away."""
        self._view.choose(line=None, tool="point")

    # -- split line

    def split_with_next(self) -> None:
        """Set the focused sample beside another, each time the one after."""
        focused = self._session.focus.sample_id
        others = [e.id for e in self._session.state.samples if e.id != focused]
        if not others:
            self._context.notices.tell(
                "A split line needs a second sample; Shift+S splits with plain gray."
            )
            return
        k = others.index(self._view.split) + 1 if self._view.split in others else 0
        self._view.choose(split=others[k % len(others)], layout_kind="one")

    def split_with_plain(self) -> None:
        """Set the picture beside its plain view."""
        self._view.choose(split=0, layout_kind="one")

    # -- copied views

    def copy_view(self) -> None:
        """Keep how the focused sample is shown."""
        state, sample_id = self._session.state, self._session.focus.sample_id
        own = state.own_views.get(sample_id or 0)
        self.copied_view = own or OwnView(dict(state.ranges), dict(state.styles))
        self._context.follow()

    def paste_view(self) -> None:
        """Show the chosen samples as the one whose view was copied."""
        if self.copied_view is None:
            return
        state = self._session.state
        for entry in self._session.focus.chosen:
            state = state.with_own_view(entry.id, self.copied_view)
        self._session.change("Use copied view", state)
