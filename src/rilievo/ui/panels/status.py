"""The line at the bottom: what is under the pointer, zoom, checks, progress."""

from __future__ import annotations

import math

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QPushButton

from rilievo.core.image import Plane
from rilievo.core.neighbourhood import neighbourhood, neighbourhood_statistics
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import duration, shown
from rilievo.ui.workbench import Workbench


class StatusLine(QFrame):
    """Read-out left; progress or zoom and checks right."""

    checks_wanted = pyqtSignal()

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self.setObjectName("statusLine")
        self._model, self._bench = model, bench
        self._pixel: tuple[int, int] | None = None
        self._fields = {
            name: QLabel("") for name in ("place", "native", "signal", "0–1", "region", "around")
        }
        self.setFixedHeight(26)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 0, 12, 0)
        layout.setSpacing(24)
        for label in self._fields.values():
            layout.addWidget(label)
        layout.addStretch(1)
        self._progress_text = QLabel("")
        self._progress = QProgressBar()
        self._progress.setTextVisible(False)
        self._progress.setFixedWidth(140)
        self._progress.setAccessibleName("Progress of measuring")
        self._cancel = QPushButton("Cancel")
        self._cancel.setProperty("role", "link")
        self._cancel.clicked.connect(bench.cancel_measuring)
        self._zoom = QLabel("")
        self._checks = QPushButton("")
        self._checks.setProperty("role", "link")
        self._checks.clicked.connect(self.checks_wanted)
        for widget in (
            self._progress_text,
            self._progress,
            self._cancel,
            self._zoom,
            self._checks,
        ):
            layout.addWidget(widget)
        self._show_progress(False)
        bench.measuring.connect(self._on_measuring)
        bench.measured.connect(lambda _: self._show_progress(False))
        bench.facts_changed.connect(lambda i: self.refresh() if i == model.sample_id else None)
        for signal in (bench.loaded, bench.load_failed, bench.checked, model.changed):
            signal.connect(lambda *_: self._show_checks())
        model.changed.connect(lambda *_: self.refresh())
        model.focus_changed.connect(self.refresh)
        model.reach_changed.connect(self.refresh)
        self._show_checks()

    def _show_progress(self, shown_now: bool) -> None:
        for widget in (self._progress_text, self._progress, self._cancel):
            widget.setVisible(shown_now)

    def _on_measuring(self, done: int, total: int, left: float) -> None:
        self._show_progress(done < total)
        self._progress.setMaximum(total)
        self._progress.setValue(done)
        time_left = f" · {duration(left)} left" if done else ""
        self._progress_text.setText(f"Measuring {done} of {total}{time_left}")

    def set_zoom(self, zoom: float | None) -> None:
        """Show the zoom."""
        self._zoom.setText("" if zoom is None else f"{shown(round(100 * zoom, 1), 3)} %")

    def point_at(self, pixel: tuple[int, int] | None) -> None:
        """Show the values at a pixel, or nothing."""
        self._pixel = pixel
        self.refresh()

    def refresh(self) -> None:
        """Read the pixel under the pointer anew."""
        sample, pixel = self._bench.focused_sample, self._pixel
        if sample is None or pixel is None:
            for label in self._fields.values():
                label.setText("")
            return
        x, y = pixel
        height, width = sample.first.shape
        if not (0 <= x < width and 0 <= y < height):
            return
        channel = self._bench.channel_for(sample)
        plane = sample.channels[channel]
        native = float(plane.pixels[y, x])
        place = f"x {x}  y {y}"
        calibration = plane.calibration
        if calibration.pixel_size is not None:
            size, unit = calibration.pixel_size, calibration.unit
            place += f"  ·  {x * size:.4g} {unit}, {y * size:.4g} {unit}"
        self._set("place", place)
        self._set("native", f"native {shown(native)}")
        signal = self._bench.evaluator.peek_signal(sample, channel, self._model.state.method)
        value = None if signal is None else float(signal.pixels[y, x])
        self._set("signal", f"signal {shown(value, 5)}" if value is not None else "")
        self._set("0–1", f"0–1 {self._unit_scale(native):.4f}")
        facts = self._bench.focused_facts
        region = 0 if facts is None or facts.regions is None else facts.regions.at(x, y)
        self._set("region", f"region {region}" if region else "")
        shown_plane = plane if signal is None or not self._bench.shows_signal() else signal
        self._set("around", self._around(x, y, shown_plane))

    def _around(self, x: int, y: int, plane: Plane) -> str:
        """The neighbourhood in the values of the stage: native in Look, signal after it."""
        size = self._model.reach
        if size == 1:
            return ""
        found = neighbourhood_statistics(plane, neighbourhood(x, y, size, plane.shape))
        self._fields["around"].setToolTip(
            f"{found.count} pixels: median {shown(found.median, 5)}, from "
            f"{shown(found.minimum, 5)} to {shown(found.maximum, 5)}, sum {shown(found.total, 6)}"
        )
        return f"{size}×{size} mean {shown(found.mean, 5)} ± {shown(found.sd, 3)}"

    def _unit_scale(self, native: float) -> float:
        sample, facts = self._bench.focused_sample, self._bench.focused_facts
        if sample is None:
            return math.nan
        channel = self._bench.channel_for(sample)
        histogram = facts.native.get(channel) if facts else None
        ends = (histogram.lowest, histogram.highest) if histogram else (0.0, 0.0)
        return sample.channels[channel].unit_share(native, ends)

    def _set(self, name: str, text: str) -> None:
        self._fields[name].setText(text)

    def _show_checks(self) -> None:
        count = len(self._bench.whole_checks()) + len(self._bench.errors)
        self._checks.setVisible(count > 0)
        self._checks.setText(f"▲ {count} check{'s' if count != 1 else ''}")

    def texts(self) -> dict[str, str]:
        """Return what is shown, by name."""
        return {name: label.text() for name, label in self._fields.items()}
