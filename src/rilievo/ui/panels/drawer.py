"""The drawer below the picture: samples, readings, plots, tables."""

from __future__ import annotations

from functools import cached_property
from typing import TypeVar

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QScrollArea,
    QStackedWidget,
    QTabBar,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.table.star_series import Series
from rilievo.ui.compute.compute import Compute
from rilievo.ui.panels.along import AlongPanel
from rilievo.ui.panels.checks_list import ChecksList
from rilievo.ui.panels.columns_plot import ColumnsPlot
from rilievo.ui.panels.field import FieldPanel
from rilievo.ui.panels.groups_panel import GroupsTable, TestsTable
from rilievo.ui.panels.histogram_panel import HistogramPanel
from rilievo.ui.panels.history_panel import HistoryPanel
from rilievo.ui.panels.light_curve import LightCurvePanel
from rilievo.ui.panels.measurements_panel import Measurements
from rilievo.ui.panels.picks_panel import PicksPanel
from rilievo.ui.panels.pixels import PixelsPanel
from rilievo.ui.panels.prints import PrintsPanel
from rilievo.ui.panels.profile import ProfilePanel
from rilievo.ui.panels.star_panel import StarPanel
from rilievo.ui.panels.summary import SummaryPanel
from rilievo.ui.panels.tile_bar import TileBar
from rilievo.ui.panels.tiles import Tile, TileStrip
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme

TABS = (
    "Samples",
    "Groups",
    "Tests",
    "Picks",
    "Profile",
    "Histogram",
    "Pixels",
    "History",
    "Checks",
    "Measurements",
    "Summary",
    "Plots",
    "Prints",
    "Star",
    "Field",
    "Light curve",
    "Along",
)
_OF_COMPARE = ("Groups", "Tests")
_OF_MEASURE = ("Summary", "Plots", "Prints")
_OF_STARS = ("Star", "Field", "Light curve")
# Those that belong to a stage.
_OF_STAGES = (*_OF_COMPARE, "Measurements", *_OF_MEASURE, *_OF_STARS)
# Pages that are made when they are first wanted, and the attributes that make them.
_LATE = {
    "Plots": "plots",
    "Prints": "prints",
    "Star": "star",
    "Field": "field",
    "Light curve": "light_curve",
    "Along": "along",
}
Page = TypeVar("Page", bound=QWidget)


