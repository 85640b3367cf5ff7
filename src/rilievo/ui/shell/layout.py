"""How the window is laid out: what is in the middle and at the side, and how high each is."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSettings, Qt
from PyQt6.QtWidgets import QFrame, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from rilievo.ui.session.study_session import STAGES, StudySession
from rilievo.ui.shell.views import Views

_SIDE_WIDTH = 384
_DRAWER_HEIGHT = 168
# Of the side, so much is for the cards; the Ridges have the rest.
_CARD_SHARE, _CARD_SHARES = 0.59, {"correct": 0.72, "outline": 0.66, "compare": 0.68}
_DRAWER_HEIGHTS = {"measure": 280, "compare": 176}


class Layout:
    """Puts the views into place; knows what covers the picture, and the cards of the stage."""

    def __init__(self, body: QWidget, session: StudySession, views: Views) -> None:
        """body : becomes the middle of the window; it lies in it already."""
        self._session, self._views = session, views
        # From the outside in: a widget is dressed anew each time what holds it is put elsewhere.
        rows = QVBoxLayout(body)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        self._across = QSplitter(Qt.Orientation.Horizontal)
        rows.addWidget(views.header)
        rows.addWidget(self._across, 1)
        rows.addWidget(views.status)
        self._left = QSplitter(Qt.Orientation.Vertical)
        side = QFrame()
        side.setObjectName("panel")
        side.setMinimumWidth(360)
        self._across.addWidget(self._left)
        self._across.addWidget(side)
        self._middle = QStackedWidget()
        self._assemble_left()
        self._panels = QStackedWidget()
        self._side = QSplitter(Qt.Orientation.Vertical)
        self._assemble_side(side)
        self._across.setStretchFactor(0, 1)
        self._across.setCollapsible(0, False)
        self._across.setCollapsible(1, False)
        self._across.setSizes([1280 - _SIDE_WIDTH, _SIDE_WIDTH])
        for splitter in (self._left, self._side, self._across):
            splitter.setHandleWidth(5)
        self._drawer_heights: dict[str, int] = {}
        self._card_heights: dict[str, int] = {}
        self._stage_shown: str | None = None

    def _assemble_left(self) -> None:
        """What is looked at, and the drawer below it."""
        views = self._views
        top = QWidget()
        self._left.addWidget(top)
        column = QVBoxLayout(top)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(views.notice)
        column.addWidget(self._middle, 1)
        for view in (
            views.area, views.comparison, views.metadata, views.intake, views.methods, views.report,
        ):  # fmt: skip
            self._middle.addWidget(view)
        self._left.addWidget(views.drawer)
        self._left.setStretchFactor(0, 1)
        self._left.setCollapsible(0, False)
        self._left.setSizes([520, _DRAWER_HEIGHT])

    def _assemble_side(self, side: QFrame) -> None:
        """The cards of the stage, and the Ridges below them."""
        views = self._views
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._side)
        self._side.addWidget(self._panels)
        for panel in (
            views.look, views.correct, views.outline, views.measure, views.compare, views.origin,
        ):  # fmt: skip
            self._panels.addWidget(panel)
        self._side.addWidget(views.ridges)
        self._side.setStretchFactor(0, 1)
        self._side.setStretchFactor(1, 1)
        self._side.setSizes([408, 282])

    # -- what covers the cards

    @property
    def panel(self) -> QWidget | None:
        """What is shown at the side: the stage's cards, or the origin of a number."""
        return self._panels.currentWidget()

    @property
    def origin_shown(self) -> bool:
        """Whether the origin of a number is shown in place of the stage's cards."""
        return self.panel is self._views.origin

    def show_origin(self, shown: bool) -> None:
        """Show the origin of a number, or the stage's cards again."""
        page = self._panels.count() - 1 if shown else STAGES.index(self._session.stage)
        self._panels.setCurrentIndex(page)

    # -- what covers the picture

    def show_metadata(self) -> None:
        """Show everything the focused sample's file says."""
        self._middle.setCurrentWidget(self._views.metadata)

    def show_intake(self, paths: Sequence[Path]) -> None:
        """Show what files would become."""
        self._middle.setCurrentWidget(self._views.intake)
        self._views.intake.look_at(list(paths))

    def show_methods(self) -> None:
        """Show the library of methods beside the present one."""
        self._middle.setCurrentWidget(self._views.methods)
        self._views.methods.open()

    def show_report(self) -> None:
        """Show what goes into the report."""
        self._middle.setCurrentWidget(self._views.report)
        self._views.report.refresh()

    def show_history(self) -> None:
        """Show what was changed."""
        self.show_picture()
        self._views.drawer.show_tab("History")

    def show_picture(self) -> None:
        """Go back from what covers the picture."""
        self._middle.setCurrentIndex(1 if self._session.stage == "compare" else 0)
        self._views.area.picture.setFocus()

    # -- the stage

    def show_stage(self, stage: str) -> None:
        """Show a stage's cards, and the picture or the comparison."""
        self._set_heights(stage)
        self._panels.setCurrentIndex(STAGES.index(stage))
        self._middle.setCurrentIndex(1 if stage == "compare" else 0)

    @property
    def drawer_height(self) -> int:
        """Height of the drawer."""
        return self._left.sizes()[1]

    @drawer_height.setter
    def drawer_height(self, height: int) -> None:
        self._left.setSizes([sum(self._left.sizes()) - height, height])

    def _set_heights(self, stage: str) -> None:
        """Each stage keeps drawer and cards as high as they were left there."""
        if self._stage_shown is not None:
            self._drawer_heights[self._stage_shown] = self.drawer_height
            self._card_heights[self._stage_shown] = self._side.sizes()[0]
        self._stage_shown = stage
        side = sum(self._side.sizes())
        cards = self._card_heights.get(stage, round(side * _CARD_SHARES.get(stage, _CARD_SHARE)))
        self._side.setSizes([cards, side - cards])
        usual = _DRAWER_HEIGHTS.get(stage, _DRAWER_HEIGHT)
        self.drawer_height = self._drawer_heights.get(stage, usual)

    # -- remembered

    def _splitters(self) -> tuple[tuple[str, QSplitter], ...]:
        return (("split side", self._side), ("split across", self._across))

    def restore(self) -> None:
        """Take up how the parts were divided the last time."""
        for name, splitter in self._splitters():
            state = QSettings().value(name)
            if isinstance(state, QByteArray):
                splitter.restoreState(state)

    def save(self) -> None:
        """Remember how the parts are divided."""
        for name, splitter in self._splitters():
            QSettings().setValue(name, splitter.saveState())
