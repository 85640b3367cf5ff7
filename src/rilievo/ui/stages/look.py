"""Look: what the sample is, and how it is shown."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QLineEdit, QPushButton

from rilievo.core.checks import Check
from rilievo.core.errors import MethodError
from rilievo.core.image import Plane
from rilievo.core.method import checked_copy
from rilievo.core.palettes import PALETTES, ViewStyle
from rilievo.core.study import Lane
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import rounded
from rilievo.ui.stages.card import Card, NumberField, StagePanel, faint, side_by_side
from rilievo.ui.workbench import Workbench

_STRETCHES = (
    ("linear", "Linear"),
    ("root", "Square root"),
    ("log", "Logarithm"),
    ("asinh", "Asinh"),
    ("gamma", "Gamma"),
)


def depth_text(plane: Plane) -> str:
    """Return the number type in words."""
    dtype = plane.pixels.dtype
    kind = {"u": "whole numbers", "i": "signed whole numbers", "f": "floating point"}[dtype.kind]
    text = f"{8 * dtype.itemsize}-bit {kind}"
    if plane.saturation is not None and plane.type_range is not None:
        bits = int(plane.saturation + 1).bit_length() - 1
        if 0 < bits < 8 * dtype.itemsize and plane.saturation == 2**bits - 1 and dtype.kind == "u":
            text = f"{bits} bits in {8 * dtype.itemsize}-bit numbers"
    return text


class LookPanel(StagePanel):
    """Cards: the sample, its display, its checks."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self._drag = 10_000
        self._sample = Card("Sample")
        self._size = QLabel("")
        self._depth = QLabel("")
        self._pixel = QLabel("")
        self._sample.add_row("Size", self._size, 0)
        self._sample.add_row("Depth", self._depth, 0)
        self._sample.add_row("Pixel size", self._pixel, 0)
        self.group = QComboBox()
        self.group.setEditable(True)
        self.group.setToolTip("Type a new group or choose one; Enter takes it")
        self.replicate = QLineEdit()
        self._sample.add_row("Group", self.group)
        self._sample.add_row("Replicate", self.replicate)
        line = self.group.lineEdit()
        if line is not None:
            line.editingFinished.connect(lambda: self._set_group() if line.isModified() else None)
        self.group.activated.connect(lambda _: self._set_group())
        self.replicate.editingFinished.connect(
            lambda: self._set_group() if self.replicate.isModified() else None
        )
        self.add_card(self._sample)

        self._display = Card("Display", "changes no number")
        self.low, self.high = NumberField(), NumberField()
        for field, name in ((self.low, "Black at"), (self.high, "White at")):
            field.setAccessibleName(name)
            field.setFixedWidth(88)
        self._display.add_row("From", side_by_side(self.low, QLabel("to"), self.high), 0)
        self.low.entered.connect(lambda v: self._set_range(v, None))
        self.high.entered.connect(lambda v: self._set_range(None, v))
        self.automatic = QPushButton("Automatic")
        self.automatic.setToolTip("From 0.2 to 99.8 % of the pixels, the same for all samples")
        self.whole = QPushButton("Whole range")
        self.whole.setToolTip("From the lowest to the highest value of this sample")
        self.automatic.clicked.connect(self._set_automatic)
        self.whole.clicked.connect(self._set_whole)
        self._display.add(side_by_side(self.automatic, self.whole, stretch=True))
        self.stretch, self.colours, self.invert = QComboBox(), QComboBox(), QCheckBox("invert")
        for key, text in _STRETCHES:
            self.stretch.addItem(text, key)
        for key, (text, _) in PALETTES.items():
            self.colours.addItem(text, key)
        self.strength = NumberField()
        for control, name in (
            (self.stretch, "Stretch"),
            (self.strength, "Strength of the stretch"),
            (self.colours, "Palette"),
        ):
            control.setAccessibleName(name)
        self.stretch.setFixedWidth(120)
        self.strength.setFixedWidth(64)
        self.colours.setFixedWidth(148)
        self._display.add_row("Stretch", side_by_side(self.strength, self.stretch), 0)
        self._display.add_row("Palette", side_by_side(self.invert, self.colours), 0)
        self.stretch.activated.connect(lambda _: self._style(stretch=self.stretch.currentData()))
        self.colours.activated.connect(lambda _: self._style(palette=self.colours.currentData()))
        self.invert.toggled.connect(lambda on: self._style(invert=on))
        self.strength.entered.connect(self._set_strength)
        self.add_card(self._display)

        self._checks = Card("Checks")
        self._check_text = faint()
        self._checks.add(self._check_text)
        self.add_card(self._checks)

        for signal in (model.focus_changed, bench.loaded, bench.load_failed, bench.facts_changed):
            signal.connect(self.refresh_soon)
        model.stage_changed.connect(self.refresh_soon)
        bench.checked.connect(self.refresh_soon)
        model.changed.connect(self.refresh_soon)
        self.refresh()

    # -- display range, also used by the key and the Ridges

    @property
    def lane(self) -> Lane:
        """Which range the stage shows."""
        return "signal" if self._bench.shows_signal() else "native"

    def _range_now(self, channel: str) -> tuple[float, float]:
        return self._bench.display_range(channel, self.lane, self._model.sample_id)

    def _style_now(self, channel: str) -> ViewStyle:
        return self._bench.style(channel, self._model.sample_id)

    def begin_drag(self) -> None:
        """Start a drag of the range: one entry of the undo list."""
        self._drag += 1

    def set_display(self, low: float, high: float, merge: int | None = None) -> None:
        """Set the display range of the focused channel in the lane that is shown."""
        channel = self._model.channel
        if channel is None or not low < high:
            return
        state = self._model.state.with_view(
            self._model.sample_id, channel, display=(self.lane, (low, high))
        )
        self._model.change("Set display range", state, self._drag if merge is None else merge)

    def _set_range(self, low: float | None, high: float | None) -> None:
        if self._model.channel is None:
            return
        now = self._range_now(self._model.channel)
        new = (now[0] if low is None else low, now[1] if high is None else high)
        if new[0] < new[1]:
            self.begin_drag()
            self.set_display(*new)
        self.refresh()

    def _style(self, **fields: Any) -> None:
        """Change how the focused channel is shown, in all samples."""
        channel = self._model.channel
        if channel is None:
            return
        now = self._style_now(channel)
        try:
            style = checked_copy(now, **fields)
        except MethodError:
            self.refresh()
            return
        if style != now:
            state = self._model.state.with_view(self._model.sample_id, channel, style=style)
            self._model.change("Change view", state)

    def _set_strength(self, value: float | None) -> None:
        if value is not None and self._model.channel is not None:
            gamma = self._style_now(self._model.channel).stretch == "gamma"
            self._style(**{"gamma" if gamma else "strength": value})

    def _show_style(self, style: ViewStyle) -> None:
        self.stretch.setCurrentIndex(self.stretch.findData(style.stretch))
        self.colours.setCurrentIndex(self.colours.findData(style.palette))
        self.invert.blockSignals(True)
        self.invert.setChecked(style.invert)
        self.invert.blockSignals(False)
        self.strength.setVisible(style.stretch in ("log", "asinh", "gamma"))
        gamma = style.stretch == "gamma"
        self.strength.set_value(style.gamma if gamma else style.strength)
        about = "exponent; below 1 lifts what is faint" if gamma else "larger lifts what is faint"
        self.strength.setToolTip(about)

    def _set_automatic(self) -> None:
        channel = self._model.channel
        if channel is not None:
            state = self._model.state.with_view(
                self._model.sample_id, channel, display=(self.lane, None)
            )
            self._model.change("Automatic display range", state)

    def _set_whole(self) -> None:
        facts = self._bench.focused_facts
        channel = self._model.channel
        if facts is None or channel not in facts.native:
            return
        histogram = (facts.native if self.lane == "native" else facts.signal)[channel]
        self.begin_drag()
        self.set_display(histogram.lowest, max(histogram.highest, histogram.lowest + 1e-9))

    # -- sample

    def _set_group(self) -> None:
        entry = self._model.entry
        if entry is None:
            return
        group = self.group.currentText().strip()
        groups = {one.id: (group, one.replicate) for one in self._model.chosen}
        groups[entry.id] = (group, self.replicate.text().strip())
        self.replicate.setModified(False)
        self._model.change("Set group", self._model.state.with_groups(groups))

    def refresh(self) -> None:
        """Show the focused sample."""
        entry, sample = self._model.entry, self._bench.focused_sample
        for widget in (self._sample, self._display):
            widget.setEnabled(entry is not None)
        self._sample.set_title(entry.name if entry else "Sample")
        others = len(self._model.chosen) - 1
        self._sample.set_about(f"and {others} more chosen" if others > 0 else "")
        groups = [group for group in self._model.state.groups if group]
        line = self.group.lineEdit()
        if line is None or not line.isModified() or not line.hasFocus():
            self.group.blockSignals(True)
            self.group.clear()
            self.group.addItems(groups)
            self.group.setCurrentText(entry.group if entry else "")
            self.group.blockSignals(False)
            self.replicate.setText(entry.replicate if entry else "")
        if sample is None:
            for label in (self._size, self._depth, self._pixel):
                label.setText("–")
        else:
            plane = sample.first
            height, width = plane.shape
            count = len(sample.channels)
            channels = f" · {count} channels" if count > 1 else ""
            self._size.setText(f"{width} × {height} px{channels}")
            self._depth.setText(depth_text(plane))
            calibration = plane.calibration
            known = calibration.pixel_size is not None
            self._pixel.setText(
                f"{calibration.pixel_size:.4g} {calibration.unit}" if known else "not in the file"
            )
        if self._model.channel is not None:
            low, high = self._range_now(self._model.channel)
            self.low.set_value(rounded(low, high - low))
            self.high.set_value(rounded(high, high - low))
            self._show_style(self._style_now(self._model.channel))
        self._checks.setVisible(entry is not None)
        self._show_checks(entry.id if entry else -1)

    def _show_checks(self, sample_id: int) -> None:
        error = self._bench.errors.get(sample_id)
        checks: list[Check] = self._bench.checks_of(sample_id)
        lines = [f"▲ {error}"] if error else []
        lines += [
            f"▲ {check.channel}: {check.text}" if check.channel else f"▲ {check.text}"
            for check in checks
        ]
        self._check_text.setText("\n\n".join(lines) or "Nothing to note about this sample.")
        self._check_text.setProperty("role", "check" if lines else "faint")
        style = self._check_text.style()
        if style is not None:
            style.polish(self._check_text)
