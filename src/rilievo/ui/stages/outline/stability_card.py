"""How much the regions depend on the threshold, in the sample in focus and in all others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtWidgets import QPushButton

from rilievo.core.pipeline.sample_pictures import chosen_evenly
from rilievo.core.pipeline.threshold_stability import Stability, stabilities
from rilievo.core.wording.numbers import rounded, shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import Card, Choice, faint
from rilievo.ui.widgets.small_plot import Line, SmallPlot

_THIN = "Thin lines are the other samples. Holes, rims and splits are not counted in."
# So many samples have a curve; more would be a blot, and take long.
_MOST_CURVES = 60
_WHAT = (
    ("count", "Regions", "Number of regions against the threshold"),
    ("area", "Area", "Their total area in pixels against the threshold"),
    ("mean", "Mean signal", "Their mean signal against the threshold"),
)


@dataclass(frozen=True, eq=False)
class _Curves:
    """The stability of every sample over the same levels."""

    key: object
    samples: dict[str, Stability]

    @property
    def levels(self) -> NDArray[np.float64]:
        """The levels of all of them."""
        return next((one.levels for one in self.samples.values()), np.zeros(0))


class StabilityCard(Card):
    """A curve a sample; the flattest stretch is marked, a click sets the threshold."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__("How steady is it?", fold="how steady", folded=True)
        self._session, self._compute = session, compute
        self.what = Choice(_WHAT)
        self.what.set_chosen("count")
        self._shown = "count"
        self.what.chosen.connect(self._show_what)
        self.add(self.what)
        self.plot = SmallPlot(theme, "Regions against the threshold", 104)
        self.plot.printed = self._printed
        self.plot.clicked.connect(self.take_level)
        self.plot.begun.connect(lambda _: compute.drag.begin())
        self.plot.moved.connect(lambda _, v: compute.drag.preview(self._rounded(v)))
        self.plot.released.connect(lambda _: compute.drag.commit())
        self.add(self.plot)
        self.use = QPushButton("Use the middle of the steady stretch")
        self.use.setProperty("role", "link")
        self.use.clicked.connect(self._take_middle)
        self.add(self.use)
        self._explains = faint(_THIN)
        self.add(self._explains)
        self._curves: _Curves | None = None
        # Curves, what of them, and their heights as they are drawn.
        self._drawn: tuple[_Curves, str, dict[str, NDArray[np.float64]]] | None = None

    def _show_what(self, what: str) -> None:
        self._shown = what
        self.refresh()

    def _printed(self, level: float) -> str:
        return shown(
            self._compute.ranges.number_scale(self._compute.store.outline_channel).value(level)
        )

    def _rounded(self, level: float) -> float:
        levels = self._curves.levels if self._curves is not None else np.zeros(0)
        return rounded(level, float(np.ptp(levels)) if levels.size else 0.0)

    def take_level(self, level: float) -> None:
        """Make a level the threshold, for all samples."""
        if self._curves is not None:
            self._compute.drag.begin()
            self._compute.drag.preview(self._rounded(level))
            self._compute.drag.commit()

    def _take_middle(self) -> None:
        if self.plot.stretch is not None:
            self.take_level(sum(self.plot.stretch) / 2)

    def refresh(self) -> None:
        """Show the curves; they are computed while the card is open."""
        outline = self._session.focus.outline
        fits = outline.source == "threshold" and outline.threshold.entry.find is not None
        self.setVisible(fits)
        if not fits or self.folded:
            return
        method, index = self._session.state.method, self._session.focus.class_index
        # The level itself does not move the curves.
        plain = outline.model_copy(update={"threshold": None, "picks": ()})
        there = [e for e in self._session.state.samples if e.id in self._compute.store.samples]
        entries = [there[k] for k in chosen_evenly(len(there), _MOST_CURVES)]
        focus = self._session.focus.entry
        if focus is not None and focus.id in self._compute.store.samples and focus not in entries:
            entries.append(focus)
        self._explains.setText(
            (
                f"{len(entries)} of {len(there)} samples, evenly chosen. "
                if len(entries) < len(there)
                else ""
            )
            + _THIN
        )
        key = (plain, method.steps, method.exceptions, tuple(e.id for e in entries))
        if self._curves is None or self._curves.key != key:
            analyses = [self._compute.store.analysis(entry.id) for entry in entries]

            def work() -> _Curves:
                return _Curves(key, stabilities(analyses, index))

            self._compute.jobs.run("stability", work, self._take, lambda _: None, background=True)
        self._draw()

    def _take(self, curves: _Curves) -> None:
        self._curves = curves
        if self.isVisible():
            self._draw()

    def _draw(self) -> None:
        entry, curves = self._session.focus.entry, self._curves
        focused = curves.samples.get(entry.name) if curves is not None and entry else None
        if curves is None or focused is None or focused.levels.size < 2:
            self.plot.hint = "The curves appear once the samples are read."
            self.use.hide()
            return
        self.plot.hint = ""
        if self._drawn is None or self._drawn[:2] != (curves, self._shown):
            found = {name: self._heights(one) for name, one in curves.samples.items()}
            self._drawn = curves, self._shown, found
        heights = dict(self._drawn[2])
        main = heights.pop(entry.name if entry else "")
        self.plot.show_curve(curves.levels, main, others=list(heights.values()))
        steady = focused.flattest()
        text = (
            ""
            if steady is None
            else f"steady from {self._printed(steady[0])} to {self._printed(steady[1])}"
        )
        self.plot.show_stretch(steady, text)
        self.use.setVisible(steady is not None)
        level = self._compute.regions.level(self._session.focus.sample_id)
        self.plot.show_lines([] if level is None else [Line("threshold", level)])
        self.set_about(self._at(focused, level))

    def _heights(self, one: Stability) -> NDArray[np.float64]:
        values = {"count": one.count, "area": one.area, "mean": one.mean}[self._shown]
        # Specks of noise at low levels would leave nothing to see of the rest.
        top = float(np.nanquantile(values, 0.9)) if np.isfinite(values).any() else 1.0
        useful = values[np.isfinite(values)]
        middle = float(np.median(useful[useful > 0])) if (useful > 0).any() else 1.0
        return (
            np.minimum(values, max(min(top, 4 * middle), 1e-9))
            if self._shown == "count"
            else values
        )

    def _at(self, one: Stability, level: float | None) -> str:
        if level is None:
            return ""
        change = [float(np.interp(level * f, one.levels, one.count)) for f in (0.9, 1.1)]
        return f"±10 %: {shown(round(change[0]))} to {shown(round(change[1]))} regions"
