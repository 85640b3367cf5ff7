"""One star: radial profile with its fit, growth of the light, residual, numbers."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QPainter, QPaintEvent, QShowEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.core.measure.stars.close_look import StarLook, star_look, steady_radius
from rilievo.core.regions.region_set import class_index
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.star_circles import set_circle
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled, text_font
from rilievo.ui.widgets.brush_plot import BrushPlot

_SIDE = 104
_WAYS = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
# Pixels that a key moves the aperture by.
_STEP, _FINE_STEP, _LEAST_RADIUS = 0.5, 0.1, 0.5
_NUMBERS = {
    "flux": "Flux (counts)", "magnitude": "Magnitude (mag)", "star_snr": "SNR",
    "fwhm": "FWHM (px)", "hfd": "HFD (px)", "ellipticity": "Ellipticity",
    "peak": "Peak (counts)", "sky": "Sky (counts)",
}  # fmt: skip


class _Cutout(QWidget):
    """A small square picture with a title."""

    def __init__(self, title: str, theme: Theme) -> None:
        super().__init__()
        self._title, self._theme = title, theme
        self._image: QImage | None = None
        self.setFixedSize(_SIDE, _SIDE + 16)
        self.setAccessibleName(title)

    def show_values(self, values: np.ndarray, low: float, high: float) -> None:
        """Show values between two ends; undefined ones are the ground's gray."""
        span = high - low if high > low else 1.0
        grey = np.nan_to_num(np.clip((values - low) / span, 0, 1) * 255, nan=120).astype(np.uint8)
        side = grey.shape[0]
        data = np.ascontiguousarray(grey).tobytes()
        self._image = QImage(data, side, side, side, QImage.Format.Format_Grayscale8).copy()
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setFont(text_font(10))
        painter.setPen(self._theme.colour("faint"))
        painter.drawText(0, 11, self._title)
        if self._image is not None:
            painter.drawImage(self.rect().adjusted(0, 16, 0, 0), self._image)


class GrowthPlot(BrushPlot):
    """The growth of the light; Left and Right move the aperture, with Shift in small steps."""

    stepped = pyqtSignal(float)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Growth of the light with the radius")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        way = 0 if event is None else _WAYS.get(Qt.Key(event.key()), 0)
        if event is None or not way:
            super().keyPressEvent(event)
            return
        fine = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        self.stepped.emit(way * (_FINE_STEP if fine else _STEP))


