"""Below the picture of a stack: one slider for time and one for depth, each plays by itself."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QSlider, QToolButton, QWidget

from rilievo.core.image.stack import AXIS_WORDS, SECONDS_COLUMN, Along, depth_column
from rilievo.core.study.stacks import Stack
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled

_EVERY_MS = 100
# So many planes are read ahead of the one that is shown.
_AHEAD = 6


class AxisRow(QWidget):
    """One axis of a stack: play, slider, place."""

    def __init__(self, axis: Along) -> None:
        super().__init__()
        self.axis = axis
        word = AXIS_WORDS[axis]
        self.play = QToolButton()
        self.play.setText("▶")
        self.play.setCheckable(True)
        self.play.setProperty("role", "bare")
        self.play.setToolTip(f"Play through {word}")
        self.play.setAccessibleName(f"Play through {word}")
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName(word.capitalize())
        self.slider.setPageStep(10)
        keys = "comma and full stop" if axis == "time" else "[ and ]"
        self.slider.setToolTip(f"The {word} that is shown; {keys} step by one")
        self.label = QLabel("")
        self.label.setProperty("role", "faint")
        self.label.setMinimumWidth(scaled(126))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        for widget in (self.play, self.slider, self.label):
            layout.addWidget(widget, 1 if widget is self.slider else 0)

    def show_place(self, places: tuple[int, ...], place: int, about: str) -> None:
        """Show the place among those there are. about : what else is known of it."""
        self.setVisible(len(places) > 1)
        self.slider.blockSignals(True)
        self.slider.setRange(0, len(places) - 1)
        self.slider.setValue(places.index(place))
        self.slider.blockSignals(False)
        word = AXIS_WORDS[self.axis]
        text = f"{word} {place + 1} of {len(places)}" + (f" · {about}" if about else "")
        self.label.setText(text)
        self.slider.setAccessibleDescription(text)


class StackBar(QWidget):
    """Moves the focus among the planes of the focused sample's stack."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__()
        self.setObjectName("stackBar")
        self._session, self._compute = session, compute
        self._times: tuple[int, ...] = ()
        self._depths: tuple[int, ...] = ()
        self.time, self.z = AxisRow("time"), AxisRow("z")
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 2, 12, 2)
        layout.setSpacing(16)
        self._timer = QTimer(self)
        self._timer.setInterval(_EVERY_MS)
        self._timer.timeout.connect(self._play_on)
        for row in (self.time, self.z):
            layout.addWidget(row, 1)
            row.slider.valueChanged.connect(lambda value, row=row: self._go(row.axis, value))
            row.play.toggled.connect(lambda on, row=row: self._toggled(row, on))
        session.focus.changed.connect(self.refresh)
        session.changed.connect(lambda *_: self.refresh())
        session.view.changed.connect(self.refresh)
        self.hide()

    def refresh(self) -> None:
        """Show where in its stack the focused sample is."""
        focus, stack = self._session.focus.sample_id, self._session.stack
        place = None if stack is None or focus is None else stack.place_of(focus)
        sheet = self._session.view.layout_kind != "one"
        self.setVisible(place is not None)
        if stack is None or place is None or focus is None:
            self._stop()
            return
        attributes = self._session.state.entry(focus).attributes
        self._times, self._depths = stack.times, stack.depths
        seconds, depth = attributes.get(SECONDS_COLUMN), depth_column(attributes)
        about = "" if depth is None else f"{attributes[depth[0]]} {depth[1]}"
        self.time.show_place(self._times, place[0], f"{seconds} s" if seconds else "")
        self.z.show_place(self._depths, place[1], about)
        if not sheet:
            self._compute.store.look_at(self._next(stack, place))

    def _next(self, stack: Stack, place: tuple[int, int]) -> list[int]:
        """The planes that are likely shown next, along the axis that moves."""
        time, z = place
        found = [stack.planes.get((time + k, z)) for k in range(1, _AHEAD + 1)]
        if self.z.play.isChecked() or len(self._times) == 1:
            found = [stack.planes.get((time, z + k)) for k in range(1, _AHEAD + 1)]
        return [one for one in found if one is not None]

    def step(self, axis: Along, by: int) -> None:
        """Go on by some planes along an axis, round at its ends."""
        row = self.time if axis == "time" else self.z
        if self.isVisible() and row.slider.maximum() > 0:
            row.slider.setValue((row.slider.value() + by) % (row.slider.maximum() + 1))

    def toggle_play(self) -> None:
        """Play through time, or depth where there is no time; or stop."""
        row = self.time if len(self._times) > 1 else self.z
        if self.isVisible():
            row.play.toggle()

    def _go(self, axis: Along, position: int) -> None:
        focus, stack = self._session.focus.sample_id, self._session.stack
        place = None if stack is None or focus is None else stack.place_of(focus)
        if stack is None or place is None:
            return
        time, z = place
        if axis == "time":
            time = self._times[position]
        else:
            z = self._depths[position]
        self._session.focus.set(sample_id=stack.nearest(time, z))

    # -- playing

    def _toggled(self, row: AxisRow, on: bool) -> None:
        row.play.setText("■" if on else "▶")
        other = self.z if row is self.time else self.time
        if on:
            other.play.setChecked(False)
            self._timer.start()
        elif not other.play.isChecked():
            self._timer.stop()

    def _play_on(self) -> None:
        # The next plane comes once this one is seen.
        if self._compute.store.focused is not None:
            self.step("time" if self.time.play.isChecked() else "z", 1)

    def _stop(self) -> None:
        for row in (self.time, self.z):
            row.play.setChecked(False)
