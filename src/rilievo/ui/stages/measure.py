"""Measure: which quantities, of which channels, and where the numbers go."""

from __future__ import annotations

from pydantic import ValidationError
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QPushButton, QVBoxLayout, QWidget

from rilievo.core.method.method import Measure
from rilievo.core.method.signal_flags import signal_unit
from rilievo.core.parameters import explain
from rilievo.core.pipeline.combined_regions import Joint, joint_of
from rilievo.ui.model import StudyModel
from rilievo.ui.stages.card import Card, NumberField, StagePanel, faint, named_row, side_by_side
from rilievo.ui.stages.measuring.batch_card import BatchCard
from rilievo.ui.stages.measuring.columns_cards import DerivedCard, PairsCard
from rilievo.ui.stages.measuring.quantities_card import QuantitiesCard
from rilievo.ui.stages.measuring.selected_card import SelectedCard
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench


class MeasurePanel(StagePanel):
    """Cards: run, what is chosen, channels, quantities, pairs, derived columns."""

    export_wanted = pyqtSignal()
    copy_wanted = pyqtSignal()
    # The levels of the chosen regions and their channel; None for no region.
    joined = pyqtSignal(object, str)

    def __init__(self, model: StudyModel, bench: Workbench, theme: Theme) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self._run = Card("Measure")
        self._about = faint()
        self._run.add(self._about)
        self.one = QPushButton("This sample")
        self.one.setToolTip("Measure the sample in focus")
        self.one.clicked.connect(self._measure_one)
        self.copy = QPushButton("Copy")
        self.copy.setToolTip("Copy the selected rows, or all, as tab-separated text (Ctrl+C)")
        self.copy.clicked.connect(self.copy_wanted)
        self.export = QPushButton("Save table …")
        self.export.setToolTip("Save as CSV, Excel, JSON or Parquet, long or wide")
        self.export.clicked.connect(self.export_wanted)
        self._run.add(side_by_side(self.one, self.copy, self.export, stretch=True))
        self.add_card(self._run)
        self.batch = BatchCard(model, bench.batch)
        self.add_card(self.batch)
        self.selected = SelectedCard(theme)
        self.add_card(self.selected)
        self.quantities = QuantitiesCard(
            lambda keys: self._change("Choose quantities", quantities=keys)
        )
        self.add_card(self.quantities)
        self._build_channels()
        self.pairs = PairsCard(self._change)
        self.add_card(self.pairs)
        self.derived = DerivedCard(self._change)
        self.add_card(self.derived)
        for signal in (model.focus_changed, model.tables_changed, bench.loaded):
            signal.connect(self.refresh_soon)
        model.changed.connect(self.refresh_soon)
        model.selection_changed.connect(self._gather)
        bench.facts_changed.connect(lambda _: self._gather())
        bench.measuring.connect(self.refresh_soon)
        self.refresh()

    def _build_channels(self) -> None:
        self._channels = Card("Channels", "inside the same regions")
        self._channel_boxes: dict[str, QCheckBox] = {}
        self._channel_rows = QWidget()
        layout = QVBoxLayout(self._channel_rows)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self._channels.add(self._channel_rows)
        self.saturated = QCheckBox("Leave out saturated pixels")
        self.empty = QCheckBox("Leave out empty pixels")
        for box, field in ((self.saturated, "exclude_saturated"), (self.empty, "exclude_empty")):
            box.setToolTip("They are counted in any case")
            box.toggled.connect(
                lambda on, name=field: self._change("Leave out pixels", **{name: on})
            )
            self._channels.add(box)
        self.ring_gap, self.ring_width = NumberField(unit="px"), NumberField(unit="px")
        for control, field in ((self.ring_gap, "ring_gap"), (self.ring_width, "ring_width")):
            control.entered.connect(
                lambda value, name=field: self._change("Change the local ring", **{name: value})
            )
            control.setFixedWidth(60)
        row = named_row(
            "Local ring: gap and width, px", side_by_side(self.ring_gap, self.ring_width), 0
        )
        row.setToolTip("Around each region, for contrast and signal to noise")
        self._channels.add(row)
        self.refused = faint()
        self._channels.add(self.refused)
        self.add_card(self._channels)

    def _change(self, text: str, **fields: object) -> None:
        method = self._model.state.method
        try:
            measure = Measure.model_validate({**dict(method.measure), **fields})
        except ValidationError as exc:
            self.refused.setText(explain(exc))
            self.refresh()
            return
        self.refused.setText("")
        if measure != method.measure:
            self._model.change_method(text, method.changed(measure=measure))

    def _toggle_channel(self) -> None:
        names = tuple(name for name, box in self._channel_boxes.items() if box.isChecked())
        every = len(names) == len(self._channel_boxes)
        if not names:
            self.refresh()
            return
        self._change("Choose channels", channels=None if every else names)

    def _measure_one(self) -> None:
        if self._model.sample_id is not None:
            self._bench.measure([self._model.sample_id])

    # -- the chosen regions together

    def _gather(self) -> None:
        model, bench = self._model, self._bench
        chosen = model.selected_regions()
        count = sum(len(regions) for regions in chosen.values())
        if not self.isVisible() or not count:
            self.selected.show_joint(None, "", "", bench.number_scale())
            self.joined.emit(None, "")
            return
        samples = [
            (bench.samples[i].renamed(model.state.entry(i).name), regions)
            for i, regions in chosen.items()
            if i in bench.samples
        ]
        sample, method = bench.focused_sample, model.state.method
        if sample is None:
            return
        channel = bench.channel_for(sample)
        unit = signal_unit(method, sample.name, channel)

        def done(joint: Joint | None) -> None:
            several = joint if count > 1 else None
            self.selected.show_joint(several, channel, unit, bench.number_scale(channel))
            self.joined.emit(None if joint is None else joint.histogram, channel)

        bench.jobs.run(
            "joint", lambda: joint_of(bench.evaluator, samples, method, channel), done,
            lambda _: None,
        )  # fmt: skip

    # -- what is shown

    def _show_channels(self) -> None:
        sample = self._bench.focused_sample
        names = list(sample.channel_names) if sample else []
        layout = self._channel_rows.layout()
        if layout is not None and list(self._channel_boxes) != names:
            for box in self._channel_boxes.values():
                layout.removeWidget(box)
                box.deleteLater()
            self._channel_boxes = {}
            for name in names:
                box = QCheckBox(name)
                box.toggled.connect(lambda _: self._toggle_channel())
                self._channel_boxes[name] = box
                layout.addWidget(box)
        wanted = self._model.state.method.measure.channels
        for name, box in self._channel_boxes.items():
            _check(box, wanted is None or name in wanted)

    def refresh(self) -> None:
        """Show what is measured."""
        method = self._model.state.method
        measure = method.measure
        self._show_channels()
        sample = self._bench.focused_sample
        unit = sample.first.calibration.unit if sample is not None else ""
        self.quantities.show_chosen(measure.quantities, "" if unit == "px" else unit)
        _check(self.saturated, measure.exclude_saturated)
        _check(self.empty, measure.exclude_empty)
        self.ring_gap.set_value(measure.ring_gap)
        self.ring_width.set_value(measure.ring_width)
        self.pairs.refresh(measure, method.class_names)
        self.derived.refresh(measure, next(iter(self._model.tables.values()), None))
        self._gather()
        count, total = len(self._model.tables), len(self._model.state.samples)
        regions = sum(table.ids.size for table in self._model.tables.values())
        self._run.set_about(f"{count} of {total} samples" if total else "")
        if not total:
            text = "Open images first."
        elif not count:
            text = "Nothing is measured yet. “Measure all” runs the method on every sample."
        else:
            text = (
                f"{regions} regions in {count} sample{'s' if count != 1 else ''}. Click a number "
                "in the table to see where it comes from."
            )
        self._about.setText(text)
        self.one.setEnabled(self._bench.focused_sample is not None and not self._bench.is_measuring)
        for button in (self.copy, self.export):
            button.setEnabled(bool(count))


def _check(box: QCheckBox, on: bool) -> None:
    box.blockSignals(True)
    box.setChecked(on)
    box.blockSignals(False)
