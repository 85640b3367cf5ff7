"""What the window does for Compare: shows what was compared, and leads to where it comes from."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rilievo.core.compare import Comparison
from rilievo.core.report.figures import Dot
from rilievo.core.report.plots import Material

if TYPE_CHECKING:
    from rilievo.ui.window import Window


class Comparing:
    """Connects the cards of Compare with plot, drawer, picture and report."""

    def __init__(self, window: Window) -> None:
        self._window, self._model = window, window.model

    def connect(self) -> None:
        """Connect the parts."""
        window = self._window
        panel, view = window.compare_panel, window.comparison
        panel.compared.connect(self._show)
        panel.save_wanted.connect(window.files.ask_plot)
        panel.copy_wanted.connect(window.files.copy_groups)
        panel.report_wanted.connect(window.show_report)
        view.plot.dot_chosen.connect(self._focus)
        view.as_measured_toggled.connect(panel.toggle_measured)
        view.outlier_chosen.connect(self.show_outlier)
        window.report.closed.connect(window.show_picture)
        window.watching.changed.connect(lambda: window.status.watched.setText(window.watching.text))

    def _show(self, comparisons: tuple[Comparison, ...], material: Material, message: str) -> None:
        window = self._window
        toggle = window.compare_panel.toggle
        window.comparison.show_comparisons(comparisons, material, message, toggle)
        window.drawer.groups.show_comparisons(comparisons)
        window.drawer.tests.show_comparisons(comparisons)
        window.refresh_actions()

    def _focus(self, dot: Dot) -> None:
        entry = self._model.named(dot.sample)
        if entry is not None:
            self._model.focus(sample_id=entry.id, regions={dot.region} if dot.region else set())

    def show_outlier(self, sample: str, region: int) -> None:
        """Go to what stands apart, in its picture."""
        entry = self._model.named(sample)
        if entry is None:
            return
        channel = self._window.compare_panel.question.channel
        self._model.focus(
            sample_id=entry.id, channel=channel, regions={region} if region else set()
        )
        self._model.go_to("measure")
        if region:
            self._window.area.picture.show_region(region)

    def show_batch_checks(self) -> None:
        """Show what differs between the samples."""
        self._model.go_to("compare")
        self._window.comparison.show_view("checks")
