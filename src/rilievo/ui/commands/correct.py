"""What the actions of Correct do: pictures of single steps, files of them, history, memory."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QSettings

from rilievo.core.files.ome_writer import is_ome_name, write_ome
from rilievo.core.files.sample_ref import labelled
from rilievo.core.files.writer import write_plane
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method
from rilievo.core.method.step_edits import truncate_at
from rilievo.core.pipeline.analysis_cache import DEFAULT_BUDGET
from rilievo.core.pipeline.calibration_points import points_from_picks
from rilievo.core.pipeline.thumbnails import Aspect
from rilievo.core.regions.label_image import label_numbers
from rilievo.core.report.common_light import LightOfSamples, light_of
from rilievo.core.signal.steps import STEPS
from rilievo.core.study.history import history_frame
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.stages.correct.correct_panel import CorrectPanel

BUDGETS = (500_000_000, 1_000_000_000, DEFAULT_BUDGET, 4_000_000_000, 8_000_000_000)
_PLANES = (
    "TIFF (*.tif);;OME-TIFF (*.ome.tif);;OME-Zarr (*.ome.zarr);;FITS (*.fits);;NumPy array (*.npy)"
)
_OME = "OME-TIFF (*.ome.tif);;OME-Zarr (*.ome.zarr)"


class CorrectCommands:
    """Works on the step whose card is open."""

    def __init__(self, context: CommandContext, panel: CorrectPanel) -> None:
        self._context, self._panel = context, panel
        self._session, self._compute = context.session, context.compute
        kept = QSettings().value("memory for results")
        if kept is not None and str(kept).isdigit():
            self._compute.cache.budget = int(str(kept))

    def add_step(self) -> None:
        """Go where steps are and open their list."""
        self._session.go_to("correct")
        self._panel.choose_step()

    def take_points(self, step_id: str) -> None:
        """Fill the points of a calibration from the picks of the focused sample."""
        sample, entry = self._compute.store.focused, self._session.focus.entry
        if sample is None or entry is None:
            return
        analysis, channel = (
            self._compute.store.analysis(entry.id),
            self._compute.store.channel_for(sample),
        )
        self._compute.jobs.run(
            f"points {step_id}",
            lambda: points_from_picks(analysis, step_id, channel),
            lambda points: self._panel.set_parameter(step_id, "points", points),
            self._context.warn_of,
        )

    # -- looking at a step

    @property
    def step_id(self) -> str | None:
        """The step whose card is open."""
        use = self._panel.editor.active_use
        return None if use is None else use.id

    @property
    def has_background(self) -> bool:
        """Whether the open card's step estimates a background."""
        use = self._panel.editor.active_use
        return use is not None and STEPS[use.step].estimate is not None

    def look(self, aspect: Aspect) -> None:
        """Show the open card's step by itself, or the whole method again."""
        if self.step_id is None:
            return
        shown = self._session.view.aspect == (self.step_id, aspect)
        self._panel.editor.look_at(self.step_id, None if shown else aspect)

    def can_look(self, aspect: Aspect) -> bool:
        """Whether the open card's step has that to be shown."""
        return self.step_id is not None and (aspect != "background" or self.has_background)

    def looks_at(self, aspect: Aspect) -> bool:
        """Whether that is shown."""
        return self._compute.displayed.aspect == (self.step_id, aspect)

    # -- files

    def ask_background(self) -> None:
        """Choose a name for the background of the open card's step."""
        if self.step_id is not None and self.has_background:
            method = truncate_at(self._session.state.method, self.step_id, background=True)
            self._ask_plane("Save background", "background", method)

    def ask_signal(self) -> None:
        """Choose a name for the corrected picture."""
        self._ask_plane("Save corrected picture", "corrected", self._compute.displayed.method)

    def _ask_plane(self, title: str, what: str, method: Method) -> None:
        entry = self._session.focus.entry
        if entry is None:
            return
        name = f"{entry.name} {self._session.focus.channel} {what}.tif".replace("/", "-")
        path = self._context.dialogs.ask_name(title, name, _PLANES)
        if path is not None:
            self.save_plane(path, method)

    def save_plane(self, path: Path, method: Method) -> None:
        """Write the focused channel under a method as floats."""
        sample, entry = self._compute.store.focused, self._session.focus.entry
        if sample is None or entry is None:
            return
        channel = self._compute.store.channel_for(sample)
        analysis = self._compute.store.analysis(entry.id, method)
        self._context.write(path, lambda: write_plane(path, analysis.signal(channel), channel))

    def ask_light(self) -> None:
        """Ask for the dark level, then for a name of the frame with the light of all samples."""
        text = self._context.dialogs.ask_text(
            "Light from all samples", "Counts without light, such as 100 (0 where not known):"
        )
        if text is None:
            return
        try:
            dark = float(text.strip().replace(",", "."))
        except ValueError:
            self._context.notices.warn(f"“{text}” is no number of counts.")
            return
        channel = self._session.focus.channel or ""
        name = f"light {channel}.tif".replace("/", "-")
        path = self._context.dialogs.ask_name("Save the light as a frame", name, _PLANES)
        if path is not None:
            self.take_light(path, dark)

    def take_light(self, path: Path, dark: float) -> None:
        """Estimate the light of all samples, write it, and divide the channel by it first of all.

        dark : counts without light, which a step takes off before.
        """
        items, channel = labelled(self._session.state.samples), self._session.focus.channel or ""

        def work(report: Callable[[float], None]) -> LightOfSamples:
            found = light_of(items, channel, "flat", dark, report)
            write_plane(path, found.plane, channel)
            return found

        def done(found: LightOfSamples) -> None:
            flat = {"files": [{"file": str(path.absolute())}]}
            added: list[tuple[str, dict[str, Any]]] = [("frames.flat", {"flat": flat})]
            if dark:
                level = {"operation": "subtract", "number": dark}
                added.insert(0, ("arithmetic.number", level))
            method = self._session.state.method
            for place, (key, fields) in enumerate(added):
                method, step_id = step_edits.added(method, key, **fields)
                method = step_edits.with_use(method, step_id, channels=(channel,))
                method = step_edits.moved(method, step_id, place)
            self._session.change_method("Divide by the light of all samples", method)
            left = f" Left out: {', '.join(found.left_out)}." if found.left_out else ""
            self._context.notices.tell(f"{found.light.sentence()}{left}")

        self._context.compute.awaited.run(
            "light",
            f"Looking for the light of {len(items)} samples",
            work,
            done,
            self._context.warn_of,
            stopped=lambda: self._context.notices.tell("Looking for the light was stopped."),
        )

    def ask_ome(self) -> None:
        """Choose a name for all channels and regions of the focused sample."""
        entry = self._session.focus.entry
        if entry is None:
            return
        name = f"{entry.name} measured.ome.tif".replace("/", "-")
        path = self._context.dialogs.ask_name("Save channels and regions", name, _OME)
        if path is not None:
            self.save_ome(path)

    def save_ome(self, path: Path) -> None:
        """Write all corrected channels, and the regions of all classes as label images."""
        sample, entry = self._compute.store.focused, self._session.focus.entry
        if sample is None or entry is None:
            return
        analysis = self._compute.store.analysis(entry.id)
        if not is_ome_name(path):
            path = path.with_name(f"{path.name}.ome.tif")

        def work() -> None:
            planes = {
                channel: analysis.signal(channel) for channel in analysis.sample.channel_names
            }
            labels = {
                name: label_numbers(analysis.regions(name)) for name in analysis.method.class_names
            }
            write_ome(path, planes, labels)

        self._context.write(path, work)

    def ask_history(self) -> None:
        """Choose a name for the history."""
        path = self._context.dialogs.ask_name("Save history", "history.csv", "CSV (*.csv)")
        if path is not None:
            self.save_history(path)

    def save_history(self, path: Path) -> None:
        """Write the history as CSV."""
        entries = self._session.history()
        self._context.write(path, lambda: history_frame(entries).write_csv(path))

    # -- memory

    def set_budget(self, budget: int) -> None:
        """Keep results up to so many bytes; remembered."""
        self._compute.store.set_budget(budget)
        QSettings().setValue("memory for results", budget)
        self._context.follow()
