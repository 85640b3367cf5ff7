"""One threshold or a band, by hand or automatic; also the local ones."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PyQt6.QtWidgets import QComboBox, QLabel

from rilievo.core.errors import MethodError
from rilievo.core.image.histogram import Histogram
from rilievo.core.method.class_definition import hand_threshold
from rilievo.core.method.method import checked_copy
from rilievo.core.regions.thresholds import THRESHOLDS, automatic_levels
from rilievo.core.wording.numbers import rounded
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.outline.class_body import ClassBody
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import NumberField, named_row, side_by_side
from rilievo.ui.widgets.form import ParameterForm
from rilievo.ui.widgets.small_plot import Line, SmallPlot

KEEP = (("bright", "brighter than"), ("dark", "at or below"))


class LevelBody(ClassBody):
    """Which threshold, its parameters, and the histogram with all automatic levels."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme, kind: str) -> None:
        super().__init__(session, compute, theme)
        self.kind = kind
        self.ways = [key for key in THRESHOLDS if THRESHOLDS[key].kind == kind]
        self.way = QComboBox()
        for key in self.ways:
            self.way.addItem(THRESHOLDS[key].title, key)
        self.way.activated.connect(lambda _: self.take_way(self.way.currentData()))
        self.way.setAccessibleName("How the threshold is set")
        self.threshold = NumberField(unit="signal")
        self.threshold.setAccessibleName("Threshold")
        self.threshold.setFixedWidth(scaled(76))
        self.threshold.entered.connect(self._type_threshold)
        self.way.setFixedWidth(scaled(162))
        self.rows.addWidget(named_row("Threshold", side_by_side(self.way, self.threshold), 0))
        self.forms: dict[str, ParameterForm] = {}
        for key in self.ways:
            if THRESHOLDS[key].live != "level" and THRESHOLDS[key].parameters.model_fields:
                form = ParameterForm(THRESHOLDS[key].parameters)
                form.changed.connect(self.set_parameter)
                self.forms[key] = form
                self.rows.addWidget(form)
        self.reach = QComboBox()
        self.reach.addItem("each one", False)
        self.reach.addItem("all", True)
        self.reach.setToolTip("One level from the histograms of all samples, or each its own")
        self.reach.setAccessibleName("Found for")
        self.reach.setFixedWidth(scaled(114))
        self.reach.activated.connect(
            lambda _: self._use("Threshold for all", pooled=self.reach.currentData())
        )
        self.factor, self.offset = NumberField(step=0.05), NumberField(unit="signal")
        self.factor.entered.connect(lambda v: self._use("Times", factor=1.0 if v is None else v))
        self.offset.entered.connect(lambda v: self._use("Plus", offset=v or 0.0))
        both = side_by_side(self.reach, QLabel("×"), self.factor, QLabel("+"), self.offset)
        for field, name in ((self.factor, "Times"), (self.offset, "Plus")):
            field.setFixedWidth(scaled(44))
            field.setAccessibleName(name)
        self._adjust_row = named_row("Found for", both, 0)
        self.rows.addWidget(self._adjust_row)
        self.plot = SmallPlot(theme, "Histogram with the levels of all methods")
        self.plot.begun.connect(lambda _: self.begin_drag())
        self.plot.moved.connect(self.drag)
        self.plot.released.connect(lambda _: compute.drag.commit())
        self.plot.picked.connect(self.take_way)
        self.plot.printed = self.printed
        self.rows.addWidget(self.plot)
        self.plot.setVisible(kind == "Threshold")
        self._levels: tuple[Histogram, dict[str, float]] | None = None

    def take_way(self, way: str) -> None:
        """Choose a way; by hand begins at the present level, a band around it."""
        level = self.compute.regions.level(self.session.focus.sample_id)
        known = self.histogram
        live = THRESHOLDS[way].live
        if live == "level":
            start = 0.0 if level is None or math.isnan(level) else self._rounded(level)
            self.change("Threshold by hand", source="threshold", threshold=hand_threshold(start))
        elif live == "band" and known is not None:
            low = known.lowest if level is None or math.isnan(level) else level
            lower, upper = sorted((self._rounded(low), self._rounded(known.highest)))
            self.choose_way(way, lower=lower, upper=upper)
        else:
            self.choose_way(way)

    def _use(self, text: str, **fields: Any) -> None:
        try:
            use = checked_copy(self.outline.threshold, **fields)
        except MethodError as exc:
            self.refused.emit(str(exc))
            self.refresh()
            return
        self.change(text, threshold=use)

    def _rounded(self, level: float) -> float:
        """The level with the digits that the signal's own span makes sensible."""
        known = self.histogram
        return rounded(level, known.highest - known.lowest if known else 0.0)

    def _type_threshold(self, value: float | None) -> None:
        if value is not None:
            native = self.compute.ranges.number_scale(self.compute.store.outline_channel).native(
                value
            )
            self.change("Set threshold", threshold=hand_threshold(native))

    def begin_drag(self) -> None:
        """Start a drag: all its changes become one entry of the undo list."""
        self.compute.drag.begin()

    def drag(self, key: str, value: float) -> None:
        """Follow a line that is dragged on the histogram."""
        if key == "threshold":
            self.compute.drag.preview(self._rounded(value))
        elif key in ("lower", "upper"):
            self.compute.drag.preview_band(key, self._rounded(value))

    def refresh(self) -> None:
        use = self.outline.threshold
        dragged = self.compute.drag.level is not None
        way = "hand" if dragged else use.way
        entry = THRESHOLDS[way]
        if entry.kind != self.kind:
            return
        self.way.setCurrentIndex(self.ways.index(way))
        self.way.setToolTip(entry.explanation)
        self.threshold.setVisible(entry.find is not None)
        level = self.compute.regions.level(self.session.focus.sample_id)
        scale = self.compute.ranges.number_scale(self.compute.store.outline_channel)
        self.threshold.set_value(
            None if level is None else float(f"{scale.value(self._rounded(level)):.8g}")
        )
        self.threshold.setToolTip(f"On the number scale {scale.kind}; the arrow keys step it")
        for key, form in self.forms.items():
            form.setVisible(key == way)
            if key == way:
                form.show_parameters(use.parameters, self.known, {})
        self._adjust_row.setVisible(entry.automatic)
        self.reach.setCurrentIndex(1 if use.pooled else 0)
        self.factor.set_value(use.factor)
        self.offset.set_value(use.offset)
        if self.kind == "Threshold":
            self._show_plot(way, level)

    def _show_plot(self, way: str, level: float | None) -> None:
        known = self.histogram
        if known is None or not known.total:
            self.plot.hint = "The histogram is shown once the sample is read."
            self.plot.show_curve(np.zeros(0), np.zeros(0))
            return
        self.plot.hint = ""
        low, high = known.quantile(0.001), known.quantile(0.9999)
        found = self._all_levels(known)
        inside = [
            v for v in (*found.values(), level or math.nan) if known.lowest <= v <= known.highest
        ]
        low, high = min([low, *inside]), max([high, *inside])
        high = high if high > low else low + 1
        self.plot.show_histogram(known, (low, high))
        lines = [
            Line(
                key,
                value,
                THRESHOLDS[key].short_title or THRESHOLDS[key].title,
                "accent" if key == way else "water",
                movable=False,
            )
            for key, value in found.items()
        ]
        if THRESHOLDS[way].live == "band":
            band = self.compute.drag.band or {}
            lines += [Line(key, value) for key, value in band.items()]
        elif level is not None:
            lines.append(Line("threshold", level))
        self.plot.show_lines(lines)

    def _all_levels(self, known: Histogram) -> dict[str, float]:
        """The automatic levels of the focused histogram; found in a thread."""
        if self._levels is not None and self._levels[0] is known:
            return self._levels[1]

        def done(found: dict[str, float]) -> None:
            self._levels = (known, found)
            if self.isVisible():
                self.refresh()

        self.compute.jobs.run("all levels", lambda: automatic_levels(known), done)
        return {} if self._levels is None else self._levels[1]
