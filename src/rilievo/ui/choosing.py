"""What is in focus next: samples, channels and regions one after another; groups; removal."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from rilievo.core.files.grouping import groups_for
from rilievo.ui.model import StudyModel
from rilievo.ui.workbench import Workbench

if TYPE_CHECKING:
    from rilievo.ui.window import Window


class Choosing:
    """Steps through what the study has, and changes which samples it has."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        self._model, self._bench = model, bench

    def step_sample(self, step: int) -> None:
        """Focus the next or the previous sample."""
        ids = [entry.id for entry in self._model.state.samples]
        if self._model.sample_id in ids:
            k = ids.index(self._model.sample_id) + step
            self._model.focus(sample_id=ids[k % len(ids)])

    def next_channel(self) -> None:
        """Show the next channel."""
        sample = self._bench.focused_sample
        if sample is not None:
            names = sample.channel_names
            now = names.index(self._bench.channel_for(sample))
            self._model.focus(channel=names[(now + 1) % len(names)])

    def step_region(self, step: int) -> None:
        """Select the next or the previous region."""
        regions = self._bench.focused_regions
        if regions is None or not regions.count:
            return
        ids = regions.ids.tolist()
        now = min(self._model.regions) if self._model.regions else (0 if step > 0 else ids[0])
        after = [i for i in ids if i > now] if step > 0 else [i for i in ids if i < now][::-1]
        self._model.focus(regions={after[0] if after else ids[0 if step > 0 else -1]})

    def add_class(self, window: Window, source: str) -> None:
        """Add a region class and work on it."""
        window.go_to("outline")
        window.outline_panel.classes.add_class(source)

    def group_by(self, by: Literal["name", "folder"]) -> None:
        """Assign all groups from file names or folders."""
        entries = self._model.state.samples
        guessed = groups_for([entry.path for entry in entries], by)
        groups = {entry.id: guess for entry, guess in zip(entries, guessed, strict=True)}
        self._model.change(f"Group by {by}", self._model.state.with_groups(groups))

    def remove_sample(self) -> None:
        """Take the chosen samples out of the study."""
        chosen = self._model.chosen
        if chosen:
            what = chosen[0].name if len(chosen) == 1 else f"{len(chosen)} samples"
            ids = [entry.id for entry in chosen]
            self._model.change(f"Remove {what}", self._model.state.without(ids))
