"""Statistics of the whole image: every intensity quantity, as many as one wants to see."""

from __future__ import annotations

import html
import math

from PyQt6.QtCore import QSettings, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QCheckBox, QLabel, QMenu, QPushButton

from rilievo.core.image.image import Plane
from rilievo.core.image.number_scale import SCALES, NumberScale
from rilievo.core.measure import QUANTITIES
from rilievo.core.measure.plane_statistics import PlaneStatistics, intensity_keys, plane_statistics
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.widgets.card import Card, side_by_side

_FIRST = ("mean", "median", "sd", "min", "max", "p01", "p99", "saturated_count", "undefined_count")
# Spreads are differences of intensity: on another scale they have its unit, not its zero.
_SPREADS = frozenset({"sd", "sem", "mad", "mad_sigma", "mean_dev", "background"})
# Sums over pixels have no place on a scale of single pixels.
_SUMS = frozenset({"sum", "native_sum"})
_EXTREMES = {"min": ("min_x", "min_y"), "max": ("max_x", "max_y")}


class StatisticsCard(Card):
    """Numbers of the focused channel; min and max lead to their pixel."""

    position_wanted = pyqtSignal(int, int)

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Statistics of the image", fold="statistics", folded=True)
        self._session, self._compute = session, compute
        kept = QSettings().value("statistics", list(_FIRST))
        listed = [kept] if isinstance(kept, str) else list(kept or [])
        self.keys = tuple(key for key in intensity_keys() if key in listed) or _FIRST
        self._known: tuple[object, PlaneStatistics] | None = None
        self.no_saturated, self.no_empty = (
            QCheckBox("without saturated"),
            QCheckBox("without empty"),
        )
        for box in (self.no_saturated, self.no_empty):
            box.toggled.connect(lambda _: self.refresh())
        self.add(side_by_side(self.no_saturated, self.no_empty, stretch=True))
        self.text = QLabel("")
        self.text.setTextFormat(Qt.TextFormat.RichText)
        self.text.setAccessibleName("Statistics")
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextBrowserInteraction)
        self.text.setOpenExternalLinks(False)
        self.text.linkActivated.connect(self._go)
        self.add(self.text)
        self.choose, self.copy_button = QPushButton("Choose …"), QPushButton("Copy")
        self.choose.setToolTip("Which quantities are shown")
        self.choose.setMenu(self._menu())
        self.copy_button.setToolTip("Copy every quantity of every channel as a table")
        self.copy_button.clicked.connect(self.copy)
        self.add(side_by_side(self.choose, self.copy_button, stretch=True))

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        for key in intensity_keys():
            action = menu.addAction(QUANTITIES[key].title)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(key in self.keys)
                action.setToolTip(QUANTITIES[key].definition)
                action.toggled.connect(lambda on, key=key: self._choose(key, on))
        return menu

    def _choose(self, key: str, on: bool) -> None:
        wanted = {*self.keys, key} if on else set(self.keys) - {key}
        self.keys = tuple(one for one in intensity_keys() if one in wanted)
        QSettings().setValue("statistics", list(self.keys))
        self.refresh()

    @property
    def _exclude(self) -> dict[str, bool]:
        return {
            "exclude_saturated": self.no_saturated.isChecked(),
            "exclude_empty": self.no_empty.isChecked(),
        }

    def refresh(self) -> None:
        """Measure the focused channel, in a thread, unless that is known."""
        sample = self._compute.store.focused
        if sample is None or self.folded:
            return
        channel = self._compute.store.channel_for(sample)
        plane, exclude = sample.channels[channel], self._exclude
        kind = self._session.view.scale
        self.set_about(f"{channel} · {'counts' if kind == 'native' else SCALES[kind][0]}")
        key = (plane, tuple(exclude.values()))
        if self._known is not None and self._known[0] == key:
            self._show(self._known[1])
            return

        def work() -> PlaneStatistics:
            return plane_statistics(plane, None, **exclude)

        def done(found: PlaneStatistics) -> None:
            self._known = (key, found)
            self._show(found)

        self._compute.jobs.run("statistics", work, done)

    def set_folded(self, folded: bool) -> None:
        super().set_folded(folded)
        self.refresh()

    def _show(self, found: PlaneStatistics) -> None:
        scale = self._compute.ranges.number_scale()
        rows = []
        for key in self.keys:
            text = shown(on_scale(key, found.numbers[key], scale), 6)
            link = ""
            if key in _EXTREMES and math.isfinite(found.numbers[key]):
                x, y = (int(found.numbers[one]) for one in _EXTREMES[key])
                link = f"&nbsp;<a href='{x},{y}'>at {x}, {y}</a>"
            title = html.escape(QUANTITIES[key].title)
            cells = (f"<td>{title}&nbsp;&nbsp;</td>", f"<td align='right'>{text}</td>")
            rows.append(f"<tr>{''.join(cells)}<td>{link}</td></tr>")
        if found.share < 1:
            rows.append(
                f"<tr><td colspan='3'>{100 * found.share:.4g} % of the pixels remain</td></tr>"
            )
        self.text.setText(f"<table cellspacing='1'>{''.join(rows)}</table>")

    def _go(self, link: str) -> None:
        x, y = (int(part) for part in link.split(","))
        self.position_wanted.emit(x, y)

    def copy(self) -> None:
        """Copy every quantity of every channel, tab-separated, native values."""
        sample = self._compute.store.focused
        if sample is None:
            return
        planes: dict[str, Plane] = dict(sample.channels)
        exclude = self._exclude

        def work() -> str:
            found = {
                name: plane_statistics(plane, None, **exclude) for name, plane in planes.items()
            }
            lines = ["\t".join(["quantity", *found])]
            for key in intensity_keys():
                numbers = (one.numbers[key] for one in found.values())
                cells = ("" if math.isnan(number) else f"{number:.12g}" for number in numbers)
                lines.append("\t".join([key, *cells]))
            lines.append("\t".join(["share", *(f"{one.share:.12g}" for one in found.values())]))
            return "\n".join(lines)

        def done(text: str) -> None:
            clipboard = QGuiApplication.clipboard()
            if clipboard is not None:
                clipboard.setText(text)

        self._compute.jobs.run("copy statistics", work, done)


def on_scale(key: str, number: float, scale: NumberScale) -> float:
    """Return a quantity on a number scale; counts, positions, ratios and sums stay as they are."""
    if QUANTITIES[key].unit not in ("signal", "native") or key in _SUMS:
        return number
    return scale.difference(number) if key in _SPREADS else scale.value(number)
