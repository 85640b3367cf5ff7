"""How the window is laid out: what is in the middle and at the side, how high each is, and what
is folded away.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Literal, get_args

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtWidgets import QFrame, QStackedWidget, QVBoxLayout, QWidget

from rilievo.ui.session.study_session import STAGES, StudySession
from rilievo.ui.shell.views import Views
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.folding_splitter import FoldingSplitter

_SIDE_WIDTH, _LEAST_SIDE = 384, 360
_DRAWER_HEIGHT, _RIDGES_HEIGHT, _NEARLY = 168, 282, 6
# Of the side, so much is for the cards; the Ridges have the rest.
_CARD_SHARE, _CARD_SHARES = 0.59, {"correct": 0.72, "outline": 0.66, "compare": 0.68}
_DRAWER_HEIGHTS = {"measure": 280, "compare": 176}

Part = Literal["cards", "ridges", "drawer"]
PARTS: tuple[Part, ...] = get_args(Part)


class Layout:
    """Puts the views into place; knows what covers the picture, and the cards of the stage."""

    def __init__(self, body: QWidget, session: StudySession, views: Views) -> None:
        """body : becomes the middle of the window; it lies in it already."""
        self._session, self._views = session, views
        # From the outside in: a widget is dressed anew each time what holds it is put elsewhere.
        rows = QVBoxLayout(body)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        self._across = FoldingSplitter(Qt.Orientation.Horizontal)
        rows.addWidget(views.header)
        rows.addWidget(self._across, 1)
        rows.addWidget(views.status)
        self._left = FoldingSplitter(Qt.Orientation.Vertical)
        side = QFrame()
        side.setObjectName("panel")
        side.setMinimumWidth(scaled(_LEAST_SIDE))
        self._cards = side
        self._across.addWidget(self._left)
        self._across.addWidget(side)
        self._middle = QStackedWidget()
        self._assemble_left()
        self._panels = QStackedWidget()
        self._side = FoldingSplitter(Qt.Orientation.Vertical)
        self._assemble_side(side)
        self._across.setStretchFactor(0, 1)
        self._across.setCollapsible(0, False)
        wide = scaled(_SIDE_WIDTH)
        self._across.setSizes([1280 - wide, wide])
        self._across.make_foldable(side, "Cards", wide)
        self._kept_stage = ""
        session.measurements.changed.connect(self._on_measured)
        # What was folded to have the picture alone.
        self._before_alone: list[Part] | None = None
        # Part → stage → how high it was left there.
        self._heights: dict[str, dict[str, int]] = {"drawer": {}, "ridges": {}}
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
        self._left.make_foldable(views.drawer, "Drawer", _DRAWER_HEIGHT)

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
        self._side.setSizes([408, _RIDGES_HEIGHT])
        self._side.setCollapsible(0, False)
        self._side.make_foldable(views.ridges, "Ridges", _RIDGES_HEIGHT)

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

    # -- folding

    def _place_of(self, part: Part) -> tuple[FoldingSplitter, QWidget]:
        """The splitter in which a part lies now, and the part."""
        if part == "cards":
            return self._across, self._cards
        if part == "drawer":
            return self._left, self._views.drawer
        return (self._left if self.ridges_below else self._side), self._views.ridges

    def is_folded(self, part: Part) -> bool:
        """Whether a part is folded away to its edge."""
        splitter, widget = self._place_of(part)
        return splitter.is_folded(widget)

    def fold(self, part: Part, folded: bool) -> None:
        """Fold a part away, or bring it back as it was."""
        splitter, widget = self._place_of(part)
        splitter.fold(widget, folded)
        self._before_alone = None

    @property
    def picture_alone(self) -> bool:
        """Whether everything beside the picture is folded away."""
        return all(self.is_folded(part) for part in PARTS)

    def show_alone(self, alone: bool) -> None:
        """Show the picture alone, or bring back what was there before."""
        back = self._before_alone if self._before_alone is not None else list(PARTS)
        changing = [part for part in PARTS if not self.is_folded(part)] if alone else back
        for part in changing:
            self.fold(part, alone)
        self._before_alone = changing if alone else None

    @property
    def ridges_below(self) -> bool:
        """Whether the Ridges lie below the picture, over its width."""
        return self._left.indexOf(self._views.ridges) >= 0

    def put_ridges(self, below: bool) -> None:
        """Put the Ridges below the picture, or below the cards."""
        if below == self.ridges_below:
            return
        folded, ridges = self.is_folded("ridges"), self._views.ridges
        if folded:
            self.fold("ridges", False)
        target = self._left if below else self._side
        target.insertWidget(1, ridges)
        target.make_foldable(ridges, "Ridges", _RIDGES_HEIGHT)
        if below:
            # Putting a part in between moves the edge of the one after it.
            self._left.make_foldable(self._views.drawer, "Drawer", _DRAWER_HEIGHT)
        target.set_size(ridges, _RIDGES_HEIGHT if not below else 190)
        if folded:
            self.fold("ridges", True)

    # -- the stage

    def show_stage(self, stage: str) -> None:
        """Show a stage's cards, and the picture or the comparison."""
        self._set_heights(stage)
        self._panels.setCurrentIndex(STAGES.index(stage))
        self._middle.setCurrentIndex(1 if stage == "compare" else 0)

    @property
    def drawer_height(self) -> int:
        """Height of the drawer, or what it had before it was folded."""
        return self._left.remembered_size(self._views.drawer)

    @drawer_height.setter
    def drawer_height(self, height: int) -> None:
        self._left.set_size(self._views.drawer, height)

    def _set_heights(self, stage: str) -> None:
        """Each stage keeps drawer and cards as high as they were left there."""
        ridges, side = self._views.ridges, self._side
        if self._stage_shown is not None:
            self._heights["drawer"][self._stage_shown] = self.drawer_height
            if not self.ridges_below:
                self._heights["ridges"][self._stage_shown] = side.remembered_size(ridges)
        self._stage_shown = stage
        if not self.ridges_below:
            whole = sum(side.sizes())
            usual = round(whole * (1 - _CARD_SHARES.get(stage, _CARD_SHARE)))
            side.set_size(ridges, self._heights["ridges"].get(stage, usual))
        self.drawer_height = self._heights["drawer"].get(stage, self._usual_drawer(stage))

    def _on_measured(self) -> None:
        """Make room for the first numbers, unless the drawer was given another height."""
        is_low = abs(self.drawer_height - _DRAWER_HEIGHT) < _NEARLY
        if self._stage_shown == "measure" and is_low and self._session.measurements.tables:
            self.drawer_height = _DRAWER_HEIGHTS["measure"]

    def _usual_drawer(self, stage: str) -> int:
        # Without numbers there is nothing to be seen in a high one.
        if stage == "measure" and not self._session.measurements.tables:
            return _DRAWER_HEIGHT
        return _DRAWER_HEIGHTS.get(stage, _DRAWER_HEIGHT)

    def fit_texts(self) -> None:
        """Give the cards the width that texts of the present size need."""
        if not self.is_folded("cards") and self._across.size_of(self._cards) < scaled(_SIDE_WIDTH):
            self._across.set_size(self._cards, scaled(_SIDE_WIDTH))

    def take_up_stage(self) -> None:
        """Go to the stage where the window was left, once there is a study to look at."""
        kept, self._kept_stage = self._kept_stage, ""
        if kept in STAGES:
            self._session.go_to(kept)

    # -- remembered

    def restore(self, screen: str) -> None:
        """Take up how the parts were divided and folded the last time on a screen."""
        kept = _Kept(screen)
        self.put_ridges(kept.flag("ridges below"))
        for part in PARTS:
            splitter, widget = self._place_of(part)
            size = kept.number(f"size {part}")
            if size:
                splitter.set_size(widget, size)
            self.fold(part, kept.flag(f"fold {part}"))
        for stage in STAGES:
            for name, heights in (
                ("drawer", self._heights["drawer"]),
                ("hills", self._heights["ridges"]),
            ):
                height = kept.number(f"{name} {stage}")
                if height:
                    heights[stage] = height
        self._views.drawer.take_up(kept.text("drawer tab"))
        self._kept_stage = kept.text("stage")

    def save(self, screen: str) -> None:
        """Remember how the parts are divided and folded."""
        if self._stage_shown is not None:
            self._set_heights(self._stage_shown)
        kept = _Kept(screen)
        kept.put("ridges below", self.ridges_below)
        for part in PARTS:
            splitter, widget = self._place_of(part)
            kept.put(f"size {part}", splitter.remembered_size(widget))
            kept.put(f"fold {part}", self.is_folded(part))
        for stage in STAGES:
            for name, heights in (
                ("drawer", self._heights["drawer"]),
                ("hills", self._heights["ridges"]),
            ):
                if stage in heights:
                    kept.put(f"{name} {stage}", heights[stage])
        kept.put("drawer tab", self._views.drawer.tab)
        kept.put("stage", self._session.stage)


class _Kept:
    """Settings of one screen."""

    def __init__(self, screen: str) -> None:
        self._group, self._settings = f"layout {screen}", QSettings()

    def put(self, name: str, value: object) -> None:
        self._settings.setValue(f"{self._group}/{name}", value)

    def text(self, name: str) -> str:
        return str(self._settings.value(f"{self._group}/{name}", ""))

    def flag(self, name: str) -> bool:
        return self.text(name) in ("true", "True", "1")

    def number(self, name: str) -> int:
        text = self.text(name)
        return int(text) if text.isdigit() else 0
