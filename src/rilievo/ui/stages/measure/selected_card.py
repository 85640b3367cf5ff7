"""What the chosen regions have together: histogram and statistics of all their pixels."""

from __future__ import annotations

from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from rilievo.core.image.number_scale import SCALES, NumberScale
from rilievo.core.measure import QUANTITIES
from rilievo.core.pipeline.combined_regions import JOINT_KEYS, Joint
from rilievo.core.wording.numbers import shown
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import Card
from rilievo.ui.widgets.small_plot import SmallPlot


class SelectedCard(Card):
    """Hidden while fewer than two regions are chosen."""

    def __init__(self, theme: Theme) -> None:
        super().__init__("Chosen regions", fold="chosen regions", folded=True)
        self.plot = SmallPlot(theme, "Histogram of the chosen regions", 72)
        self.add(self.plot)
        grid_holder = QWidget()
        grid = QGridLayout(grid_holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(2)
        self.values: dict[str, QLabel] = {}
        for k, key in enumerate(JOINT_KEYS):
            name, value = QLabel(QUANTITIES[key].title), QLabel("–")
            name.setProperty("role", "faint")
            value.setProperty("role", "figure")
            self.values[key] = value
            row, index = divmod(k, 3)
            grid.addWidget(name, row, 2 * index)
            grid.addWidget(value, row, 2 * index + 1)
        self.add(grid_holder)
        self.hide()

    def show_joint(self, joint: Joint | None, channel: str, unit: str, scale: NumberScale) -> None:
        """Show the chosen regions together; unit : of the channel's signal."""
        self.setVisible(joint is not None)
        if joint is None:
            return
        samples = f" in {joint.samples} samples" if joint.samples > 1 else ""
        shown_unit = unit if scale.kind == "native" else SCALES[scale.kind][0]
        self.set_about(f"{joint.regions} regions{samples}, {channel} ({shown_unit})")
        self.setToolTip("All their pixels together; the sum is in the signal's own unit")
        for key, label in self.values.items():
            value = joint.numbers[key]
            on_scale = QUANTITIES[key].on_scale(scale)
            label.setText(shown(on_scale(value) if on_scale is not None else value, 5))
        histogram = joint.histogram
        self.plot.printed = lambda value: shown(scale.value(value), 4)
        self.plot.show_histogram(histogram, (histogram.quantile(0.0), histogram.quantile(1.0)))
