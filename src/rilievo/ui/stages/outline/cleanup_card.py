"""The clean-up as an ordered list: each step can be switched, moved, set and removed."""

from __future__ import annotations

from typing import Any

import numpy as np
from pydantic import ValidationError
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QCheckBox, QMenu, QToolButton, QVBoxLayout, QWidget

from rilievo.core.cleaning import CLEANERS
from rilievo.core.cleaning.region_filter import KeepRange
from rilievo.core.errors import MethodError
from rilievo.core.image.image import Calibration
from rilievo.core.method.class_definition import CleanUse, clean_use
from rilievo.core.method.describe import clean_summary
from rilievo.core.parameters import explain
from rilievo.core.wording.numbers import rounded
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import Card, clear_rows, side_by_side
from rilievo.ui.widgets.form import ParameterForm
from rilievo.ui.widgets.parameter_fields import Known
from rilievo.ui.widgets.small_plot import Line, SmallPlot

_BINS = 60


class CleanRow(QWidget):
    """One step of the clean-up."""

    switched = pyqtSignal(bool)
    wanted = pyqtSignal(str)  # up, down, remove
    changed = pyqtSignal(str, object)

    def __init__(self, use: CleanUse, theme: Theme) -> None:
        super().__init__()
        self.key = use.cleaner
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 2, 0, 2)
        layout.setSpacing(2)
        self.box = QCheckBox(use.title)
        self.box.setToolTip(CLEANERS[use.cleaner].explanation)
        self.box.clicked.connect(lambda on: self.switched.emit(bool(on)))
        menu_button = QToolButton()
        menu_button.setText("⋯")
        menu_button.setProperty("role", "bare")
        menu_button.setToolTip("Move or remove this step (Alt+Up, Alt+Down)")
        menu_button.setAccessibleName(f"{use.title}: move or remove")
        menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        for word, text in (("up", "Move up"), ("down", "Move down"), ("remove", "Remove")):
            menu.addAction(text, lambda word=word: self.wanted.emit(word))
        menu_button.setMenu(menu)
        head = side_by_side(self.box, stretch=True)
        inner = head.layout()
        if inner is not None:
            inner.addWidget(menu_button)
        layout.addWidget(head)
        kind = CLEANERS[use.cleaner].parameters
        self.form = ParameterForm(kind) if kind.model_fields else None
        if self.form is not None:
            self.form.changed.connect(self.changed.emit)
            layout.addWidget(self.form)
        self.plot: SmallPlot | None = None
        if kind is KeepRange:
            self.plot = SmallPlot(theme, "Histogram of the quantity over all samples", 70)
            layout.addWidget(self.plot)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        ways = {Qt.Key.Key_Up: "up", Qt.Key.Key_Down: "down"}
        if event is None:
            return
        if event.modifiers() & Qt.KeyboardModifier.AltModifier and event.key() in ways:
            self.wanted.emit(ways[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)


class CleanupCard(Card):
    """All steps in order, and a menu that adds one."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__("Clean up", fold="clean up", folded=True)
        self._session, self._compute, self._theme = session, compute, theme
        self._holder = QWidget()
        self._layout = QVBoxLayout(self._holder)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(2)
        self.add(self._holder)
        self.rows: list[CleanRow] = []
        self.add_button = QToolButton()
        self.add_button.setText("+ add")
        self.add_button.setProperty("role", "bare")
        self.add_button.setToolTip("Add a step: holes, rims, outlines, edges, ranges, splitting")
        self.add_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        for key in CLEANERS:
            action = menu.addAction(CLEANERS[key].title, lambda key=key: self.add_step(key))
            if action is not None:
                action.setToolTip(CLEANERS[key].explanation)
        menu.setToolTipsVisible(True)
        self.add_button.setMenu(menu)
        self.add(side_by_side(self.add_button, stretch=True))
        self._values: dict[int, tuple[object, np.ndarray]] = {}
        self._dragged: KeepRange | None = None

    refused = pyqtSignal(str)

    @property
    def _clean(self) -> tuple[CleanUse, ...]:
        return self._session.focus.outline.clean

    def _put(self, text: str, clean: tuple[CleanUse, ...], merge: str = "") -> None:
        try:
            self._compute.session.change_class(text, merge, clean=clean)
        except MethodError as exc:
            self.refused.emit(str(exc))
            self.refresh()

    def add_step(self, key: str) -> None:
        """Add a step at the end."""
        self._put(f"Add {CLEANERS[key].title.lower()}", (*self._clean, clean_use(key)))

    def change(self, index: int, name: str, value: Any, merge: str = "") -> None:
        """Change a parameter of a step."""
        use = self._clean[index]
        given = {**use.parameters.model_dump(), name: value}
        if name == "quantity":
            given |= self._converted(use.parameters, str(value))
        try:
            changed = CleanUse.model_validate({**dict(use), "parameters": given})
        except ValidationError as exc:
            self.refused.emit(explain(exc))
            self.refresh()
            return
        clean = (*self._clean[:index], changed, *self._clean[index + 1 :])
        self._put(f"{use.title}: set {name.replace('_', ' ')}", clean, merge)

    def _converted(self, old: Any, quantity: str) -> dict[str, float | None]:
        """Limits of an area in its other unit; those of another quantity mean nothing."""
        sample = self._compute.store.focused
        factor = sample.first.calibration.area_factor if sample is not None else None
        if factor is None or {old.quantity, quantity} != {"area", "area_unit"}:
            return {"lower": None, "upper": None}
        ratio = factor if quantity == "area_unit" else 1 / factor
        ends = {"lower": old.lower, "upper": old.upper}
        return {
            end: None if limit is None else float(f"{limit * ratio:.6g}")
            for end, limit in ends.items()
        }

    def act(self, index: int, word: str) -> None:
        """Move or remove a step."""
        clean = list(self._clean)
        use = clean.pop(index)
        if word == "remove":
            self._put(f"Remove {use.title.lower()}", tuple(clean))
            return
        clean.insert(min(max(index + (-1 if word == "up" else 1), 0), len(clean)), use)
        self._put(f"Move {use.title.lower()}", tuple(clean))

    def switch(self, index: int, on: bool) -> None:
        """Switch a step on or off."""
        use = self._clean[index].model_copy(update={"on": on})
        clean = (*self._clean[:index], use, *self._clean[index + 1 :])
        self._put(f"{use.title} {'on' if on else 'off'}", clean)

    # -- what is shown

    def refresh(self) -> None:
        """Show the steps of the class in focus."""
        clean = self._clean
        if [row.key for row in self.rows] != [use.cleaner for use in clean]:
            self._build(clean)
        sample = self._compute.store.focused
        calibration = sample.first.calibration if sample is not None else Calibration()
        known = Known(
            sample.channel_names if sample is not None else (),
            unit=calibration.unit if calibration.pixel_size is not None else "",
        )
        for index, (row, use) in enumerate(zip(self.rows, clean, strict=True)):
            row.box.setChecked(use.on)
            if row.form is not None:
                row.form.show_parameters(use.parameters, known, {})
            if row.plot is not None and isinstance(use.parameters, KeepRange):
                self._show_plot(index, row.plot, use.parameters)
        self.set_about("" if clean else "nothing is cleaned")
        self.set_summary(" · ".join(clean_summary(use) for use in clean if use.on))

    def _build(self, clean: tuple[CleanUse, ...]) -> None:
        clear_rows(self._layout)
        self.rows = []
        for index, use in enumerate(clean):
            row = CleanRow(use, self._theme)
            row.switched.connect(lambda on, k=index: self.switch(k, on))
            row.wanted.connect(lambda word, k=index: self.act(k, word))
            row.changed.connect(lambda name, value, k=index: self.change(k, name, value))
            if row.plot is not None:
                row.plot.begun.connect(lambda _: self._begin())
                row.plot.released.connect(lambda _: self._compute.drag.commit())
                row.plot.moved.connect(lambda end, v, k=index: self._drag(k, end, v))
            self.rows.append(row)
            self._layout.addWidget(row)

    def _begin(self) -> None:
        self._dragged = None
        self._compute.drag.begin()

    def _drag(self, index: int, end: str, value: float) -> None:
        use = self._clean[index].parameters
        plot = self.rows[index].plot
        if isinstance(use, KeepRange) and plot is not None:
            span = plot.value_at(plot.width()) - plot.value_at(0)
            limits = self._dragged if self._dragged is not None else use
            changed = limits.model_copy(update={end: rounded(value, span)})
            low, high = changed.lower, changed.upper
            if low is None or high is None or low <= high:
                self._dragged = changed
                self._compute.drag.preview_keep(index, changed)
                ends = {"lower": low, "upper": high}
                known = [(line, ends[line.key]) for line in plot.lines]
                plot.show_lines(
                    [Line(line.key, line.value if v is None else v) for line, v in known]
                )

    def _show_plot(self, index: int, plot: SmallPlot, use: KeepRange) -> None:
        """The quantity's histogram over all samples, as the regions come to this step."""
        method, at = self._session.state.method, self._session.focus.class_index
        early = method.outlines[at].model_copy(update={"clean": self._clean[:index]})
        key = (early, method.steps, use.quantity, use.channel, tuple(self._compute.store.samples))
        known = self._values.get(index)
        if known is None or known[0] != key:
            classes = [one.of_class(at) for one in self._compute.store.analyses().values()]

            def work() -> np.ndarray:
                found = [
                    one.values_before_filter(index, use.quantity, use.channel) for one in classes
                ]
                values = np.concatenate(found) if found else np.zeros(0)
                return values[np.isfinite(values)]

            def done(values: np.ndarray) -> None:
                self._values[index] = (key, values)
                if self.isVisible():
                    self.refresh()

            self._compute.jobs.run(f"keep {index}", work, done, lambda _: None)
        values = known[1] if known is not None else np.zeros(0)
        plot.hint = "" if values.size else "No region comes to this step yet."
        if values.size:
            self._draw(plot, values, use)

    @staticmethod
    def _draw(plot: SmallPlot, values: np.ndarray, use: KeepRange) -> None:
        limits = [v for v in (use.lower, use.upper) if v is not None]
        low = min(float(np.quantile(values, 0.002)), *limits, *([0.0] if not limits else []))
        high = max(float(np.quantile(values, 0.995)), *limits) if limits else float(
            np.quantile(values, 0.995)
        )  # fmt: skip
        room = (high - low) * 0.06 or 1.0
        ends = (low - (room if low != 0 else 0), high + room)
        counts, edges = np.histogram(values, _BINS, ends)
        plot.show_curve((edges[:-1] + edges[1:]) / 2, np.sqrt(counts), ends, stepped=True)
        plot.show_lines(
            [
                Line("lower", ends[0] if use.lower is None else use.lower),
                Line("upper", ends[1] if use.upper is None else use.upper),
            ]
        )
