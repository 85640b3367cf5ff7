"""Measure: which quantities, of which channels, and where the numbers go."""

from __future__ import annotations

from pydantic import ValidationError
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QPushButton, QVBoxLayout, QWidget

from rilievo.core.method.method import Measure
from rilievo.core.method.signal_flags import signal_unit
from rilievo.core.parameters import explain
from rilievo.core.pipeline.combined_regions import Joint, joint_of
from rilievo.core.wording.lists import counted
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.measure.batch_card import BatchCard
from rilievo.ui.stages.measure.columns_cards import DerivedCard, PairsCard
from rilievo.ui.stages.measure.quantities_card import QuantitiesCard
from rilievo.ui.stages.measure.selected_card import SelectedCard
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, NumberField, StagePanel, faint, named_row, side_by_side


class MeasurePanel(StagePanel):
    """Cards: run, what is chosen, channels, quantities, pairs, derived columns."""

    export_wanted = pyqtSignal()
    copy_wanted = pyqtSignal()
    # The levels of the chosen regions and their channel; None for no region.
    joined = pyqtSignal(object, str)

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute = session, compute
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
        self.batch = BatchCard(session, compute.batch)
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
        for signal in (session.focus.changed, session.measurements.changed, compute.store.loaded):
            signal.connect(self.refresh_soon)
        session.changed.connect(self.refresh_soon)
        session.focus.regions_changed.connect(self._gather)
        compute.queue.changed.connect(lambda _: self._gather())
        compute.batch.progressed.connect(self.refresh_soon)
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
            control.setFixedWidth(scaled(60))
            control.setAccessibleName(field.replace("_", ", "))
        row = named_row(
            "Local ring: gap and width, px", side_by_side(self.ring_gap, self.ring_width), 0
        )
        row.setToolTip("Around each region, for contrast and signal to noise")
        self._channels.add(row)
        self.refused = faint()
        self._channels.add(self.refused)
        self.add_card(self._channels)

    def _change(self, text: str, **fields: object) -> None:
        method = self._session.state.method
        try:
            measure = Measure.model_validate({**dict(method.measure), **fields})
        except ValidationError as exc:
            self.refused.setText(explain(exc))
            self.refresh()
            return
        self.refused.setText("")
        if measure != method.measure:
            self._session.change_method(text, method.changed(measure=measure))

    def _toggle_channel(self) -> None:
        names = tuple(name for name, box in self._channel_boxes.items() if box.isChecked())
        every = len(names) == len(self._channel_boxes)
        if not names:
            self.refresh()
            return
        self._change("Choose channels", channels=None if every else names)

    def _measure_one(self) -> None:
        if self._session.focus.sample_id is not None:
            self._compute.batch.start([self._session.focus.sample_id])

    # -- the chosen regions together

    def _gather(self) -> None:
        session, compute = self._session, self._compute
        chosen = session.focus.selected_regions()
        count = sum(len(regions) for regions in chosen.values())
        if not self.isVisible() or not count:
            self.selected.show_joint(None, "", "", compute.ranges.number_scale())
            self.joined.emit(None, "")
            return
        analyses = [
            (compute.store.analysis(i), regions)
            for i, regions in chosen.items()
            if i in compute.store.samples
        ]
        sample, method = compute.store.focused, session.state.method
        if sample is None:
            return
        channel = compute.store.channel_for(sample)
        unit = signal_unit(method, sample.name, channel)

        def done(joint: Joint | None) -> None:
            several = joint if count > 1 else None
            self.selected.show_joint(several, channel, unit, compute.ranges.number_scale(channel))
            self.joined.emit(None if joint is None else joint.histogram, channel)

        compute.jobs.run(
            "joint", lambda: joint_of(analyses, channel), done,
            lambda _: None,
        )  # fmt: skip

    # -- what is shown

    def _show_channels(self) -> None:
        sample = self._compute.store.focused
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
        wanted = self._session.state.method.measure.channels
        for name, box in self._channel_boxes.items():
            _check(box, wanted is None or name in wanted)

    def refresh(self) -> None:
        """Show what is measured."""
        method = self._session.state.method
        measure = method.measure
        self._show_channels()
        sample = self._compute.store.focused
        unit = sample.first.calibration.unit if sample is not None else ""
        self.quantities.show_chosen(measure.quantities, "" if unit == "px" else unit)
        _check(self.saturated, measure.exclude_saturated)
        _check(self.empty, measure.exclude_empty)
        self.ring_gap.set_value(measure.ring_gap)
        self.ring_width.set_value(measure.ring_width)
        self.pairs.refresh(measure, method.class_names)
        self.derived.refresh(measure, next(iter(self._session.measurements.tables.values()), None))
        self._gather()
        count, total = len(self._session.measurements.tables), len(self._session.state.samples)
        regions = sum(table.ids.size for table in self._session.measurements.tables.values())
        self._run.set_about(f"{count} of {total} samples" if total else "")
        if not total:
            text = "Open images first."
        elif not count:
            text = "Nothing is measured yet. “Measure all” runs the method on every sample."
        else:
            text = (
                f"{regions} regions in {counted(count, 'sample')}. Click a number "
                "in the table to see where it comes from."
            )
        self._about.setText(text)
        self.one.setEnabled(
            self._compute.store.focused is not None and not self._compute.batch.is_running
        )
        for button in (self.copy, self.export):
            button.setEnabled(bool(count))


def _check(box: QCheckBox, on: bool) -> None:
    box.blockSignals(True)
    box.setChecked(on)
    box.blockSignals(False)
