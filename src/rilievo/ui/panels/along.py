"""A profile along the time or depth of a stack, at the pointer, with a curve through it."""

from __future__ import annotations

import numpy as np
import pyqtgraph
from numpy.typing import NDArray
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from rilievo.core.compare.observations import as_number
from rilievo.core.compare.question import FITS
from rilievo.core.compare.wording import parameters_in_words
from rilievo.core.errors import RilievoError
from rilievo.core.image.stack import SECONDS_COLUMN, depth_column
from rilievo.core.method.signal_flags import signal_unit
from rilievo.core.study.along_stack import AlongStack, Place, profile_along
from rilievo.core.study.study import SampleEntry
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import choice_box, faint, side_by_side
from rilievo.ui.widgets.live_plot import Curves, Plot, line_marker

_FINE = 200
_NOTHING = AlongStack(np.zeros(0), np.zeros(0))


class AlongPanel(QWidget):
    """Controls left, values against time or depth right; the marker is the plane that is shown."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        # The pixel that was pointed at last, and what was found there.
        self._pixel: tuple[int, int] | None = None
        self.found, self._axis_name, self._unit = _NOTHING, "", ""
        self.axis = choice_box("Axis", [("time", "Time"), ("z", "Depth")], 100)
        self.fit = choice_box("Fitted curve", [(key, text) for key, (text, _) in FITS.items()], 184)
        self.steady = QCheckBox("Keep the place")
        self.steady.setToolTip("Stay at this pixel while the pointer goes on")
        self.axis.activated.connect(lambda _: self.refresh())
        self.fit.activated.connect(lambda _: self.refresh())
        self.steady.toggled.connect(lambda _: self.refresh())
        self.plot = Plot(theme, intensity_axis="left", name="Values along the stack")
        self.plot.getPlotItem().getAxis("bottom").setHeight(36)
        self._curves = Curves(self.plot)
        self._marker = line_marker(theme)
        self.plot.getPlotItem().addItem(self._marker)
        self.plot.hovered.connect(self._read)
        self.say = faint("Point at the picture.")
        self.reading = QLabel(" ")
        self.reading.setProperty("role", "faint")
        left = QVBoxLayout()
        left.setSpacing(4)
        left.addWidget(side_by_side(self.axis, self.steady, stretch=True))
        left.addWidget(side_by_side(self.fit, stretch=True))
        left.addWidget(self.say)
        left.addStretch(1)
        right = QVBoxLayout()
        right.setSpacing(0)
        right.addWidget(self.plot, 1)
        right.addWidget(self.reading)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 4, 16, 4)
        layout.setSpacing(12)
        layout.addLayout(left, 1)
        layout.addLayout(right, 2)
        session.view.pointed.connect(self._follow)
        for signal in (session.focus.changed, session.focus.reach_changed, session.stage_changed):
            signal.connect(lambda *_: self.refresh())
        session.changed.connect(lambda *_: self.refresh())

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def _follow(self, pixel: tuple[int, int] | None) -> None:
        if pixel is not None and pixel != self._pixel and not self.steady.isChecked():
            self._pixel = pixel
            self.refresh()

    def _planes(self) -> list[SampleEntry]:
        """The planes along the axis at the other place of the one that is shown, in order."""
        stack, focus = self._session.stack, self._session.focus.sample_id
        place = None if stack is None or focus is None else stack.place_of(focus)
        if stack is None or place is None:
            return []
        if len(stack.times) < 2 or len(stack.depths) < 2:
            self.axis.setCurrentIndex(0 if len(stack.times) > 1 else 1)
        along = self.axis.currentData()
        ids = [
            one
            for (time, z), one in sorted(stack.planes.items())
            if (z == place[1] if along == "time" else time == place[0])
        ]
        return [self._session.state.entry(one) for one in ids]

    def _positions(self, entries: list[SampleEntry]) -> tuple[NDArray[np.float64], str]:
        """Where planes stand on the axis, and what that is called with its unit."""
        names = entries[0].attributes
        depth = depth_column(names)
        known = "z" if depth is None else depth[0]
        if self.axis.currentData() == "time":
            known = SECONDS_COLUMN if SECONDS_COLUMN in names else "time"
        numbers = [as_number(entry.attributes.get(known, "")) for entry in entries]
        return np.array(numbers), known

    def refresh(self) -> None:
        """Read the values at the place and fit the curve, in a thread."""
        if not self.isVisible():
            return
        sample, entries = self._compute.store.focused, self._planes()
        if sample is None or self._pixel is None or len(entries) < 2:
            self._show(_NOTHING)
            self.say.setText(
                "Point at the picture." if entries else "This sample is no plane of a stack."
            )
            return
        place = Place(
            self._compute.store.channel_for(sample),
            *self._pixel,
            self._session.focus.reach // 2,
            self._session.shows_signal,
        )
        positions, name = self._positions(entries)
        method, cache, kind = (
            self._session.state.method, self._compute.cache, self.fit.currentData()
        )  # fmt: skip

        unit = "counts"
        if place.corrected:
            unit = signal_unit(method, entries[0].name, place.channel)

        def failed(error: RilievoError) -> None:
            self._show(_NOTHING)
            self.say.setText(str(error))

        self._compute.jobs.run(
            "along the stack",
            lambda: profile_along(cache, entries, positions, method, place, kind),
            lambda found: self._show(found, name, unit),
            failed,
        )

    def _show(self, found: AlongStack, name: str = "", unit: str = "") -> None:
        self.found, self._axis_name, self._unit = found, name, unit
        style = {"color": self._theme.value("faint"), "font-size": "11px"}
        self.plot.getPlotItem().setLabel("bottom", name, **style)
        pen = pyqtgraph.mkPen(self._theme.colour("ink"), width=1.5)
        self._curves.show("values", found.positions, found.values, pen=pen)
        text, fit = found.refusal, found.fit
        if fit is not None:
            x = np.linspace(fit.x.min(), fit.x.max(), _FINE)
            accent = pyqtgraph.mkPen(self._theme.colour("accent"), width=2)
            self._curves.show("fit", x, fit.at(x), pen=accent)
            text = parameters_in_words(fit)
        else:
            self._curves.keep(lambda key: key == "values")
        if self._pixel is not None and found.values.size:
            count = int(np.isfinite(found.values).sum())
            self.say.setText(f"At ({self._pixel[0]}, {self._pixel[1]}), {count} planes. {text}")
        ids = [entry.id for entry in self._planes()]
        focus = self._session.focus.sample_id
        here = focus in ids and len(ids) == found.positions.size
        self._marker.setVisible(here)
        if here:
            self._marker.setPos(float(found.positions[ids.index(focus or 0)]))

    def _read(self, at: tuple[float, float] | None) -> None:
        """Say the value nearest to the pointer in the plot."""
        known = np.flatnonzero(np.isfinite(self.found.positions))
        if at is None or not known.size:
            self.reading.setText(" ")
            return
        k = int(known[np.argmin(np.abs(self.found.positions[known] - at[0]))])
        value = shown(float(self.found.values[k]), 5)
        self.reading.setText(f"{self._axis_name} {self.found.positions[k]:g}: {value} {self._unit}")
