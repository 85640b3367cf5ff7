"""Outline: threshold, clean-up, regions by hand."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QLineEdit, QPushButton

from rilievo.core.errors import MethodError
from rilievo.core.method import ThresholdUse, hand_threshold
from rilievo.core.thresholds import THRESHOLDS
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import rounded, shown
from rilievo.ui.stages.card import (
    Card,
    Choice,
    NumberField,
    StagePanel,
    faint,
    side_by_side,
)
from rilievo.ui.workbench import Workbench

_KEEP = (("bright", "brighter than"), ("dark", "at or below"))


class OutlinePanel(StagePanel):
    """Cards: how regions are found, how they are cleaned, what was rejected by hand."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self._find = Card("Regions")
        self.way = Choice(
            [(key, t.title, t.explanation) for key, t in ((k, THRESHOLDS[k]) for k in THRESHOLDS)]
        )
        self.way.chosen.connect(self._choose_way)
        self._find.add(self.way)
        self.region_class = QLineEdit()
        self.region_class.setToolTip("What one region is, for example cell or droplet")
        self._find.add_row("One region is a", self.region_class)
        self.region_class.editingFinished.connect(self._set_class)
        self.channel = QComboBox()
        self._find.add_row("Found on", self.channel)
        self.channel.activated.connect(
            lambda _: self._change("Outline another channel", channel=self.channel.currentText())
        )
        self.keep = QComboBox()
        self.keep.addItems([text for _, text in _KEEP])
        self._find.add_row("Keep pixels", self.keep)
        self.keep.activated.connect(lambda i: self._change("Change what is kept", keep=_KEEP[i][0]))
        self.threshold = NumberField(unit="signal")
        self._find.add_row("Threshold", self.threshold)
        self.threshold.entered.connect(self._type_threshold)
        self._say = faint()
        self._find.add(self._say)
        self.add_card(self._find)

        self._clean = Card("Clean up")
        self.fill = QCheckBox()
        self._clean.add_row("Fill holes", self.fill, 0)
        self.fill.toggled.connect(
            lambda on: self._change("Fill holes" if on else "Leave holes", fill_holes=on)
        )
        self.smallest = NumberField(may_be_empty="any")
        self.largest = NumberField(may_be_empty="any")
        self.area_in = QComboBox()
        self.smallest.setAccessibleName("Smallest area")
        self.largest.setAccessibleName("Largest area")
        self.area_in.setAccessibleName("Unit of areas")
        limits = side_by_side(self.smallest, QLabel("to"), self.largest, self.area_in)
        for field, width in ((self.smallest, 66), (self.largest, 66), (self.area_in, 72)):
            field.setFixedWidth(width)
        self._clean.add_row("Keep area", limits, 0)
        self.smallest.entered.connect(
            lambda v: self._change("Set smallest area", min_area=v or 0.0)
        )
        self.largest.entered.connect(lambda v: self._change("Set largest area", max_area=v))
        self.area_in.activated.connect(self._change_area_unit)
        self.add_card(self._clean)

        self._hand = Card("By hand")
        self._hand_text = faint()
        self._hand.add(self._hand_text)
        self.reject = QPushButton("Reject selected")
        self.reject.setToolTip("Leave the selected regions out (Delete)")
        self.reject.clicked.connect(self.reject_selected)
        self.restore = QPushButton("Restore rejected")
        self.restore.clicked.connect(model.restore_rejected)
        self._hand.add(side_by_side(self.reject, self.restore, stretch=True))
        self.add_card(self._hand)
        for signal in (
            model.focus_changed,
            model.selection_changed,
            bench.facts_changed,
            bench.preview_changed,
        ):
            signal.connect(self.refresh_soon)
        model.changed.connect(self.refresh_soon)
        self.refresh()

    # -- changes

    def _change(self, text: str, **fields: Any) -> None:
        try:
            self._bench.change_outline(text, **fields)
        except (MethodError, ValueError) as exc:
            self.refresh()
            message = (
                str(exc)
                if isinstance(exc, MethodError)
                else ("The largest area is below the smallest one; change that first.")
            )
            self._say.setText(message)

    def _choose_way(self, way: str) -> None:
        if way == "hand":
            level = self._bench.level(self._model.sample_id)
            start = 0.0 if level is None or math.isnan(level) else self._rounded(level)
            self._change("Threshold by hand", threshold=hand_threshold(start))
            return
        use = ThresholdUse.model_validate({"way": way})
        self._change(f"Threshold: {THRESHOLDS[way].title}", threshold=use)

    def _rounded(self, level: float) -> float:
        """The level with the digits that the signal's own span makes sensible."""
        facts = self._bench.focused_facts
        histogram = facts.signal.get(self._bench.outline_channel or "") if facts else None
        return rounded(level, histogram.highest - histogram.lowest if histogram else 0.0)

    def _type_threshold(self, value: float | None) -> None:
        if value is not None:
            self._change("Set threshold", threshold=hand_threshold(value))

    def _set_class(self) -> None:
        name = self.region_class.text().strip()
        if name and name != self._model.state.method.outline.region_class:
            self._change("Name region class", region_class=name)

    def _change_area_unit(self, index: int) -> None:
        """Change the unit and convert the limits, so that the same regions are kept."""
        outline = self._model.state.method.outline
        sample = self._bench.focused_sample
        factor = sample.first.calibration.area_factor if sample else None
        wanted = "px" if index == 0 else "unit"
        if wanted == outline.area_in:
            return
        if factor is None:
            # Nothing says how many pixels the limits are: begin without.
            self._change("Limit areas in pixels", area_in="px", min_area=0.0, max_area=None)
            return
        ratio = 1 / factor if wanted == "px" else factor
        largest = None if outline.max_area is None else float(f"{outline.max_area * ratio:.4g}")
        self._change(
            "Change unit of areas",
            area_in=wanted,
            min_area=float(f"{outline.min_area * ratio:.4g}"),
            max_area=largest,
        )

    def reject_selected(self) -> None:
        """Reject the selected regions by hand."""
        facts = self._bench.focused_facts
        if facts is None or facts.regions is None or not self._model.regions:
            return
        known = [r for r in sorted(self._model.regions) if r in set(facts.regions.ids.tolist())]
        # Kept by their place in the file, so that they hold when the picture is cropped later.
        places = [facts.regions.a_pixel_of(region) for region in known]
        pixels = [self._bench.seen.file_pixel(*place) for place in places]
        if not pixels:
            return
        names = ", ".join(str(region) for region in known[:5])
        self._model.reject_pixels(pixels, f"Reject region {names}")
        self._model.focus(regions=())

    # -- what is shown

    def refresh(self) -> None:
        """Show the outline and what it finds here."""
        outline = self._model.state.method.outline
        facts = self._bench.focused_facts
        name = outline.region_class
        self._find.set_title(f"{name[:1].upper()}{name[1:]}s")
        dragged = self._bench.preview_level is not None
        self.way.set_chosen("hand" if dragged else outline.threshold.way)
        if not self.region_class.hasFocus():
            self.region_class.setText(name)
        sample = self._bench.focused_sample
        names = list(sample.channel_names) if sample else []
        if [self.channel.itemText(i) for i in range(self.channel.count())] != names:
            self.channel.clear()
            self.channel.addItems(names)
        self.channel.setCurrentText(self._bench.outline_channel or "")
        self.keep.setCurrentIndex([key for key, _ in _KEEP].index(outline.keep))
        level = self._bench.level(self._model.sample_id)
        self.threshold.set_value(None if level is None else self._rounded(level))
        self.fill.blockSignals(True)
        self.fill.setChecked(outline.fill_holes)
        self.fill.blockSignals(False)
        self.smallest.set_value(outline.min_area or None)
        self.largest.set_value(outline.max_area)
        self._show_unit()
        self._show_count(facts.regions.count if facts and facts.regions else None)
        self._show_hand()

    def _show_unit(self) -> None:
        sample = self._bench.focused_sample
        calibrated = sample is not None and sample.first.calibration.pixel_size is not None
        unit = sample.first.calibration.unit if sample is not None and calibrated else ""
        wanted = ["px²", f"{unit}²"] if calibrated else ["px²"]
        if [self.area_in.itemText(i) for i in range(self.area_in.count())] != wanted:
            self.area_in.clear()
            self.area_in.addItems(wanted)
        by_unit = self._model.state.method.outline.area_in == "unit"
        self.area_in.setCurrentIndex(1 if by_unit and calibrated else 0)

    def _show_count(self, count: int | None) -> None:
        facts = self._bench.focused_facts
        on = self._bench.outline_channel or ""
        if self._bench.preview_level is not None:
            self._find.set_about(f"on {on} · …")
        elif count is not None:
            self._find.set_about(f"on {on} · {count} region{'s' if count != 1 else ''}")
        else:
            self._find.set_about(f"on {on}" if on else "")
        text = ""
        if facts is not None and facts.error:
            text = facts.error
        elif facts is not None and facts.regions is not None and count == 0:
            text = self._nothing_found(on)
        elif facts is not None and facts.regions is not None and facts.regions.dropped:
            text = f"{facts.regions.dropped} left out by area."
        # A line is always kept free, so that nothing jumps when there is something to say.
        self._say.setText(text or " ")

    def _nothing_found(self, channel: str) -> str:
        facts = self._bench.focused_facts
        histogram = facts.signal.get(channel) if facts else None
        if facts is None or facts.regions is None or histogram is None:
            return "No region is found."
        if math.isnan(facts.level):
            return "All pixels have the same value; no threshold can part them."
        if facts.regions.dropped:
            return f"All {facts.regions.dropped} regions are left out by area; widen the limits."
        return (
            f"Nothing lies beyond this threshold; the signal runs from "
            f"{shown(histogram.lowest)} to {shown(histogram.highest)}."
        )

    def _show_hand(self) -> None:
        facts = self._bench.focused_facts
        rejected = facts.regions.rejected if facts and facts.regions else 0
        chosen = len(self._model.regions)
        self.reject.setEnabled(chosen > 0)
        self.restore.setEnabled(rejected > 0)
        self.restore.setText(f"Restore {rejected} rejected" if rejected else "Restore rejected")
        if chosen:
            text = f"Selected: region {', '.join(str(r) for r in sorted(self._model.regions)[:8])}."
        else:
            text = "Click selects a region, Ctrl-click several; Delete rejects."
        self._hand_text.setText(text)
