"""The drawer below the picture: samples, readings, plots, tables."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QScrollArea,
    QStackedWidget,
    QTabBar,
    QVBoxLayout,
    QWidget,
)

from rilievo.ui.model import StudyModel
from rilievo.ui.panels.columns_plot import ColumnsPlot
from rilievo.ui.panels.field import FieldPanel
from rilievo.ui.panels.groups import GroupsTable
from rilievo.ui.panels.histogram import HistogramPanel
from rilievo.ui.panels.history import HistoryPanel
from rilievo.ui.panels.light_curve import LightCurvePanel
from rilievo.ui.panels.measurements import Measurements
from rilievo.ui.panels.picks import PicksPanel
from rilievo.ui.panels.pixels import PixelsPanel
from rilievo.ui.panels.prints import PrintsPanel
from rilievo.ui.panels.profile import ProfilePanel
from rilievo.ui.panels.star import StarPanel
from rilievo.ui.panels.summary import SummaryPanel
from rilievo.ui.panels.tiles import Tile, TileStrip
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench

TABS = (
    "Samples",
    "Groups",
    "Picks",
    "Profile",
    "Histogram",
    "Pixels",
    "History",
    "Measurements",
    "Summary",
    "Plots",
    "Prints",
    "Star",
    "Field",
    "Light curve",
)
_OF_MEASURE = ("Summary", "Plots", "Prints")
_OF_STARS = ("Star", "Field", "Light curve")


class Drawer(QFrame):
    """Tabs over a stack."""

    def __init__(self, model: StudyModel, bench: Workbench, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("drawer")
        self._looked_at = "Samples"
        self.tabs = QTabBar()
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.setUsesScrollButtons(False)
        self.tabs.setElideMode(Qt.TextElideMode.ElideNone)
        self.tabs.setAccessibleName("Drawer")
        self.strip = TileStrip(model, bench, theme)
        self.groups = GroupsTable()
        self.measurements = Measurements(model, bench, theme)
        self.summary = SummaryPanel(model)
        self.plots = ColumnsPlot(model, self.measurements, theme)
        self.prints = PrintsPanel(model, bench, self.measurements, theme)
        self.star = StarPanel(model, bench, theme)
        self.field = FieldPanel(model, bench, theme)
        self.light_curve = LightCurvePanel(model, bench, theme)
        self._model = model
        self.picks = PicksPanel(model, bench)
        self.profile = ProfilePanel(model, bench, theme)
        self.histogram = HistogramPanel(model, bench, theme)
        self.pixels = PixelsPanel(model, bench, theme)
        self.history = HistoryPanel(model, theme)
        area = QScrollArea()
        area.setWidget(self.strip)
        area.setWidgetResizable(True)
        area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        bar = area.horizontalScrollBar()
        if bar is not None:
            bar.valueChanged.connect(lambda _: self.strip.draw_soon())
        self._stack = QStackedWidget()
        # Wide tables scroll; they must not push the stage panel aside.
        self._stack.setMinimumWidth(400)
        groups = QWidget()
        groups_layout = QVBoxLayout(groups)
        groups_layout.setContentsMargins(8, 4, 16, 4)
        groups_layout.addWidget(self.groups)
        pages = (
            area,
            groups,
            self.picks,
            self.profile,
            self.histogram,
            self.pixels,
            self.history,
            self.measurements,
            self.summary,
            self.plots,
            self.prints,
            self.star,
            self.field,
            self.light_curve,
        )
        for name, page in zip(TABS, pages, strict=True):
            self.tabs.addTab(name)
            self._stack.addWidget(page)
        self.tabs.currentChanged.connect(self._stack.setCurrentIndex)
        head = QHBoxLayout()
        head.setContentsMargins(16, 0, 16, 0)
        head.addWidget(self.tabs, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(self._stack, 1)
        self.setMinimumHeight(168)
        model.stage_changed.connect(self._on_stage)
        model.changed.connect(lambda *_: self._show_tabs(model.stage))
        self._on_stage(model.stage)

    @property
    def tiles(self) -> list[Tile]:
        """The samples' tiles."""
        return self.strip.tiles

    def show_tab(self, name: str) -> None:
        """Bring a tab to the front."""
        self.tabs.setCurrentIndex(TABS.index(name))

    def _show_tabs(self, stage: str) -> None:
        """Show the tabs that the stage has a use for."""
        stars = any(outline.source == "stars" for outline in self._model.state.method.outlines)
        shown = {
            "Groups": stage == "compare",
            **dict.fromkeys(("Picks", "Profile", "Pixels"), stage not in ("measure", "compare")),
            **dict.fromkeys(_OF_MEASURE, stage == "measure"),
            **dict.fromkeys(_OF_STARS, stage == "measure" and stars),
        }
        for name, visible in shown.items():
            self.tabs.setTabVisible(TABS.index(name), visible)

    def _on_stage(self, stage: str) -> None:
        # Tabs that vanish hand over to their neighbour, which nobody asked for.
        now = TABS[self.tabs.currentIndex()]
        if now not in ("Groups", "Measurements", *_OF_MEASURE, *_OF_STARS):
            self._looked_at = now
        self._show_tabs(stage)
        if stage == "compare":
            self.show_tab("Groups")
        elif stage == "measure":
            self.show_tab("Measurements")
        else:
            self.show_tab(self._looked_at)
