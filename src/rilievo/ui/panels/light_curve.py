"""The same star through all samples, beside comparison stars, against the date."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyqtgraph
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.study.study import StudyState
from rilievo.core.table.star_series import LightCurve, Series, as_date, light_curve, make_series
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.brush_plot import BrushPlot
from rilievo.ui.widgets.card import side_by_side

_TITLES = ("Star", "Flux (counts)", "Scatter (mag)", "Expected (mag)", "")


class LightCurvePanel(QWidget):
    """Left the stars of the series, right the light curve of the one that is chosen."""

    save_wanted = pyqtSignal()
    number_chosen = pyqtSignal(str, int, str, str)  # sample, region, channel, key

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self.series: Series | None = None
        self.curve: LightCurve | None = None
        self._order: list[int] = []
        self.table = QTableWidget(0, len(_TITLES))
        self.table.setHorizontalHeaderLabels(_TITLES)
        self.table.setAccessibleName("Stars of the series")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        header, vertical = self.table.horizontalHeader(), self.table.verticalHeader()
        if header is not None and vertical is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            header.setStretchLastSection(True)
            header.setToolTip("Expected is the scatter that the errors of a constant star make")
            vertical.hide()
            vertical.setDefaultSectionSize(22)
        self.table.itemSelectionChanged.connect(self._on_row)
        self.toggle = QPushButton("Compare with it")
        self.toggle.setToolTip("Make the chosen star a comparison star, or no longer")
        self.toggle.clicked.connect(self.toggle_comparison)
        self.auto = QPushButton("By constancy")
        self.auto.setToolTip("Let the most constant stars be the comparison stars")
        self.auto.clicked.connect(self.choose_by_constancy)
        self.save = QPushButton("Save …")
        self.save.setToolTip("Save magnitudes, fluxes and errors of all stars against the date")
        self.save.clicked.connect(self.save_wanted)
        self.about = QLabel("")
        self.about.setProperty("role", "faint")
        self.about.setWordWrap(True)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(16, 4, 4, 4)
        column.setSpacing(4)
        column.addWidget(side_by_side(self.toggle, self.auto, self.save, stretch=True))
        column.addWidget(self.table, 1)
        column.addWidget(self.about)
        left.setFixedWidth(scaled(452))
        self.plot = BrushPlot(theme, "Light curve")
        self.plot.label("left", "magnitude, about its mean")
        self.plot.getPlotItem().getViewBox().invertY(True)
        self._bars = pyqtgraph.ErrorBarItem(
            x=np.zeros(1), y=np.zeros(1), pen=pyqtgraph.mkPen(theme.colour("faint"), width=1.2)
        )
        self._dots = pyqtgraph.ScatterPlotItem(
            size=9, pen=None, brush=pyqtgraph.mkBrush(theme.colour("accent"))
        )
        self._dots.sigClicked.connect(self._on_dot)
        for item in (self._bars, self._dots):
            self.plot.getPlotItem().addItem(item)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 8, 0)
        layout.setSpacing(4)
        layout.addWidget(left)
        right = QWidget()
        stack = QVBoxLayout(right)
        stack.setContentsMargins(0, 4, 0, 0)
        stack.setSpacing(0)
        self.say = QLabel("")
        self.say.setProperty("role", "faint")
        self.say.setWordWrap(True)
        stack.addWidget(self.say)
        stack.addWidget(self.plot, 1)
        layout.addWidget(right, 1)
        session.measurements.changed.connect(self.refresh)
        session.changed.connect(self._on_change)
        session.focus.regions_changed.connect(self._follow)
        self._show(None)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    # -- the series

    def _class_index(self) -> int | None:
        outlines = self._session.state.method.outlines
        found = [k for k, outline in enumerate(outlines) if outline.source == "stars"]
        return found[0] if found else None

    def _on_change(self, old: StudyState, new: StudyState) -> None:
        before, after = old.method.measure, new.method.measure
        if before.comparison_stars != after.comparison_stars:
            self.refresh()

    def _date_of(self, sample: str) -> str:
        """The date of a sample: as typed, or as its file states it."""
        entry = self._session.named(sample)
        if entry is None:
            return ""
        read = self._compute.store.samples.get(entry.id)
        stated = read.attributes.get("date", "") if read is not None else ""
        return str(entry.attributes.get("date") or stated)

    def refresh(self) -> None:
        """Match the stars of all samples anew."""
        if not self.isVisible():
            return
        tables, class_index = self._session.measurements.ordered_tables(), self._class_index()
        if class_index is None or not tables:
            self._show(None)
            return
        dates = [as_date(self._date_of(table.sample)) for table in tables]
        sample = self._compute.store.focused
        channel = (
            self._compute.store.channel_for(sample) if sample is not None else tables[0].channels[0]
        )
        comparison = self._session.state.method.measure.comparison_stars

        def work() -> tuple[Series | None, list[LightCurve]]:
            series = make_series(tables, dates, channel, class_index, comparison)
            stars = range(series.x.size) if series is not None else ()
            return series, [light_curve(series, star) for star in stars if series is not None]

        self._compute.jobs.run("series", work, lambda found: self._show(*found), lambda _: None)

    def _show(self, series: Series | None, curves: Sequence[LightCurve] = ()) -> None:
        self.series = series
        self.table.blockSignals(True)
        self.table.setRowCount(0)
        if series is None:
            self.about.setText(
                "Measure a class of stars with flux, its error and the star's x and y in several "
                "samples; then the same stars are followed here."
            )
            self.table.blockSignals(False)
            self._draw(None)
            return
        self._order = sorted(range(len(curves)), key=lambda k: -curves[k].excess)
        self.table.setRowCount(len(self._order))
        for row, star in enumerate(self._order):
            curve = curves[star]
            kind = "variable" if curve.is_variable else ""
            kind = "comparison" if series.comparison[star] else kind
            flux = shown(series.median_flux(star), 4)
            texts = (str(star + 1), flux, f"{curve.scatter:.4f}", f"{curve.expected:.4f}", kind)
            for position, text in enumerate(texts):
                item = QTableWidgetItem(text.replace("nan", "–"))
                if position < len(texts) - 1:
                    item.setTextAlignment(
                        int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                    )
                self.table.setItem(row, position, item)
        self.table.blockSignals(False)
        said = (
            f"{series.x.size} stars in {len(series.samples)} samples, "
            f"{int(series.comparison.sum())} comparison stars."
        )
        if series.unmatched:
            said += f" Not matched: {', '.join(series.unmatched)}."
        if not series.has_dates:
            said += " Dates are missing, so samples stand in their order."
        self.about.setText(said)
        chosen = self._chosen_star()
        self.show_star(chosen if chosen is not None else self._order[0])

    def _chosen_star(self) -> int | None:
        entry = self._session.focus.entry
        if self.series is None or entry is None:
            return None
        for region in self._session.focus.regions:
            star = self.series.star_of(entry.name, region)
            if star is not None:
                return star
        return None

    def _follow(self) -> None:
        star = self._chosen_star()
        if (
            star is not None
            and self.isVisible()
            and (self.curve is None or self.curve.star != star)
        ):
            self.show_star(star)

    def _on_row(self) -> None:
        rows = {index.row() for index in self.table.selectedIndexes()}
        if self.series is None or len(rows) != 1:
            return
        star = self._order[next(iter(rows))]
        self.show_star(star)
        entry = self._session.focus.entry
        if entry is not None and entry.name in self.series.samples:
            region = int(self.series.ids[star, self.series.samples.index(entry.name)])
            if region:
                self._session.focus.set(regions={region})

    def show_star(self, star: int) -> None:
        """Show the light curve of a star."""
        if self.series is None:
            return
        row = self._order.index(star)
        self.table.blockSignals(True)
        self.table.selectRow(row)
        self.table.blockSignals(False)
        is_comparison = bool(self.series.comparison[star])
        self.toggle.setText("No comparison" if is_comparison else "Compare with it")
        self._draw(light_curve(self.series, star))

    def _draw(self, curve: LightCurve | None) -> None:
        self.curve = curve
        for button in (self.toggle, self.auto, self.save):
            button.setEnabled(curve is not None)
        if curve is None or self.series is None:
            self._dots.setData([], [])
            self._bars.setVisible(False)
            return
        x = self.series.days
        good = np.isfinite(curve.magnitude)
        self._dots.setData(x[good], curve.magnitude[good], data=np.flatnonzero(good))
        self._bars.setVisible(bool(good.any()))
        self._bars.setData(
            x=x[good], y=curve.magnitude[good],
            top=np.nan_to_num(curve.error[good]), bottom=np.nan_to_num(curve.error[good]),
        )  # fmt: skip
        first = self.series.dates[0]
        self.plot.label(
            "bottom", f"days since {first:%Y-%m-%d %H:%M}" if first and self.series.has_dates
            else "sample"
        )  # fmt: skip
        word = "varies" if curve.is_variable else "is constant within its errors"
        self.say.setText(
            f"Star {curve.star + 1} {word}: scatter {curve.scatter:.4f} mag, expected "
            f"{curve.expected:.4f} mag, against {curve.comparisons} comparison stars."
        )
        self.plot.getPlotItem().enableAutoRange()

    def _on_dot(self, _: object, points: Any) -> None:
        if self.series is None or self.curve is None or not len(points):
            return
        k = int(points[0].data())
        name = self.series.samples[k]
        region = int(self.series.ids[self.curve.star, k])
        sample = self._compute.store.focused
        if region and sample is not None:
            self.number_chosen.emit(name, region, self._compute.store.channel_for(sample), "flux")

    # -- comparison stars

    def toggle_comparison(self) -> None:
        """Make the star that is shown a comparison star, or no longer."""
        if self.series is not None and self.curve is not None:
            self._compare_with(self.series.with_toggled(self.curve.star))

    def choose_by_constancy(self) -> None:
        """Let the most constant stars be the comparison stars."""
        self._compare_with(())

    def _compare_with(self, positions: tuple[tuple[float, float], ...]) -> None:
        method = self._session.state.method
        measure = method.measure.model_copy(update={"comparison_stars": positions})
        self._session.change_method("Choose comparison stars", method.changed(measure=measure))
