"""What is in focus next: samples, channels and regions one after another; groups; removal."""

from __future__ import annotations

from typing import Literal

from rilievo.core.files.grouping import groups_for
from rilievo.ui.commands.command_context import CommandContext


class SelectionCommands:
    """Steps through what the study has, and changes which samples it has."""

    def __init__(self, context: CommandContext) -> None:
        self._session, self._compute = context.session, context.compute

    def step_sample(self, step: int) -> None:
        """Focus the next or the previous sample."""
        ids = [entry.id for entry in self._session.state.samples]
        if self._session.focus.sample_id in ids:
            k = ids.index(self._session.focus.sample_id) + step
            self._session.focus.set(sample_id=ids[k % len(ids)])

    def show_next_channel(self) -> None:
        """Show the next channel."""
        sample = self._compute.store.focused
        if sample is not None:
            names = sample.channel_names
            now = names.index(self._compute.store.channel_for(sample))
            self._session.focus.set(channel=names[(now + 1) % len(names)])

    def step_region(self, step: int) -> None:
        """Select the next or the previous region."""
        regions, focus = self._compute.regions.focused, self._session.focus
        if regions is None or not regions.count:
            return
        ids = regions.ids.tolist()
        now = min(focus.regions) if focus.regions else (0 if step > 0 else ids[0])
        after = [i for i in ids if i > now] if step > 0 else [i for i in ids if i < now][::-1]
        focus.set(regions={after[0] if after else ids[0 if step > 0 else -1]})

    def group_by(self, by: Literal["name", "folder"]) -> None:
        """Assign all groups from file names or folders."""
        entries = self._session.state.samples
        guessed = groups_for([entry.path for entry in entries], by)
        groups = {entry.id: guess for entry, guess in zip(entries, guessed, strict=True)}
        self._session.change(f"Group by {by}", self._session.state.with_groups(groups))

    def remove_samples(self) -> None:
        """Take the chosen samples out of the study."""
        chosen = self._session.focus.chosen
        if chosen:
            what = chosen[0].name if len(chosen) == 1 else f"{len(chosen)} samples"
            ids = [entry.id for entry in chosen]
            self._session.change(f"Remove {what}", self._session.state.without(ids))
