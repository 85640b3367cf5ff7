"""The numbers themselves: pixels around the pointer as a grid, and their statistics."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QGuiApplication, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.image.image import Plane, ValueSource
from rilievo.core.image.neighbourhood import covered, neighbourhood_statistics
from rilievo.core.image.number_scale import NumberScale
from rilievo.core.measure.stars.peak_reading import PeakReading, read_peak
from rilievo.core.view.palettes import ViewStyle, colour_table
from rilievo.core.view.sampling import levels_of
from rilievo.core.wording.numbers import MINUS, shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled, text_font
from rilievo.ui.widgets.card import NumberField, side_by_side

_CELL_WIDTH, _CELL_HEIGHT = 56, 19
_HEAD_WIDTH, _HEAD_HEIGHT = 44, 17
# The tint of a cell is faint, so that its number can be read.
_TINT = 90


class PixelGrid(QWidget):
    """Cells of numbers about a middle pixel, tinted by value."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.values = np.zeros((0, 0))
        self._first = (0, 0)
        self._middle: tuple[int, int] | None = None
        self._scale = NumberScale()
        self._display = (0.0, 1.0)
        self._offset = 0
        self.setMinimumSize(240, 80)
        self.setAccessibleName("Pixel values around the pointer")

    def room(self) -> tuple[int, int]:
        """Columns and rows that fit, odd, so that there is a middle."""
        columns = (self.width() - _HEAD_WIDTH) // _CELL_WIDTH
        rows = (self.height() - _HEAD_HEIGHT) // _CELL_HEIGHT
        return max(columns - 1 + columns % 2, 1), max(rows - 1 + rows % 2, 1)

    def show_pixels(
        self,
        plane: Plane,
        middle: tuple[int, int],
        scale: NumberScale,
        display: tuple[float, float],
        *,
        from_one: bool,
    ) -> None:
        """Show what lies around a pixel."""
        columns, rows = self.room()
        height, width = plane.shape
        x0 = min(max(middle[0] - columns // 2, 0), max(width - columns, 0))
        y0 = min(max(middle[1] - rows // 2, 0), max(height - rows, 0))
        self.values = plane.pixels[y0 : y0 + rows, x0 : x0 + columns].astype(np.float64)
        self._first, self._middle = (x0, y0), middle
        self._scale, self._display = scale, display
        self._offset = 1 if from_one else 0
        self.update()

    def clear(self) -> None:
        """Show nothing."""
        self.values, self._middle = np.zeros((0, 0)), None
        self.update()

    def text_of(self, value: float) -> str:
        """Return a value as it is written into its cell."""
        if not math.isfinite(value):
            return "–"
        span = abs(self._scale.difference(self._display[1] - self._display[0]))
        decimals = min(max(0, 3 - math.floor(math.log10(span))), 5) if span > 0 else 3
        if self._scale.kind == "native" and bool((self.values == np.rint(self.values)).all()):
            decimals = 0
        return f"{round(self._scale.value(value), decimals) + 0.0:.{decimals}f}".replace("-", MINUS)

    def as_text(self) -> str:
        """Return the grid as tab-separated text with its positions."""
        x0, y0 = (position + self._offset for position in self._first)
        head = ["y \\ x", *(str(x0 + i) for i in range(self.values.shape[1]))]
        lines = ["\t".join(head)]
        for k, row in enumerate(self.values):
            numbers = [f"{self._scale.value(float(value)):.10g}" for value in row]
            lines.append("\t".join([str(y0 + k), *numbers]))
        return "\n".join(lines)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setFont(text_font(11))
        if not self.values.size:
            painter.setPen(self._theme.colour("faint"))
            centre = int(Qt.AlignmentFlag.AlignCenter)
            painter.drawText(self.rect(), centre, "Point at the picture to read its numbers.")
            return
        right = int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        levels = levels_of(self.values, *self._display)
        table = colour_table(ViewStyle())
        x0, y0 = self._first
        painter.setPen(self._theme.colour("faint"))
        for i in range(self.values.shape[1]):
            box = QRectF(_HEAD_WIDTH + i * _CELL_WIDTH, 0, _CELL_WIDTH - 6, _HEAD_HEIGHT)
            painter.drawText(box, right, str(x0 + i + self._offset))
        for k in range(self.values.shape[0]):
            top = _HEAD_HEIGHT + k * _CELL_HEIGHT
            painter.setPen(self._theme.colour("faint"))
            painter.drawText(
                QRectF(0, top, _HEAD_WIDTH - 8, _CELL_HEIGHT), right, str(y0 + k + self._offset)
            )
            for i in range(self.values.shape[1]):
                box = QRectF(_HEAD_WIDTH + i * _CELL_WIDTH, top, _CELL_WIDTH, _CELL_HEIGHT)
                tint = QColor.fromRgb(int(table[levels[k, i]]) & 0xFFFFFF)
                tint.setAlpha(_TINT)
                painter.fillRect(box.adjusted(0, 0, -1, -1), tint)
                is_middle = (x0 + i, y0 + k) == self._middle
                painter.setPen(self._theme.colour("ink"))
                weight = QFont.Weight.DemiBold if is_middle else QFont.Weight.Normal
                painter.setFont(text_font(11, weight))
                painter.drawText(
                    box.adjusted(0, 0, -6, 0), right, self.text_of(float(self.values[k, i]))
                )
                if is_middle:
                    painter.setPen(QPen(self._theme.colour("accent"), 1.6))
                    painter.drawRect(box.adjusted(0, 0, -1, -1))


def _told(peak: PeakReading, scale: NumberScale) -> str:
    """A peak in a small table."""
    rows = (
        ("peak", shown(scale.difference(peak.height), 4)),
        ("above", f"{shown(scale.value(peak.background), 5)} ± {shown(peak.noise, 2)}"),
        ("flux", shown(peak.flux, 5)),
        ("FWHM", f"{peak.fwhm:.2f} px"),
        ("half-flux ⌀", f"{peak.half_flux_diameter:.2f} px"),
        ("ellipticity", f"{peak.ellipticity:.2f}"),
    )
    cells = "".join(
        f"<tr><td>{name}&nbsp;&nbsp;</td><td align='right'>{text}</td></tr>" for name, text in rows
    )
    return f"<table>{cells}</table>"


class PixelsPanel(QWidget):
    """The grid, what is read around the pointer, and repair by hand."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self._viewing = session.view
        self.grid = PixelGrid(theme)
        self.stays = QCheckBox("Stay here")
        self.stays.setToolTip("Keep these pixels instead of following the pointer (H)")
        self.size_field = NumberField(unit="pixels across, 1 to 501")
        self.size_field.setFixedWidth(scaled(52))
        self.size_field.setAccessibleName("Size of the neighbourhood")
        self.form = QComboBox()
        self.form.addItem("square", "square")
        self.form.addItem("disc", "disc")
        self.form.setFixedWidth(scaled(84))
        self.form.setAccessibleName("Form of the neighbourhood")
        self._numbers = QLabel("")
        self._numbers.setAccessibleName("Values around the pointer")
        self._numbers.setProperty("role", "faint")
        self._numbers.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.peak = QLabel("")
        self.peak.setProperty("role", "faint")
        self.peak.setWordWrap(True)
        self.peak.setFixedWidth(scaled(150))
        self.peak.setAccessibleName("The peak under the pointer")
        self.copy_button = QPushButton("Copy")
        self.copy_button.setToolTip("Copy the grid as tab-separated text")
        self.copy_button.clicked.connect(self._copy)
        self.repair_button = QPushButton("Repair")
        self.repair_button.setCheckable(True)
        self.repair_button.setToolTip(
            "Click a pixel, or drag over a small patch, to replace it in the signal (R)"
        )
        self.repair_button.clicked.connect(lambda: self._viewing.use("repair"))
        self.repair_value = NumberField(may_be_empty="neighbours", unit="native units")
        self.repair_value.setAccessibleName("Value that repaired pixels get")
        self.repair_value.setFixedWidth(scaled(92))
        self.repair_value.entered.connect(self.repair_value.set_value)
        side = QVBoxLayout()
        side.setSpacing(4)
        side.addWidget(side_by_side(QLabel("Around"), self.size_field, self.form))
        side.addWidget(side_by_side(self.stays, self.copy_button))
        side.addWidget(side_by_side(self.repair_button, QLabel("with"), self.repair_value))
        side.addStretch(1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 4, 16, 4)
        layout.setSpacing(12)
        layout.addLayout(side)
        layout.addWidget(self._numbers)
        layout.addWidget(self.peak)
        layout.addWidget(self.grid, 1)
        self.size_field.entered.connect(
            lambda v: self._session.focus.set_reach(round(v)) if v else None
        )
        self.form.activated.connect(lambda _: self._viewing.choose(form=self.form.currentData()))
        self._viewing.pointed.connect(lambda _: self.refresh())
        self._viewing.changed.connect(self.refresh)
        for signal in (session.focus.reach_changed, session.focus.changed, session.stage_changed):
            signal.connect(lambda *_: self.refresh())
        compute.queue.changed.connect(lambda _: self.refresh())
        self._at: tuple[int, int] | None = None
        self.refresh()

    def _plane(self) -> Plane | None:
        sample, entry = self._compute.store.focused, self._session.focus.entry
        if sample is None or entry is None:
            return None
        channel = self._compute.store.channel_for(sample)
        return self._compute.displayed.plane(entry.id, channel)

    def refresh(self) -> None:
        """Show the pixels around the pointer."""
        self.repair_button.setChecked(self._viewing.tool == "repair")
        self.size_field.set_value(self._session.focus.reach)
        self.form.setCurrentIndex(self.form.findData(self._viewing.form))
        if not self.isVisible():
            return
        if self._viewing.pixel is not None and not self.stays.isChecked():
            self._at = self._viewing.pixel
        plane = self._plane()
        inside = (
            plane is not None
            and self._at is not None
            and self._at[0] < plane.shape[1]
            and self._at[1] < plane.shape[0]
        )
        if plane is None or self._at is None or not inside:
            self.grid.clear()
            self._numbers.setText("")
            self.peak.setText("")
            return
        channel = self._session.focus.channel or ""
        source: ValueSource = "signal" if self._compute.session.shows_signal else "native"
        scale = self._compute.ranges.number_scale()
        self.grid.show_pixels(
            plane,
            self._at,
            scale,
            self._compute.ranges.display_range(channel, source, self._session.focus.sample_id),
            from_one=self._viewing.count_from_one,
        )
        self._show_statistics(plane, self._at, scale)
        self._read_peak(plane, self._at, scale)

    def _read_peak(self, plane: Plane, at: tuple[int, int], scale: NumberScale) -> None:
        """Read the peak near the pointer, in a thread; the newest pointer counts."""

        def done(found: PeakReading | str) -> None:
            self.peak.setText(found if isinstance(found, str) else _told(found, scale))

        self._compute.jobs.run("peak", lambda: read_peak(plane, *at), done, lambda _: None)

    def _show_statistics(self, plane: Plane, at: tuple[int, int], scale: NumberScale) -> None:
        part, inside = covered(*at, self._session.focus.reach, self._viewing.form, plane.shape)
        found = neighbourhood_statistics(plane, part, inside)
        rows = (
            ("count", shown(found.count)),
            ("mean", shown(scale.value(found.mean), 6)),
            ("median", shown(scale.value(found.median), 6)),
            ("sd", shown(scale.difference(found.sd), 4)),
            ("min", shown(scale.value(found.minimum), 6)),
            ("max", shown(scale.value(found.maximum), 6)),
            ("sum", shown(found.total, 7)),
        )
        cells = "".join(
            f"<tr><td>{name}&nbsp;&nbsp;</td><td align='right'>{text}</td></tr>"
            for name, text in rows
        )
        self._numbers.setText(f"<table>{cells}</table>")

    def hold(self) -> None:
        """Keep the pixels shown, or follow the pointer again."""
        self.stays.setChecked(not self.stays.isChecked())

    def _copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.grid.as_text())

    def showEvent(self, event: object) -> None:
        self.refresh()

    def resizeEvent(self, event: object) -> None:
        self.refresh()
