"""What the actions of Correct do: pictures of single steps, files of them, history, memory."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QSettings

from rilievo.core.files.writer import write_plane
from rilievo.core.method.method import Method
from rilievo.core.method.step_edits import upto
from rilievo.core.pipeline.calibration_points import points_from_picks
from rilievo.core.pipeline.evaluator import DEFAULT_BUDGET
from rilievo.core.pipeline.thumbnails import Aspect
from rilievo.core.signal.steps import STEPS
from rilievo.core.study.history import history_frame
from rilievo.core.table.table import write_csv

if TYPE_CHECKING:
    from rilievo.ui.window import Window

BUDGETS = (500_000_000, 1_000_000_000, DEFAULT_BUDGET, 4_000_000_000, 8_000_000_000)
_PLANES = "TIFF (*.tif);;FITS (*.fits);;NumPy array (*.npy)"


class Correcting:
    """Actions that need the window."""

    def __init__(self, window: Window) -> None:
        self._window = window
        kept = QSettings().value("memory for results")
        if kept is not None and str(kept).isdigit():
            window.bench.evaluator.budget = int(str(kept))

    def connect(self) -> None:
        """Connect what is outside of the stage panel."""
        window = self._window
        window.correct_panel.library_button.clicked.connect(window.show_methods)
        window.correct_panel.points_wanted.connect(self.take_points)
        window.methods.closed.connect(window.show_picture)
        window.drawer.history.save_wanted.connect(self.ask_history)

    def take_points(self, step_id: str) -> None:
        """Fill the points of a calibration from the picks of the focused sample."""
        window = self._window
        sample, model = window.bench.focused_sample, window.model
        if sample is None:
            return
        read = sample.renamed(model.entry.name if model.entry is not None else sample.name)
        method, channel = model.state.method, window.bench.channel_for(sample)
        evaluator = window.bench.evaluator
        window.bench.jobs.run(
            "points",
            lambda: points_from_picks(evaluator, read, method, step_id, channel),
            lambda points: window.correct_panel.set_parameter(step_id, "points", points),
            lambda error: window.notice.warn(str(error)),
        )

    # -- looking at a step

    @property
    def step_id(self) -> str | None:
        """The step whose card is open."""
        use = self._window.correct_panel.active_use
        return None if use is None else use.id

    @property
    def has_background(self) -> bool:
        """Whether the open card's step estimates a background."""
        use = self._window.correct_panel.active_use
        return use is not None and STEPS[use.step].estimate is not None

    def look(self, aspect: Aspect) -> None:
        """Show the open card's step by itself, or the whole method again."""
        if self.step_id is None:
            return
        now = (self.step_id, aspect)
        viewing = self._window.model.viewing
        self._window.correct_panel.look_at(self.step_id, None if viewing.aspect == now else aspect)

    def looks_at(self, aspect: Aspect) -> bool:
        """Whether that is shown."""
        return self._window.bench.seen.aspect == (self.step_id, aspect)

    # -- files

    def ask_background(self) -> None:
        """Choose a name for the background of the open card's step."""
        if self.step_id is None or not self.has_background:
            return
        method = upto(self._window.model.state.method, self.step_id, background=True)
        self._ask_plane("Save background", "background", method)

    def ask_signal(self) -> None:
        """Choose a name for the corrected picture."""
        self._ask_plane("Save corrected picture", "corrected", self._window.bench.seen.method)

    def _ask_plane(self, title: str, what: str, method: Method) -> None:
        entry = self._window.model.entry
        if entry is None:
            return
        name = f"{entry.name} {self._window.model.channel} {what}.tif".replace("/", "-")
        path = self._window.files.ask_name(title, name, _PLANES)
        if path is not None:
            self.save_plane(path, method)

    def save_plane(self, path: Path, method: Method) -> None:
        """Write the focused channel under a method as floats."""
        window = self._window
        sample, entry = window.bench.focused_sample, window.model.entry
        if sample is None or entry is None:
            return
        named, channel = sample.renamed(entry.name), window.bench.channel_for(sample)
        evaluator = window.bench.evaluator

        def work() -> None:
            write_plane(path, evaluator.signal(named, channel, method))

        window.files.write(path, work)

    def ask_history(self) -> None:
        """Choose a name for the history."""
        path = self._window.files.ask_name("Save history", "history.csv", "CSV (*.csv)")
        if path is not None:
            self.save_history(path)

    def save_history(self, path: Path) -> None:
        """Write the history as CSV."""
        entries = self._window.model.history()
        self._window.files.write(path, lambda: write_csv(history_frame(entries), path))

    # -- memory

    def set_budget(self, budget: int) -> None:
        """Keep results up to so many bytes; remembered."""
        self._window.bench.set_budget(budget)
        QSettings().setValue("memory for results", budget)
        self._window.refresh_actions()
