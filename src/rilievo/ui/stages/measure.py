"""Measure: which quantities, of which channels, and where the numbers go."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QPushButton, QVBoxLayout, QWidget

from rilievo.core.measures import QUANTITIES
from rilievo.core.method import Measure
from rilievo.ui.model import StudyModel
from rilievo.ui.stages.card import Card, StagePanel, faint, side_by_side
from rilievo.ui.workbench import Workbench

_FAMILIES = (("intensity", "Intensity"), ("shape", "Size and place"))


class MeasurePanel(StagePanel):
    """Cards: run, channels, quantities."""

    export_wanted = pyqtSignal()
    copy_wanted = pyqtSignal()

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self._run = Card("Measure")
        self._about = faint()
        self._run.add(self._about)
        self.one = QPushButton("Measure this sample")
        self.one.clicked.connect(self._measure_one)
        self.copy = QPushButton("Copy")
        self.copy.setToolTip("Copy the selected rows, or all, as tab-separated text (Ctrl+C)")
        self.copy.clicked.connect(self.copy_wanted)
        self.export = QPushButton("Save CSV …")
        self.export.clicked.connect(self.export_wanted)
        self._run.add(side_by_side(self.one, self.copy, self.export, stretch=True))
        self.add_card(self._run)

        self._channels = Card("Channels", "inside the same regions")
        self._channel_boxes: dict[str, QCheckBox] = {}
        self._channel_rows = QWidget()
        layout = QVBoxLayout(self._channel_rows)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self._channels.add(self._channel_rows)
        self.saturated = QCheckBox("Leave out saturated pixels")
        self.saturated.setToolTip("They are counted in any case")
        self.saturated.toggled.connect(
            lambda on: self._change("Exclude saturated pixels", exclude_saturated=on)
        )
        self._channels.add(self.saturated)
        self.add_card(self._channels)

        self.quantities: dict[str, QCheckBox] = {}
        for family, title in _FAMILIES:
            card = Card(title)
            table = QWidget()
            grid = QGridLayout(table)
            grid.setContentsMargins(0, 0, 0, 0)
            grid.setSpacing(0)
            members = [q for q in QUANTITIES.values() if q.family == family]
            half = (len(members) + 1) // 2
            for i, quantity in enumerate(members):
                unit = f" ({quantity.unit})" if quantity.family == "shape" and quantity.unit else ""
                box = QCheckBox(f"{quantity.title}{unit}")
                box.setToolTip(f"{quantity.key}: {quantity.definition}")
                box.toggled.connect(lambda on, key=quantity.key: self._toggle(key, on))
                self.quantities[quantity.key] = box
                grid.addWidget(box, i % half, i // half)
            card.add(table)
            self.add_card(card)
        for signal in (model.focus_changed, model.tables_changed, bench.loaded):
            signal.connect(self.refresh_soon)
        model.changed.connect(self.refresh_soon)
        bench.measuring.connect(self.refresh_soon)
        self.refresh()

    def _change(self, text: str, **fields: object) -> None:
        method = self._model.state.method
        measure = Measure.model_validate({**dict(method.measure), **fields})
        if measure != method.measure:
            self._model.change_method(text, method.changed(measure=measure))

    def _toggle(self, key: str, on: bool) -> None:
        chosen = set(self._model.state.method.measure.quantities)
        chosen = chosen | {key} if on else chosen - {key}
        ordered = tuple(k for k in QUANTITIES if k in chosen)
        # The order in the method is kept where it is only added to or taken from.
        before = self._model.state.method.measure.quantities
        kept = tuple(k for k in before if k in chosen)
        new = kept + tuple(k for k in ordered if k not in kept)
        self._change("Choose quantities", quantities=new)

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
            box.blockSignals(True)
            box.setChecked(wanted is None or name in wanted)
            box.blockSignals(False)

    def refresh(self) -> None:
        """Show what is measured."""
        measure = self._model.state.method.measure
        self._show_channels()
        for key, box in self.quantities.items():
            box.blockSignals(True)
            box.setChecked(key in measure.quantities)
            box.blockSignals(False)
        self.saturated.blockSignals(True)
        self.saturated.setChecked(measure.exclude_saturated)
        self.saturated.blockSignals(False)
        count, total = len(self._model.tables), len(self._model.state.samples)
        regions = sum(table.ids.size for table in self._model.tables.values())
        self._run.set_about(f"{count} of {total} samples" if total else "")
        if not total:
            text = "Open images first."
        elif not count:
            text = "Nothing is measured yet. “Measure all” runs the method on every sample."
        else:
            text = f"{regions} regions in {count} sample{'s' if count != 1 else ''}."
        self._about.setText(text)
        self.one.setEnabled(self._bench.focused_sample is not None and not self._bench.is_measuring)
        for button in (self.copy, self.export):
            button.setEnabled(bool(count))
