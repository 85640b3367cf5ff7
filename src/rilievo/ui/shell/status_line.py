"""The line at the bottom: read-out under the pointer, progress, zoom, number scale, checks."""

from __future__ import annotations

import math

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtGui import QActionGroup
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QMenu,
    QProgressBar,
    QPushButton,
    QSizePolicy,
)

from rilievo.core.image.image import Plane, Sample, ValueSource
from rilievo.core.image.neighbourhood import covered, neighbourhood_statistics
from rilievo.core.image.number_scale import SCALES, NumberScale
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.region_set import class_index, number_in_class
from rilievo.core.wording.lists import counted
from rilievo.core.wording.numbers import duration, shown, shown_within
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.folder_watcher import FolderWatcher
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled

_MOST_OTHERS = 4
_MANY, _TOGETHER_MS = 60, 150
_FIELDS = ("position", "native", "signal", "0–1", "8-bit", "around", "region", "others")


class StatusLine(QFrame):
    """Read-out left; progress or zoom, number scale and checks right."""

    checks_wanted = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute, watcher: FolderWatcher) -> None:
        super().__init__()
        self.setObjectName("statusLine")
        self._session, self._compute, self._viewing = session, compute, session.view
        self._pixel: tuple[int, int] | None = None
        self._texts = dict.fromkeys(_FIELDS, "")
        self.line = QLabel("")
        # A narrow window cuts the read-out, never the switches at its right.
        self.line.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.line.setAccessibleName("Read-out under the pointer")
        self.setFixedHeight(scaled(26))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 0, 12, 0)
        layout.setSpacing(18)
        layout.addWidget(self.line, 1)
        self.progress_text = QLabel("")
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(scaled(140))
        self.progress.setAccessibleName("Progress")
        self.cancel = QPushButton("Cancel")
        self.cancel.setProperty("role", "link")
        self.cancel.clicked.connect(self._cancel)
        self.pause = QPushButton("Pause")
        self.pause.setProperty("role", "link")
        self.pause.clicked.connect(compute.batch.pause)
        self.watched = QLabel("")
        self.watched.setProperty("role", "faint")
        watcher.changed.connect(lambda: self.watched.setText(watcher.text))
        self._zoom = QLabel("")
        self.scale = QPushButton("native")
        self.scale.setProperty("role", "link")
        self.scale.setToolTip("Number scale: changes what is printed everywhere, nothing measured")
        self.scale.setMenu(self._scale_menu())
        self.checks = QPushButton("")
        self.checks.setProperty("role", "link")
        self.checks.clicked.connect(self.checks_wanted)
        for widget in (
            self.watched,
            self.progress_text,
            self.progress,
            self.pause,
            self.cancel,
            self._zoom,
            self.scale,
            self.checks,
        ):
            layout.addWidget(widget)
        self._show_progress()
        self._count_timer = QTimer(self)
        self._count_timer.setSingleShot(True)
        self._count_timer.timeout.connect(self._show_checks)
        compute.batch.progressed.connect(lambda *_: self._show_progress())
        compute.batch.measured.connect(lambda _: self._show_progress())
        compute.awaited.changed.connect(self._show_progress)
        compute.batch.changed.connect(self._on_batch)
        compute.queue.changed.connect(
            lambda i: self.refresh() if i == session.focus.sample_id else None
        )
        for signal in (
            compute.store.loaded,
            compute.store.load_failed,
            compute.checks.changed,
            session.changed,
        ):
            signal.connect(lambda *_: self._count_soon())
        session.changed.connect(lambda *_: self.refresh())
        session.focus.changed.connect(self.refresh)
        session.focus.reach_changed.connect(self.refresh)
        self._viewing.changed.connect(self.refresh)
        self._show_checks()
        self.refresh()

    def _scale_menu(self) -> QMenu:
        menu = QMenu(self)
        group = QActionGroup(menu)
        for kind, (title, explanation) in SCALES.items():
            action = menu.addAction(title)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(kind == self._viewing.scale)
                action.setToolTip(explanation)
                action.triggered.connect(lambda _, kind=kind: self._viewing.choose(scale=kind))
                group.addAction(action)
        return menu

    def _show_progress(self) -> None:
        """What somebody waits for before what goes on beside."""
        awaited, batch = self._compute.awaited, self._compute.batch
        waits = bool(awaited.text)
        if waits:
            self._show_awaited()
        elif batch.is_running:
            self._show_measuring()
        shown_now = waits or batch.is_running
        self.progress_text.setVisible(shown_now)
        self.progress.setVisible(shown_now)
        self.cancel.setVisible(awaited.can_cancel if waits else batch.is_running)
        self.pause.setVisible(batch.is_running and not waits)

    def _show_awaited(self) -> None:
        awaited = self._compute.awaited
        fraction, left = awaited.fraction, awaited.seconds_left
        # Without a maximum the bar only says that something is done.
        self.progress.setMaximum(0 if fraction is None else 100)
        self.progress.setValue(int(100 * (fraction or 0)))
        time_left = "" if left is None else f" · {duration(left)} left"
        self.progress_text.setText(f"{awaited.text}{time_left}")

    def _cancel(self) -> None:
        if self._compute.awaited.text:
            self._compute.awaited.cancel()
        else:
            self._compute.batch.cancel()

    def _on_batch(self) -> None:
        self.pause.setText("Go on" if self._compute.batch.is_paused else "Pause")
        self._show_progress()

    def _show_measuring(self) -> None:
        batch = self._compute.batch
        self.progress.setMaximum(batch.total)
        self.progress.setValue(batch.done)
        time_left = f" · {duration(batch.seconds_left)} left" if batch.done else ""
        text = f"Measuring {batch.done} of {batch.total}{time_left}"
        if batch.is_paused:
            text = f"Paused after {batch.done} of {batch.total}"
        self.progress_text.setText(text)

    def set_zoom(self, zoom: float | None) -> None:
        """Show the zoom."""
        self._zoom.setText("" if zoom is None else f"{shown(round(100 * zoom, 1), 3)} %")

    def point_at(self, pixel: tuple[int, int] | None) -> None:
        """Show the values at a pixel, or nothing."""
        self._pixel = pixel
        self.refresh()

    def refresh(self) -> None:
        """Read the pixel under the pointer anew."""
        self.scale.setText(SCALES[self._viewing.scale][0])
        sample, pixel = self._compute.store.focused, self._pixel
        texts = dict.fromkeys(_FIELDS, "")
        if sample is not None and pixel is not None:
            height, width = self._compute.displayed.frame_of(
                self._session.focus.sample_id or 0
            ).shape
            if 0 <= pixel[0] < width and 0 <= pixel[1] < height:
                texts |= self._read(sample, *pixel)
        self._texts = texts
        self.line.setText("     ".join(text for text in texts.values() if text))

    def _read(self, sample: Sample, x: int, y: int) -> dict[str, str]:
        channel = self._compute.store.channel_for(sample)
        plane = sample.channels[channel]
        height, width = plane.shape
        from_x, from_y = self._compute.displayed.file_pixel(x, y)
        inside = 0 <= from_x < width and 0 <= from_y < height
        native = float(plane.pixels[from_y, from_x]) if inside else math.nan
        scale = self._compute.ranges.number_scale(channel)
        analysis = Analysis(
            sample.renamed(self._session.focus.entry.name) if self._session.focus.entry else sample,
            self._compute.displayed.method,
            self._compute.cache,
        )
        signal = analysis.peek_signal(channel)
        whole = signal is not None and y < signal.shape[0] and x < signal.shape[1]
        value = float(signal.pixels[y, x]) if signal is not None and whole else None
        shown_plane = plane if signal is None or not self._compute.session.shows_signal else signal
        frame = self._compute.displayed.frame_of(self._session.focus.sample_id or 0)
        region = self._compute.regions.at(x, y) if self._compute.session.shows_regions else 0
        texts = {
            "position": self._position(sample, frame, x, y),
            "native": f"native {self._printed(plane, native, channel, 'native', scale)}",
            "region": self._region_text(region, x, y),
            "around": self._around(x, y, shown_plane, scale),
            "others": self._other_channels(sample, channel, from_x, from_y) if inside else "",
        }
        corrected = value is not None and self._compute.session.shows_signal
        if signal is not None and value is not None and (corrected or value != native):
            texts["signal"] = f"signal {self._printed(signal, value, channel, 'signal', scale)}"
        if scale.kind == "native":
            unit = self._compute.ranges.unit_share(channel, native)
            if math.isfinite(unit):
                texts |= {"0–1": f"0–1 {unit:.4f}", "8-bit": f"8-bit {255 * unit:.1f}"}
        return texts

    def _printed(
        self, plane: Plane, value: float, channel: str, source: ValueSource, scale: NumberScale
    ) -> str:
        """A value of a plane: whole numbers in full, others as finely as the data are spread."""
        if plane.pixels.dtype.kind != "f" and scale.kind == "native":
            return shown(value, 5)
        low, high = self._compute.ranges.display_range(
            channel, source, self._session.focus.sample_id
        )
        return shown_within(scale.value(value), scale.difference(high - low))

    def _region_text(self, region: int, x: int, y: int) -> str:
        """The region under the pointer, or why there is none any more."""
        if region:
            name = self._compute.regions.containing(region)
            known = name.facts(region) if name is not None else None
            called = f" {known.name}" if known is not None and known.name else ""
            names, index = self._session.state.method.class_names, class_index(region)
            # Shown are the regions found last, whose class may be undone by now.
            kind = names[index] if 1 < len(names) > index else "region"
            return f"{kind} {number_in_class(region)}{called}"
        regions = self._compute.regions.focused if self._compute.session.shows_regions else None
        reason = regions.reason_at(x, y) if regions is not None else ""
        return f"left out: {reason}" if reason else ""

    def _position(self, sample: Sample, plane: Plane, x: int, y: int) -> str:
        first = 1 if self._viewing.count_from_one else 0
        text = f"x {x + first}  y {y + first}" + (" (from 1)" if first else "")
        calibration = plane.calibration
        if calibration.sides is not None:
            width, height = calibration.sides
            text += f"  ·  {x * width:.4g}, {y * height:.4g} {calibration.unit}"
        return text

    def _other_channels(self, sample: Sample, channel: str, x: int, y: int) -> str:
        """The native values of the channels that are not in focus."""
        others = [name for name in sample.channel_names if name != channel]
        words = [
            f"{name} {shown(float(sample.channels[name].pixels[y, x]), 4)}"
            for name in others[:_MOST_OTHERS]
        ]
        if len(others) > _MOST_OTHERS:
            words.append("…")
        return "  ".join(words)

    def _around(self, x: int, y: int, plane: Plane, scale: NumberScale) -> str:
        """The neighbourhood in the values of the stage: native in Look, signal after it."""
        size = self._session.focus.reach
        if size == 1:
            return ""
        part, inside = covered(x, y, size, self._viewing.form, plane.shape)
        found = neighbourhood_statistics(plane, part, inside)
        mean, sd = scale.value(found.mean), scale.difference(found.sd)
        self.line.setToolTip(
            f"{found.count} pixels: mean {shown(mean, 6)}, sd {shown(sd, 4)}, "
            f"median {shown(scale.value(found.median), 5)}, from "
            f"{shown(scale.value(found.minimum), 5)} to {shown(scale.value(found.maximum), 5)}, "
            f"sum {shown(found.total, 6)} native"
        )
        shape = f"{size}×{size}" if self._viewing.form == "square" else f"disc {size}"
        return f"{shape} mean {shown(mean, 5)} ± {shown(sd, 3)}"

    def _count_soon(self) -> None:
        """Count the checks once for all that comes together."""
        if not self._count_timer.isActive():
            many = len(self._session.state.samples) > _MANY
            self._count_timer.start(_TOGETHER_MS if many else 0)

    def _show_checks(self) -> None:
        lines, seen = self._compute.checks.gathered(), self._compute.checks.seen
        count = sum(not line.names <= seen for line in lines) + len(self._compute.store.errors)
        self.checks.setVisible(bool(lines) or count > 0)
        self.checks.setText(f"▲ {counted(count, 'check')}" if count else "checks")
        self.checks.setToolTip("The checks of all samples, gathered by what was found")

    def texts(self) -> dict[str, str]:
        """Return what is shown, by name."""
        return dict(self._texts)
