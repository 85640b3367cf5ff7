"""The window: puts the parts together and connects them."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSettings, Qt
from PyQt6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QIcon,
    QResizeEvent,
)
from PyQt6.QtWidgets import (
    QFrame,
    QMainWindow,
    QMenu,
    QMessageBox,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from rilievo._version import __version__
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.report.figures import use_fonts
from rilievo.demo.sets import DEMO_SETS
from rilievo.ui.actions import ACTIONS
from rilievo.ui.canvas.area import PictureArea
from rilievo.ui.canvas.welcome import Welcome
from rilievo.ui.choosing import Choosing
from rilievo.ui.comparing import Comparing
from rilievo.ui.correcting import Correcting
from rilievo.ui.files import Files
from rilievo.ui.header import Header
from rilievo.ui.jobs import Jobs
from rilievo.ui.looking import Looking
from rilievo.ui.marking import Marking
from rilievo.ui.measuring import Measuring
from rilievo.ui.menus import build_menus
from rilievo.ui.model import STAGES, StudyModel
from rilievo.ui.notice import Notice
from rilievo.ui.outlining import Outlining
from rilievo.ui.panels.comparison import ComparisonView
from rilievo.ui.panels.drawer import Drawer
from rilievo.ui.panels.intake import IntakeView
from rilievo.ui.panels.metadata import MetadataView
from rilievo.ui.panels.methods import MethodsView
from rilievo.ui.panels.origin import OriginPanel
from rilievo.ui.panels.report import ReportView
from rilievo.ui.panels.ridges import Ridges
from rilievo.ui.panels.status import StatusLine
from rilievo.ui.readings import Readings
from rilievo.ui.recovery import Recovery
from rilievo.ui.region_files import RegionFiles
from rilievo.ui.reporting import Reporting
from rilievo.ui.search import CommandSearch
from rilievo.ui.stages.compare import ComparePanel
from rilievo.ui.stages.correct import CorrectPanel
from rilievo.ui.stages.look import LookPanel
from rilievo.ui.stages.measure import MeasurePanel
from rilievo.ui.stages.outline import OutlinePanel
from rilievo.ui.theme.roles import PAPER, Theme
from rilievo.ui.theme.style import ICON_FOLDER
from rilievo.ui.watching import Watching
from rilievo.ui.workbench import Workbench

_SIDE_WIDTH = 384
_DRAWER_HEIGHT = 168
# Of the side, so much is for the cards; the Ridges have the rest.
_CARD_SHARE, _CARD_SHARES = 0.59, {"correct": 0.72, "outline": 0.66, "compare": 0.68}
_DRAWER_HEIGHTS = {"measure": 280, "compare": 176}


class Window(QMainWindow):
    """One study in a window."""

    asks: bool
    jobs: Jobs
    model: StudyModel
    bench: Workbench
    notice: Notice
    area: PictureArea
    drawer: Drawer
    files: Files
    readings: Readings
    looking: Looking
    outline_panel: OutlinePanel
    outlining: Outlining
    measuring: Measuring
    origin: OriginPanel
    region_files: RegionFiles
    compare_panel: ComparePanel
    comparison: ComparisonView

    def __init__(self, theme: Theme = PAPER, evaluator: Evaluator | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Rilievo")
        self.setWindowIcon(QIcon(str(ICON_FOLDER / "rilievo.svg")))
        self.setMinimumSize(1024, 700)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.asks = True
        self.theme = theme
        self.jobs = Jobs(self)
        self.model = StudyModel(self)
        self.bench = Workbench(self.model, self.jobs, self, evaluator)
        self.notice = Notice()
        self.header = Header(self.model, theme)
        self.area = PictureArea(self.model, self.bench, theme)
        self.comparison = ComparisonView(self.model, self.bench, self.jobs, theme)
        self.drawer = Drawer(self.model, self.bench, theme)
        self.ridges = Ridges(self.model, self.bench, self.jobs, theme)
        self.status = StatusLine(self.model, self.bench)
        self.look_panel = LookPanel(self.model, self.bench)
        self.correct_panel = CorrectPanel(self.model, self.bench, theme)
        self.outlining = self.area.picture.outlining
        self.outline_panel = OutlinePanel(self.model, self.bench, theme, self.outlining)
        self.region_files = RegionFiles(self)
        self.measure_panel = MeasurePanel(self.model, self.bench, theme)
        self.origin = OriginPanel(theme)
        self.compare_panel = ComparePanel(self.model, self.bench, self.jobs)
        self.metadata = MetadataView(self.model, self.bench)
        self.intake = IntakeView(self.bench, theme)
        self.methods = MethodsView(self.model, theme)
        self.correcting: Correcting = Correcting(self)
        self.choosing: Choosing = Choosing(self.model, self.bench)
        self.files = Files(self)
        self.readings = Readings(self)
        self.looking = Looking(self)
        self.measuring = Measuring(self)
        self.comparing: Comparing = Comparing(self)
        self.reporting: Reporting = Reporting(self)
        self.watching: Watching = Watching(self)
        self.report = ReportView(self.model, self.reporting)
        self._marking = Marking(self)
        self.recovery = Recovery(self.model, self.jobs, self)
        self._assemble(theme)
        self.actions_by_id = build_menus(self)
        self.search = CommandSearch(self)
        self._connect()
        self._restore_layout()
        self._on_stage(self.model.stage)
        self.refresh_actions()

    # -- building

    def _assemble(self, theme: Theme) -> None:
        # From the outside in: a widget is dressed anew each time what holds it is put elsewhere.
        body = QWidget()
        self.setCentralWidget(body)
        rows = QVBoxLayout(body)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        self._across = QSplitter(Qt.Orientation.Horizontal)
        rows.addWidget(self.header)
        rows.addWidget(self._across, 1)
        rows.addWidget(self.status)
        self._left = QSplitter(Qt.Orientation.Vertical)
        side = QFrame()
        side.setObjectName("panel")
        side.setMinimumWidth(360)
        self._across.addWidget(self._left)
        self._across.addWidget(side)
        self._assemble_left(theme)
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

    def _assemble_left(self, theme: Theme) -> None:
        """What is looked at, and the drawer below it."""
        left_top = QWidget()
        self._left.addWidget(left_top)
        column = QVBoxLayout(left_top)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self._middle = QStackedWidget()
        column.addWidget(self.notice)
        column.addWidget(self._middle, 1)
        for view in (
            self.area, self.comparison, self.metadata, self.intake, self.methods, self.report
        ):  # fmt: skip
            self._middle.addWidget(view)
        self._welcome = Welcome(
            theme,
            [
                ("Add images …", "Choose image files (Ctrl+O)", self.files.ask_images),
                ("Open study …", "Open a saved study", self.files.ask_study),
            ],
            [
                (
                    demo.title,
                    f"Made up for learning: {demo.about}",
                    partial(self.files.open_demo, demo.key),
                )
                for demo in DEMO_SETS.values()
            ],
        )
        self.area.lay_over(self._welcome)
        self._left.addWidget(self.drawer)
        self._left.setStretchFactor(0, 1)
        self._left.setCollapsible(0, False)
        self._left.setSizes([520, _DRAWER_HEIGHT])

    def _assemble_side(self, side: QFrame) -> None:
        """The cards of the stage, and the Ridges below them."""
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self._side = QSplitter(Qt.Orientation.Vertical)
        column.addWidget(self._side)
        self._panels = QStackedWidget()
        self._side.addWidget(self._panels)
        for panel in (
            self.look_panel,
            self.correct_panel,
            self.outline_panel,
            self.measure_panel,
            self.compare_panel,
            self.origin,
        ):
            self._panels.addWidget(panel)
        self._side.addWidget(self.ridges)
        self._side.setStretchFactor(0, 1)
        self._side.setStretchFactor(1, 1)
        self._side.setSizes([408, 282])

    def _connect(self) -> None:
        model, bench = self.model, self.bench
        header, picture = self.header, self.area.picture
        header.rail.chosen.connect(model.go_to)
        for button, action_id in (
            (header.find_button, "edit.find"),
            (header.undo_button, "edit.undo"),
            (header.redo_button, "edit.redo"),
            (header.run_button, "measure.all"),
        ):
            action = self.actions_by_id[action_id]
            button.clicked.connect(action.trigger)
            action.enabledChanged.connect(button.setEnabled)
            button.setToolTip(f"{action.toolTip()} ({action.shortcut().toString()})")
        model.stage_changed.connect(self._on_stage)
        model.changed.connect(lambda *_: self._on_change())
        model.focus_changed.connect(self._on_change)
        model.selection_changed.connect(self._on_selection)
        undone, asked = model.undo_stack.indexChanged, self.outlining.changed
        for signal in (model.tables_changed, undone, asked, bench.measuring):
            signal.connect(lambda *_: self.refresh_actions())
        bench.loaded.connect(lambda _: self._on_change())
        bench.load_failed.connect(lambda _, text: self.notice.warn(text))
        self.recovery.failed.connect(self.notice.warn)
        bench.measured.connect(self._on_measured)
        bench.batch.warned.connect(self.notice.warn)
        bench.held_partly.connect(self._tell_held)
        picture.pointed.connect(self.status.point_at)
        picture.viewed.connect(self.show_zoom)
        picture.patch_drawn.connect(self.correct_panel.take_rectangle)
        self.model.viewing.changed.connect(self._show_patches)
        self.area.key.drag_begun.connect(self.look_panel.display.begin_drag)
        self.area.key.range_dragged.connect(self.look_panel.display.set_range)
        self.looking.connect()
        self.correcting.connect()
        self.measuring.connect()
        self.comparing.connect()
        self.measure_panel.export_wanted.connect(self.measuring.ask_table)
        self.measure_panel.copy_wanted.connect(self.files.copy_table)
        self.status.checks_wanted.connect(self._show_checks)
        self.drawer.strip.menu_wanted.connect(self._sample_menu)

    # -- what covers the cards

    @property
    def origin_shown(self) -> bool:
        """Whether the origin of a number is shown in place of the stage's cards."""
        return self._panels.currentWidget() is self.origin

    def show_origin_panel(self, shown: bool) -> None:
        """Show the origin of a number, or the stage's cards again."""
        page = self._panels.count() - 1 if shown else STAGES.index(self.model.stage)
        self._panels.setCurrentIndex(page)

    # -- what covers the picture

    def show_metadata(self) -> None:
        """Show everything the focused sample's file says."""
        self._middle.setCurrentWidget(self.metadata)

    def show_intake(self, paths: list[Path]) -> None:
        """Show what files would become."""
        self._middle.setCurrentWidget(self.intake)
        self.intake.look_at(paths)

    def show_methods(self) -> None:
        """Show the library of methods beside the present one."""
        self._middle.setCurrentWidget(self.methods)
        self.methods.open()

    def show_report(self) -> None:
        """Show what goes into the report."""
        self._middle.setCurrentWidget(self.report)
        self.report.refresh()

    def show_history(self) -> None:
        """Show what was changed."""
        self.show_picture()
        self.drawer.show_tab("History")

    def add_step(self) -> None:
        """Go where steps are and open their list."""
        self.go_to("correct")
        self.correct_panel.choose_step()

    def show_picture(self) -> None:
        """Go back from what covers the picture."""
        self._middle.setCurrentIndex(1 if self.model.stage == "compare" else 0)
        self.area.picture.setFocus()

    # -- reacting

    def _set_drawer_height(self, stage: str) -> None:
        """Each stage keeps drawer and cards as high as they were left there."""
        if self._stage_shown is not None:
            self._drawer_heights[self._stage_shown] = self._left.sizes()[1]
            self._card_heights[self._stage_shown] = self._side.sizes()[0]
        self._stage_shown = stage
        side = sum(self._side.sizes())
        cards = self._card_heights.get(stage, round(side * _CARD_SHARES.get(stage, _CARD_SHARE)))
        self._side.setSizes([cards, side - cards])
        height = self._drawer_heights.get(stage, _DRAWER_HEIGHTS.get(stage, _DRAWER_HEIGHT))
        whole = sum(self._left.sizes())
        self._left.setSizes([whole - height, height])

    def _on_stage(self, stage: str) -> None:
        self._set_drawer_height(stage)
        self._panels.setCurrentIndex(STAGES.index(stage))
        self._middle.setCurrentIndex(1 if stage == "compare" else 0)
        self.show_zoom()
        self._on_change()

    def show_zoom(self) -> None:
        """Show the zoom of what is looked at."""
        picture = self.area.picture
        seen = picture.viewport is not None and self.model.stage != "compare"
        zoom = self.area.sheet.zoom if self.area.shows_sheet else picture.zoom
        self.status.set_zoom(zoom if seen else None)

    def _on_change(self) -> None:
        self._show_patches()
        self._welcome.setVisible(not self.model.state.samples)
        name = self.model.state.name
        self.setWindowTitle(f"{name} – Rilievo" if self.model.state.samples else "Rilievo")
        self.refresh_actions()

    def _show_patches(self) -> None:
        """Show the rectangles of the open card on the picture."""
        picture = self.area.picture
        picture.patches = self.correct_panel.patches
        picture.patch_label = self.correct_panel.rectangle_label
        picture.patch_is_drawable = self.correct_panel.is_drawable
        picture.refresh_cursor()
        picture.update()

    def _on_selection(self) -> None:
        if len(self.model.regions) == 1 and self.model.stage != "compare":
            self.area.picture.show_region(next(iter(self.model.regions)))
        self.refresh_actions()

    def _tell_held(self, count: int, total: int) -> None:
        self.notice.warn(
            f"Of {total} samples about {count} are held in memory at a time: the focused one, its "
            "neighbours, and some of all. Every sample is measured. Method ▸ Memory for results "
            "sets how much may be held."
        )

    def _on_measured(self, whole: bool) -> None:
        if not whole:
            count = len(self.model.tables)
            self.notice.tell(f"Measuring was cancelled; {count} samples are measured.")
        self.refresh_actions()

    def refresh_actions(self) -> None:
        """Enable what can be done now."""
        for entry in ACTIONS:
            action = self.actions_by_id[entry.id]
            action.setEnabled(entry.enabled(self))
            if entry.checked is not None:
                action.setChecked(entry.checked(self))
        stack = self.model.undo_stack
        for action_id, text in (
            ("edit.undo", f"Undo: {stack.undoText()}" if stack.canUndo() else "Undo"),
            ("edit.redo", f"Redo: {stack.redoText()}" if stack.canRedo() else "Redo"),
        ):
            self.actions_by_id[action_id].setText(text)

    # -- what actions do

    def go_to(self, stage: str) -> None:
        """Visit a stage."""
        self.model.go_to(stage)

    def edit_group(self) -> None:
        """Go where the group is typed."""
        self.model.go_to("look")
        self.look_panel.sample.group.setFocus()

    def measure_all(self) -> None:
        """Run the method on every sample."""
        self.bench.batch.start([entry.id for entry in self.model.state.samples])
        # The plot comes next: load what draws it while the numbers are computed.
        self.jobs.run("warm up", use_fonts, lambda _: None)
        if self.model.stage in ("look", "correct", "outline"):
            self.model.go_to("measure")

    def measure_one(self) -> None:
        """Run the method on the focused sample."""
        if self.model.sample_id is not None:
            self.bench.measure([self.model.sample_id])
            self.model.go_to("measure")

    def open_search(self) -> None:
        """Open the command search."""
        self.refresh_actions()
        self.search.open([(entry.menu, self.actions_by_id[entry.id]) for entry in ACTIONS])

    def about(self) -> None:
        """Say what this is."""
        QMessageBox.about(
            self,
            "About Rilievo",
            f"<b>Rilievo {__version__}</b><p>Measures pixel intensities in grayscale photographs: "
            "correct, outline, measure, compare.</p><p>Apache licence 2.0. Typeface Inter, SIL "
            "Open Font License.</p>",
        )

    def _show_checks(self) -> None:
        self.model.go_to("look")
        flagged = [
            entry.id
            for entry in self.model.state.samples
            if self.bench.checks_of(entry.id) or entry.id in self.bench.errors
        ]
        if flagged and self.model.sample_id not in flagged:
            self.model.focus(sample_id=flagged[0])

    def _sample_menu(self, at: object) -> None:
        menu = QMenu(self)
        for action_id in ("sample.set_group", "measure.one", "sample.remove"):
            menu.addAction(self.actions_by_id[action_id])
        menu.exec(at)  # type: ignore[call-overload]

    # -- the window itself

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if data is not None:
            paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
            self.files.open_any(paths, ask=True)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.search.hide()

    def _restore_layout(self) -> None:
        settings = QSettings()
        geometry = settings.value("geometry")
        if isinstance(geometry, QByteArray):
            self.restoreGeometry(geometry)
        for name, splitter in self._splitters():
            state = settings.value(name)
            if isinstance(state, QByteArray):
                splitter.restoreState(state)

    def _splitters(self) -> tuple[tuple[str, QSplitter], ...]:
        return (
            ("split side", self._side),
            ("split across", self._across),
        )

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if event is None:
            return
        if not self.files.may_leave():
            event.ignore()
            return
        settings = QSettings()
        settings.setValue("geometry", self.saveGeometry())
        for name, splitter in self._splitters():
            settings.setValue(name, splitter.saveState())
        # Files that are being written are finished; the user need not watch.
        self.hide()
        self.watching.stop()
        self.reporting.close()
        self.bench.batch.close()
        self.jobs.close()
        self.bench.batch.close_store()
        self.recovery.remove()
        # The stack empties itself while the window is torn down; nobody is left to hear of it.
        self.model.undo_stack.blockSignals(True)
        event.accept()