class StarPanel(QWidget):
    """The star that is chosen in the picture or the table."""

    number_chosen = pyqtSignal(str, int, str, str)  # sample, region, channel, key

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self.look: StarLook | None = None
        self.profile = BrushPlot(theme, "Radial profile of the star")
        self.growth = GrowthPlot(theme)
        self.growth.stepped.connect(self._step_radius)
        self.profile.label("bottom", "distance from the centre (px)")
        self.profile.label("left", "counts above the sky")
        self.growth.label("bottom", "radius (px)")
        self.growth.label("left", "light, share of the aperture")
        ink, accent = theme.colour("ink"), theme.colour("accent")
        self._dots = pyqtgraph.ScatterPlotItem(
            size=4, pen=None, brush=pyqtgraph.mkBrush(theme.colour("faint", 130))
        )
        self._fit = pyqtgraph.PlotCurveItem(pen=pyqtgraph.mkPen(accent, width=2))
        self._grown = pyqtgraph.PlotCurveItem(pen=pyqtgraph.mkPen(ink, width=1.5))
        for plot, items in ((self.profile, (self._dots, self._fit)), (self.growth, (self._grown,))):
            for item in items:
                plot.getPlotItem().addItem(item)
        self._lines = {
            name: pyqtgraph.InfiniteLine(
                angle=90, movable=name == "radius",
                pen=pyqtgraph.mkPen(theme.colour(role), width=1.5, style=style),
            )
            for name, role, style in (
                ("radius", "accent", Qt.PenStyle.SolidLine),
                ("half", "good", Qt.PenStyle.DashLine),
            )
        }  # fmt: skip
        for line in self._lines.values():
            self.growth.getPlotItem().addItem(line)
        self._lines["radius"].sigPositionChangeFinished.connect(self._on_radius)
        self.cutout, self.residual = _Cutout("Star", theme), _Cutout("After the fit", theme)
        self.say = QLabel("")
        self.say.setProperty("role", "faint")
        self.say.setWordWrap(True)
        self.title = QLabel("")
        self.title.setProperty("role", "title")
        self.values: dict[str, QPushButton] = {}
        self._assemble()
        for signal in (session.focus.regions_changed, session.focus.changed):
            signal.connect(self.refresh)
        compute.queue.changed.connect(lambda _: self.refresh())
        self._show(None, "")

    def _assemble(self) -> None:
        numbers = QWidget()
        grid = QGridLayout(numbers)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(1)
        for k, (name, title) in enumerate(_NUMBERS.items()):
            label = QLabel(title)
            label.setProperty("role", "faint")
            value = QPushButton("–")
            value.setProperty("role", "link")
            value.setFixedHeight(scaled(18))
            value.setToolTip("Where this number comes from")
            value.setAccessibleName(title)
            value.clicked.connect(lambda _, key=name: self._choose(key))
            self.values[name] = value
            grid.addWidget(label, k, 0)
            grid.addWidget(value, k, 1)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(16, 6, 4, 4)
        column.setSpacing(2)
        column.addWidget(self.title)
        column.addWidget(numbers)
        column.addWidget(self.say)
        column.addStretch(1)
        left.setFixedWidth(scaled(196))
        pictures = QWidget()
        stack = QVBoxLayout(pictures)
        stack.setContentsMargins(4, 6, 16, 4)
        stack.setSpacing(4)
        stack.addWidget(self.cutout)
        stack.addWidget(self.residual)
        stack.addStretch(1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(left)
        layout.addWidget(self.profile, 1)
        layout.addWidget(self.growth, 1)
        layout.addWidget(pictures)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def _star(self) -> int | None:
        """The chosen region, if it is a star."""
        regions = self._session.focus.regions
        if len(regions) != 1:
            return None
        region = next(iter(regions))
        position = class_index(region)
        outlines = self._session.state.method.outlines
        is_star = position < len(outlines) and outlines[position].source == "stars"
        return region if is_star else None

    def refresh(self) -> None:
        """Look at the chosen star."""
        if not self.isVisible():
            return
        region, sample = self._star(), self._compute.store.focused
        found = self._compute.regions.containing(region) if region is not None else None
        k = found.index_of(region) if found is not None and region is not None else None
        if found is None or k is None or sample is None or region is None:
            self._show(None, "")
            return
        analysis = self._compute.store.focused_analysis
        if analysis is None:
            return
        stars = analysis.of_class(class_index(region))
        channel = self._compute.store.channel_for(sample)
        x, y = (float(v) for v in found.centres[k])
        label = found.label_of(region)

        def work() -> StarLook:
            growth = stars.star_growth(channel)
            return star_look(analysis.signal(channel), x, y, stars.star_circles(), growth)

        self._compute.jobs.run("star", work, lambda look: self._show(look, label), lambda _: None)

    def _show(self, look: StarLook | None, label: str) -> None:
        self.look = look
        for widget in (self.profile, self.growth, self.cutout, self.residual):
            widget.setVisible(look is not None)
        for value in self.values.values():
            value.setText("–")
        if look is None:
            self.title.setText("Star")
            self.say.setText(
                "Choose one star in the picture or the table. Stars are found in Outline, by the "
                "kind “Stars”."
            )
            return
        stars = look.stars
        self.title.setText(f"Star {label}")
        numbers = {
            "flux": stars.flux, "magnitude": stars.magnitude, "star_snr": stars.snr,
            "fwhm": stars.chosen.fwhm, "hfd": 2 * stars.light["half_radius"],
            "ellipticity": stars.chosen.ellipticity, "peak": stars.light["peak"],
            "sky": stars.sky,
        }  # fmt: skip
        for name, column in numbers.items():
            digits = 3 if name == "ellipticity" else 5
            self.values[name].setText(shown(float(column[0]), digits))
        steady = steady_radius(look)
        radius = stars.circles.radius
        self.say.setText(
            f"At ({look.x + 1:.2f}, {look.y + 1:.2f}). Drag the line in the growth curve, or press "
            f"Left and Right in it, to set the aperture, now {radius:.4g} px"
            + (f"; the light is steady from {steady:.1f} px." if math.isfinite(steady) else ".")
        )
        self._dots.setData(look.distance, look.value)
        self._fit.setData(*look.curve)
        self._grown.setData(*look.growth)
        self._show_radius(radius)
        self._lines["half"].setPos(look.half_flux_radius)
        top = float(np.nanmax(look.cutout))
        self.cutout.show_values(np.arcsinh(look.cutout / max(top, 1e-9) * 20), -0.3, 3.7)
        noise = float(np.nan_to_num(stars.light["sky_sd"][0], nan=1.0)) or 1.0
        self.residual.show_values(look.residual, -5 * noise, 5 * noise)
        for plot in (self.profile, self.growth):
            plot.getPlotItem().enableAutoRange()

    def _choose(self, key: str) -> None:
        region, entry, sample = self._star(), self._session.focus.entry, self._compute.store.focused
        if region is not None and entry is not None and sample is not None:
            self.number_chosen.emit(
                entry.name, region, self._compute.store.channel_for(sample), key
            )

    def _on_radius(self) -> None:
        self.set_radius(float(self._lines["radius"].value()))

    def _step_radius(self, by: float) -> None:
        """Move the aperture; the line at once, the numbers when they are there."""
        if self.look is not None:
            radius = float(self._lines["radius"].value()) + by
            self._show_radius(max(round(radius, 1), _LEAST_RADIUS))
            self._on_radius()

    def _show_radius(self, radius: float) -> None:
        self._lines["radius"].blockSignals(True)
        self._lines["radius"].setPos(radius)
        self._lines["radius"].blockSignals(False)
        self.growth.setAccessibleDescription(f"aperture of {radius:.4g} pixels")

    def set_radius(self, radius: float) -> None:
        """Measure with another aperture; the sky ring moves out where it must."""
        region = self._star()
        if region is None:
            return
        if self.look is None:
            return
        circles = self.look.stars.circles
        changed = circles.use.with_circle("radius", radius, circles)
        set_circle(self._session, class_index(region), changed)
