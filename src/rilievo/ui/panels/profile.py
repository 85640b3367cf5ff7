"""The line profile: along a drawn line, a full row or a full column; linked with the picture."""

from __future__ import annotations

import html
import math
from dataclasses import dataclass

import pyqtgraph
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.compare.plots.group_style import COLOURS, group_style
from rilievo.core.errors import MethodError
from rilievo.core.image.image import Calibration, Plane, Sample
from rilievo.core.image.line_profile import (
    Line,
    Profile,
    column_line,
    line_profile,
    profile_facts,
    row_line,
)
from rilievo.core.method.method import checked_copy
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import NumberField, choice_box, faint, side_by_side
from rilievo.ui.widgets.live_plot import OVERLAID, Curves, Plot, line_marker

_MOST_OVERLAID = 24
_MOST_NAMED = 4


@dataclass(frozen=True, eq=False)
class NamedProfile:
    """A profile with what it is called and drawn in."""

    name: str
    profile: Profile
    colour: str


class ProfilePanel(QWidget):
    """Controls left, plot right, extremes below; the cursor is shown in the picture as well."""

    copy_wanted = pyqtSignal()
    save_wanted = pyqtSignal()
    cursor_moved = pyqtSignal(object)  # distance in pixels, or None

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self._viewing = session.view
        self.profiles: list[NamedProfile] = []
        self._calibration = Calibration()
        kinds = (("line", "Line"), ("row", "Full row"), ("column", "Full column"))
        across = (("mean", "mean across"), ("sum", "sum across"))
        self.kind = choice_box("Kind of profile", kinds, 100)
        self.across = choice_box("Mean or sum across the line", across, 128)
        self.others = choice_box("What is overlaid in the profile", OVERLAID, 168)
        self.width_field = NumberField(unit="pixels across")
        self.width_field.setFixedWidth(scaled(48))
        self.draw_button = QPushButton("Draw")
        self.draw_button.setCheckable(True)
        self.draw_button.setToolTip("Drag a line over the picture (L); Shift keeps it straight")
        self.draw_button.clicked.connect(lambda: self._viewing.use("line"))
        self.hold = QCheckBox("Hold")
        self.hold.setToolTip("Keep this row or column instead of following the pointer")
        self.copy_button, self.save_button = QPushButton("Copy"), QPushButton("Save CSV …")
        self.copy_button.clicked.connect(self.copy_wanted)
        self.save_button.clicked.connect(self.save_wanted)
        self.width_field.setAccessibleName("Width of the line")
        self.plot = Plot(theme, intensity_axis="left", name="Profile")
        self.plot.getPlotItem().getViewBox().setMouseEnabled(x=True, y=False)
        self._curves = Curves(self.plot)
        self._cursor = line_marker(theme)
        self._cursor.setVisible(False)
        self.plot.getPlotItem().addItem(self._cursor)
        self._facts = QLabel(" ")
        self._facts.setProperty("role", "faint")
        self._facts.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._legend = QLabel("")
        self._legend.setProperty("role", "faint")
        self._hint = faint("Draw a line on the picture to see the values along it.")
        left = QVBoxLayout()
        left.setSpacing(4)
        self.draw_button.setFixedWidth(scaled(62))
        left.addWidget(side_by_side(self.kind, self.draw_button, self.hold, stretch=True))
        left.addWidget(side_by_side(self.width_field, self.across))
        left.addWidget(self.others)
        left.addWidget(side_by_side(self.copy_button, self.save_button))
        left.addStretch(1)
        right = QVBoxLayout()
        right.setSpacing(0)
        right.addWidget(self.plot, 1)
        right.addWidget(self._hint)
        foot = QHBoxLayout()
        foot.addWidget(self._facts, 1)
        foot.addWidget(self._legend)
        right.addLayout(foot)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 4, 16, 4)
        layout.setSpacing(12)
        layout.addLayout(left)
        layout.addLayout(right, 1)
        self.kind.activated.connect(lambda _: self._choose_kind())
        self.across.activated.connect(lambda _: self._change(across=self.across.currentData()))
        self.others.activated.connect(lambda _: self.refresh())
        self.width_field.entered.connect(self._type_width)
        self.plot.hovered.connect(self._hover)
        self.plot.whole_wanted.connect(self._show_whole)
        for signal in (session.focus.changed, compute.queue.changed, session.stage_changed):
            signal.connect(lambda *_: self.refresh())
        self._viewing.changed.connect(self.refresh)
        self._viewing.line_changed.connect(self.refresh)
        self._viewing.pointed.connect(self._follow)

    # -- the line

    def _choose_kind(self) -> None:
        if self.kind.currentData() != "line":
            self._follow(self._viewing.pixel or self._middle())
        elif self._viewing.tool != "line":
            self._viewing.use("line")
        self.refresh()

    def _middle(self) -> tuple[int, int] | None:
        sample = self._compute.store.focused
        return None if sample is None else (sample.first.shape[1] // 2, sample.first.shape[0] // 2)

    def _follow(self, pixel: tuple[int, int] | None) -> None:
        """A row or column goes through the pointer; on a line the pointer moves the cursor."""
        sample, kind = self._compute.store.focused, self.kind.currentData()
        if pixel is None or sample is None or not self.isVisible():
            return
        if kind == "line":
            self._cursor_at_pixel(pixel)
            return
        if self.hold.isChecked():
            return
        shape = sample.first.shape
        line = row_line(pixel[1], shape) if kind == "row" else column_line(pixel[0], shape)
        now = self._viewing.line
        kept = {} if now is None else {"width": now.width, "across": now.across}
        self._viewing.choose(line=line.model_copy(update=kept))

    def set_line(self, x0: float, y0: float, x1: float, y1: float) -> None:
        """Put the line somewhere, as it was drawn."""
        now = self._viewing.line
        kept = {} if now is None else {"width": now.width, "across": now.across}
        self.kind.setCurrentIndex(0)
        self._viewing.choose(
            line=Line.model_validate({"x0": x0, "y0": y0, "x1": x1, "y1": y1, **kept})
        )

    def _type_width(self, value: float | None) -> None:
        if value is not None:
            self._change(width=round(value))

    def _change(self, **fields: object) -> None:
        if self._viewing.line is None:
            return
        try:
            self._viewing.choose(line=checked_copy(self._viewing.line, **fields))
        except MethodError:
            # Out of range: the field shows again what holds.
            self.refresh()

    # -- what is shown

    def _wanted(self) -> list[tuple[str, Sample, str, str]]:
        """Name, sample, channel and colour of each curve."""
        sample, entry = self._compute.store.focused, self._session.focus.entry
        if sample is None or entry is None:
            return []
        channel, groups = self._compute.store.channel_for(sample), self._session.state.groups
        own = group_style(groups, entry.group).colour
        result = [(entry.name, sample.renamed(entry.name), channel, own)]
        others = self.others.currentData()
        if others == "channels":
            result = [
                (name, sample.renamed(entry.name), name, COLOURS[i % len(COLOURS)])
                for i, name in enumerate(sample.channel_names)
            ]
        elif others == "samples":
            result += [
                (e.name, self._compute.store.samples[e.id].renamed(e.name), channel,
                 group_style(groups, e.group).colour)
                for e in self._session.state.samples
                if e.id != entry.id
                and e.id in self._compute.store.samples
                and channel in self._compute.store.samples[e.id].channels
            ][: _MOST_OVERLAID - 1]  # fmt: skip
        return result

    def refresh(self) -> None:
        """Compute the profiles anew, in a thread."""
        self.draw_button.setChecked(self._viewing.tool == "line")
        self.hold.setVisible(self.kind.currentData() != "line")
        self.draw_button.setVisible(self.kind.currentData() == "line")
        if not self.isVisible():
            return
        line, wanted = self._viewing.line, self._wanted()
        self.plot.setVisible(line is not None)
        self._hint.setVisible(line is None)
        if line is None or not wanted:
            self._facts.setText(" ")
            return
        self.width_field.set_value(line.width)
        self.across.setCurrentIndex(self.across.findData(line.across))
        self._calibration = wanted[0][1].channels[wanted[0][2]].calibration
        method, cache = self._compute.displayed.method, self._compute.cache
        shows_signal = self._compute.session.shows_signal

        def plane_of(sample: Sample, channel: str) -> Plane:
            if not shows_signal:
                return sample.channels[channel]
            return Analysis(sample, method, cache).signal(channel)

        def work() -> list[NamedProfile]:
            return [
                NamedProfile(name, line_profile(plane_of(sample, channel), line), colour)
                for name, sample, channel, colour in wanted
            ]

        self._compute.jobs.run("profile", work, self._draw, lambda _: None, every=True)

    def _draw(self, profiles: list[NamedProfile]) -> None:
        longer = not self.profiles or len(self.profiles[0].profile.distance) != len(
            profiles[0].profile.distance
        )
        self.profiles = profiles
        self.plot.set_number_scale(self._compute.ranges.number_scale())
        size = self._step
        names = {one.name for one in profiles}
        self._curves.keep(lambda key: key in names)
        low, high = math.inf, -math.inf
        for i, one in enumerate(profiles):
            colour = QColor(one.colour)
            colour.setAlpha(255 if i == 0 or len(profiles) < 5 else 130)
            pen = pyqtgraph.mkPen(colour, width=1.8 if i == 0 else 1.1)
            self._curves.show(one.name, one.profile.distance * size, one.profile.values, pen=pen)
            facts = profile_facts(one.profile)
            if math.isfinite(facts.lowest):
                low, high = min(low, facts.lowest), max(high, facts.highest)
        if math.isfinite(low):
            view = self.plot.getPlotItem().getViewBox()
            view.setYRange(low, high if high > low else low + 1, padding=0.06)
        named = profiles if 1 < len(profiles) <= _MOST_NAMED else []
        unit = self._calibration.unit if self._calibration.pixel_size else "px"
        self._legend.setText(
            "&nbsp;&nbsp; ".join(
                f"<span style='color:{one.colour}'>●</span> {html.escape(one.name)}"
                for one in named
            )
            + f"&nbsp;&nbsp; along: {html.escape(unit)}"
        )
        if longer:
            self._show_whole()
        self._show_facts()

    def _show_whole(self) -> None:
        if self.profiles:
            size = self._step
            length = float(self.profiles[0].profile.distance[-1]) * size
            view = self.plot.getPlotItem().getViewBox()
            view.setXRange(0, max(length, 1e-9), padding=0.01)

    def _show_facts(self) -> None:
        if not self.profiles or self._viewing.line is None:
            return
        facts = profile_facts(self.profiles[0].profile)
        scale, size = self._compute.ranges.number_scale(), self._step
        unit = self._calibration.unit if self._calibration.pixel_size else "px"
        slope = scale.difference(facts.slope) / size
        lowest = (
            f"{shown(scale.value(facts.lowest), 5)} at {shown(facts.lowest_at * size, 4)} {unit}"
        )
        highest = (
            f"{shown(scale.value(facts.highest), 5)} at {shown(facts.highest_at * size, 4)} {unit}"
        )
        self._facts.setText(
            f"{self.profiles[0].name}: length {shown(self._viewing.line.length * size, 5)} {unit}"
            f" · min {lowest} · max {highest}"
            f" · mean {shown(scale.value(facts.mean), 5)} · slope {shown(slope, 3)} per {unit}"
        )

    @property
    def _step(self) -> float:
        """The length of a step of one pixel along the line, in the sample's unit or in pixels."""
        line = self._viewing.line
        if line is None or line.length <= 0:
            return self._calibration.pixel_size or 1.0
        return self._calibration.length(line.x1 - line.x0, line.y1 - line.y0) / line.length

    # -- the cursor

    def _hover(self, at: tuple[float, float] | None) -> None:
        if at is None or not self.profiles:
            self._cursor.setVisible(False)
            self.cursor_moved.emit(None)
            self._show_facts()
            return
        size = self._step
        distance = self.profiles[0].profile.distance
        k = min(max(round(at[0] / size), 0), len(distance) - 1)
        self._show_cursor(k)
        self.cursor_moved.emit(float(distance[k]))

    def _show_cursor(self, k: int) -> None:
        size = self._step
        scale = self._compute.ranges.number_scale()
        profile = self.profiles[0].profile
        self._cursor.setValue(float(profile.distance[k]) * size)
        self._cursor.setVisible(True)
        values = " · ".join(
            f"{one.name} {shown(scale.value(float(one.profile.values[k])), 5)}"
            for one in self.profiles[:6]
            if k < len(one.profile.values)
        )
        self._facts.setText(f"x {profile.x[k]:.1f}  y {profile.y[k]:.1f}: {values}")

    def _cursor_at_pixel(self, pixel: tuple[int, int]) -> None:
        line = self._viewing.line
        if line is None or not self.profiles or line.length == 0:
            return
        along = ((line.x1 - line.x0) / line.length, (line.y1 - line.y0) / line.length)
        dx, dy = pixel[0] - line.x0, pixel[1] - line.y0
        aside = abs(dy * along[0] - dx * along[1])
        distance = dx * along[0] + dy * along[1]
        if aside > max(line.width, 12) or not 0 <= distance <= line.length:
            self._cursor.setVisible(False)
            return
        self._show_cursor(min(round(distance), len(self.profiles[0].profile.distance) - 1))

    def showEvent(self, event: object) -> None:
        self.refresh()