class Drawer(QFrame):
    """Tabs over a stack."""

    reject_wanted = pyqtSignal()
    number_chosen = pyqtSignal(str, int, str, str)  # sample, region, channel, key
    light_curves_wanted = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("drawer")
        self._looked_at = "Samples"
        self.tabs = QTabBar()
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.setUsesScrollButtons(True)
        self.tabs.setElideMode(Qt.TextElideMode.ElideNone)
        self.tabs.setAccessibleName("Drawer")
        for button in self.tabs.findChildren(QToolButton):
            button.setToolTip(button.accessibleName())
        self.strip = TileStrip(session, compute, theme)
        self.groups, self.tests = GroupsTable(), TestsTable()
        self.measurements = Measurements(session, compute, theme)
        self.summary = SummaryPanel(session, compute.jobs)
        self._session, self._compute, self._theme = session, compute, theme
        self.picks = PicksPanel(session, compute)
        self.profile = ProfilePanel(session, compute, theme)
        self.histogram = HistogramPanel(session, compute, theme)
        self.pixels = PixelsPanel(session, compute, theme)
        self.history = HistoryPanel(session, theme)
        self.checks = ChecksList(session, compute)
        area = QScrollArea()
        area.setWidget(self.strip)
        area.setWidgetResizable(True)
        area.setAccessibleName("Samples")
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        bar = area.verticalScrollBar()
        if bar is not None:
            bar.valueChanged.connect(lambda _: self.strip.draw_soon())
        self._stack = QStackedWidget()
        # Wide tables scroll; they must not push the stage panel aside.
        self._stack.setMinimumWidth(400)
        pages = (
            area,
            _framed(self.groups),
            _framed(self.tests),
            self.picks,
            self.profile,
            self.histogram,
            self.pixels,
            self.history,
            self.checks,
            self.measurements,
            self.summary,
            *(QWidget() for _ in _LATE),
        )
        for name, page in zip(TABS, pages, strict=True):
            self.tabs.addTab(name)
            self._stack.addWidget(page)
        self.tabs.currentChanged.connect(self._show_page)
        head = QHBoxLayout()
        head.setContentsMargins(16, 0, 16, 0)
        head.addWidget(self.tabs, 1)
        self.tile_bar = TileBar(session, self.strip)
        head.addWidget(self.tile_bar)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self._stack, 1)
        self.setMinimumHeight(168)
        session.stage_changed.connect(self._on_stage)
        session.changed.connect(lambda *_: self._show_tabs(session.stage))
        session.focus.changed.connect(lambda: self._show_tabs(session.stage))
        self._on_stage(session.stage)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.tile_bar.fit(self._room_beside_tabs())

    # -- pages that are made when they are first wanted: plots take long to make

    def _show_page(self, position: int) -> None:
        name = TABS[position]
        if name in _LATE:
            # Asking for it makes it.
            getattr(self, _LATE[name])
        self._stack.setCurrentIndex(position)
        self.tile_bar.setVisible(name == "Samples")

    def _put(self, name: str, page: Page) -> Page:
        position = TABS.index(name)
        empty = self._stack.widget(position)
        if empty is not None:
            self._stack.removeWidget(empty)
            empty.deleteLater()
        self._stack.insertWidget(position, page)
        return page

    @cached_property
    def plots(self) -> ColumnsPlot:
        """Plots of columns."""
        page = ColumnsPlot(self._session, self._compute, self.measurements, self._theme)
        page.number_chosen.connect(self.number_chosen)
        return self._put("Plots", page)

    @cached_property
    def prints(self) -> PrintsPanel:
        """Contact prints."""
        page = PrintsPanel(self._session, self._compute, self.measurements, self._theme)
        page.reject_wanted.connect(self.reject_wanted)
        page.number_chosen.connect(self.number_chosen)
        return self._put("Prints", page)

    @cached_property
    def star(self) -> StarPanel:
        """One star."""
        page = StarPanel(self._session, self._compute, self._theme)
        page.number_chosen.connect(self.number_chosen)
        return self._put("Star", page)

    @cached_property
    def field(self) -> FieldPanel:
        """All stars of the picture."""
        return self._put("Field", FieldPanel(self._session, self._compute, self._theme))

    @cached_property
    def along(self) -> AlongPanel:
        """Values along the time or depth of a stack."""
        return self._put("Along", AlongPanel(self._session, self._compute, self._theme))

    @cached_property
    def light_curve(self) -> LightCurvePanel:
        """The same star through all samples."""
        page = LightCurvePanel(self._session, self._compute, self._theme)
        page.save_wanted.connect(self.light_curves_wanted)
        page.number_chosen.connect(self.number_chosen)
        return self._put("Light curve", page)

    @property
    def series(self) -> Series | None:
        """The stars that were matched through all samples; None while nobody has looked."""
        page = self.__dict__.get("light_curve")
        return None if page is None else page.series

    @property
    def tiles(self) -> list[Tile]:
        """The samples' tiles."""
        return self.strip.tiles

    def show_tab(self, name: str) -> None:
        """Bring a tab to the front."""
        self.tabs.setCurrentIndex(TABS.index(name))

    @property
    def tab(self) -> str:
        """The tab that is looked at in stages that have none of their own."""
        now = TABS[self.tabs.currentIndex()]
        return self._looked_at if now in _OF_STAGES else now

    def take_up(self, name: str) -> None:
        """Look at a tab again, which stages that have one of their own do not show."""
        if name in TABS and name not in _OF_STAGES:
            self._looked_at = name
            if self._session.stage not in ("measure", "compare"):
                self.show_tab(name)

    def _show_tabs(self, stage: str) -> None:
        """Show the tabs that the stage has a use for."""
        stars = any(outline.source == "stars" for outline in self._session.state.method.outlines)
        shown = {
            **dict.fromkeys(_OF_COMPARE, stage == "compare"),
            **dict.fromkeys(("Picks", "Profile", "Pixels"), stage not in ("measure", "compare")),
            **dict.fromkeys(_OF_MEASURE, stage == "measure"),
            **dict.fromkeys(_OF_STARS, stage == "measure" and stars),
            "Along": self._session.stack is not None and stage != "compare",
        }
        for name, visible in shown.items():
            self.tabs.setTabVisible(TABS.index(name), visible)
        # Qt leaves a tab that comes without its room until the bar is laid out again.
        self.tabs.updateGeometry()
        self.tile_bar.fit(self._room_beside_tabs())

    def _room_beside_tabs(self) -> int:
        return self.width() - self.tabs.sizeHint().width() - 2 * 16

    def _on_stage(self, stage: str) -> None:
        # Tabs that vanish hand over to their neighbour, which nobody asked for.
        now = TABS[self.tabs.currentIndex()]
        if now not in _OF_STAGES:
            self._looked_at = now
        self._show_tabs(stage)
        if stage == "compare":
            self.show_tab("Groups")
        elif stage == "measure":
            self.show_tab("Measurements")
        else:
            self.show_tab(self._looked_at)


def _framed(table: QWidget) -> QWidget:
    """A table with room around it."""
    frame = QWidget()
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(8, 4, 16, 4)
    layout.addWidget(table)
    return frame
