"""The window: makes the parts, puts them together, and follows what happens in them."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSettings, QSize
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PyQt6.QtWidgets import QMainWindow, QMenu, QWidget

from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.registry import left_out
from rilievo.demo.sets import DEMO_SETS
from rilievo.ui.commands.action import Commands
from rilievo.ui.commands.actions import list_actions
from rilievo.ui.commands.arrangement import ArrangementCommands
from rilievo.ui.commands.blinding_commands import BlindingCommands
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.commands.compare import CompareCommands
from rilievo.ui.commands.correct import CorrectCommands
from rilievo.ui.commands.help import HelpCommands
from rilievo.ui.commands.images import ImageCommands
from rilievo.ui.commands.look import LookCommands
from rilievo.ui.commands.marker_drag import MarkerDrag
from rilievo.ui.commands.measure import MeasureCommands
from rilievo.ui.commands.method_file import MethodFileCommands
from rilievo.ui.commands.outline import OutlineCommands
from rilievo.ui.commands.readings import ReadingCommands
from rilievo.ui.commands.region_files import RegionFileCommands
from rilievo.ui.commands.report_commands import ReportCommands
from rilievo.ui.commands.selection import SelectionCommands
from rilievo.ui.commands.study_commands import StudyCommands
from rilievo.ui.commands.view import ViewCommands
from rilievo.ui.commands.watch import WatchCommands
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.folder_watcher import FolderWatcher
from rilievo.ui.compute.garbage import Garbage
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.recovery import Recovery
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.compute.report_runner import ReportRunner
from rilievo.ui.help.help_dialogs import keys_text
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.shell.dialogs import WindowDialogs
from rilievo.ui.shell.layout import Layout
from rilievo.ui.shell.menus import Menus
from rilievo.ui.shell.views import Views
from rilievo.ui.shell.walk import Walk
from rilievo.ui.shell.walk_steps import walk_steps
from rilievo.ui.shell.welcome import Welcome
from rilievo.ui.shell.what_is_this import WhatIsThis
from rilievo.ui.shell.wiring import connect_views
from rilievo.ui.theme.choice import Appearance, chosen_theme, roles_for
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import icon
from rilievo.ui.widgets.search_list import CommandSearch

_FRAME, _TITLE_LINE = 4, 40


class Window(QMainWindow):
    """One study in a window."""

    def __init__(self, cache: AnalysisCache | None = None) -> None:
        """cache : shares what it has computed with whoever else uses it."""
        super().__init__()
        self.setWindowTitle("Rilievo")
        self.setWindowIcon(icon("rilievo"))
        self._fit_to_screen()
        self.setAcceptDrops(True)
        self.theme = theme = Theme(roles_for(chosen_theme()), self)
        self.appearance = Appearance(theme, self)
        self.jobs = Jobs(self)
        self.garbage = Garbage(lambda: self.jobs.idle, self)
        self.session = StudySession(self)
        self.compute = Compute(self.session, self.jobs, self, cache)
        self.compute.store.emptied.connect(self.garbage.soon)
        theme.changed.connect(self._draw_anew)
        self.region_editor = RegionEditor(self.session, self.compute, self)
        self.report_runner = ReportRunner(self.session, self.compute, self)
        self.folder_watcher = FolderWatcher(self.session, self.compute, self)
        self.views = Views(
            self.session,
            self.compute,
            theme,
            self.region_editor,
            self.report_runner,
            self.folder_watcher,
        )
        body = QWidget()
        self.setCentralWidget(body)
        self.pages = Layout(body, self.session, self.views)
        self.recovery = Recovery(self.session, self.jobs, self)
        self.commands = self._make_commands()
        self.welcome = self._make_welcome()
        self.views.area.lay_over(self.welcome)
        self.menus = Menus(self, list_actions(self.commands), self.commands.study)
        self.views.header.title.setMenu(self.menus.menus["Study"])
        self.search = CommandSearch(self)
        connect_views(self.commands, self.views, self.pages, self)
        self._follow()
        self._restore()
        self._on_stage(self.session.stage)
        for sentence in left_out():
            self.views.notice.warn(sentence)

    # -- building

    def _make_commands(self) -> Commands:
        views, editor = self.views, self.region_editor
        context = CommandContext(
            self.session,
            self.compute,
            views.notice,
            WindowDialogs(self),
            self.pages,
            self.refresh_actions,
        )
        picture, classes = views.area.picture, views.outline.classes
        study = StudyCommands(context)
        measure = MeasureCommands(context, views.drawer, views.origin)
        return Commands(
            context=context,
            study=study,
            images=ImageCommands(context, study),
            method_file=MethodFileCommands(context),
            selection=SelectionCommands(context),
            blinding=BlindingCommands(context),
            view=ViewCommands(context),
            look=LookCommands(context, views.area, views.drawer),
            readings=ReadingCommands(context, picture, views.drawer, self.theme),
            correct=CorrectCommands(context, views.correct),
            outline=OutlineCommands(context, classes),
            region_files=RegionFileCommands(context, classes),
            measure=measure,
            compare=CompareCommands(
                context, views.compare, views.comparison, views.drawer, picture, measure
            ),
            report=ReportCommands(context, self.report_runner),
            watch=WatchCommands(context, self.folder_watcher),
            markers=MarkerDrag(
                {
                    "display": views.look.display,
                    "background": views.correct.editor,
                    "threshold": views.outline.level,
                    "lower": views.outline.level,
                    "upper": views.outline.level,
                }
            ),
            region_editor=editor,
            area=views.area,
            drawer=views.drawer,
            compare_panel=views.compare,
            quit=self.close,
            find=self.open_search,
            edit_group=self.edit_group,
            arrangement=ArrangementCommands(context, self.pages, self.appearance),
            help=self._make_help(context),
        )

    def _make_help(self, context: CommandContext) -> HelpCommands:
        self.walk = Walk(self, self.theme, walk_steps(self.views), self.session.go_to)
        self.what_is_this = WhatIsThis(
            self,
            self._explain,
            lambda: self.views.notice.tell("The guide has nothing of its own on this part."),
        )
        return HelpCommands(
            context,
            self,
            lambda: [(e.menu, e.text, keys_text(e.shortcut), e.tip) for e in self.menus.entries],
            self.walk.begin,
            self.what_is_this.begin,
        )

    def _explain(self, topic: str) -> None:
        self.commands.help.open_topic(topic)

    def _make_welcome(self) -> Welcome:
        study, images = self.commands.study, self.commands.images
        return Welcome(
            self.theme,
            [
                ("Add images …", "Choose image files (Ctrl+O)", images.ask_images),
                ("Open study …", "Open a saved study", study.ask_study),
            ],
            [
                (
                    demo.title,
                    f"Synthetic, for learning: {demo.about}",
                    partial(images.open_demo, demo.key),
                )
                for demo in DEMO_SETS.values()
            ],
        )

    def _follow(self) -> None:
        """Follow what happens in the study and in what is computed of it."""
        session, compute, views = self.session, self.compute, self.views
        header, notice = views.header, views.notice
        header.rail.chosen.connect(session.go_to)
        for button, action_id in (
            (header.find_button, "edit.find"),
            (header.undo_button, "edit.undo"),
            (header.redo_button, "edit.redo"),
            (header.run_button, "measure.all"),
        ):
            action = self.menus.actions[action_id]
            button.clicked.connect(action.trigger)
            action.enabledChanged.connect(button.setEnabled)
            button.setToolTip(f"{action.toolTip()} ({action.shortcut().toString()})")
        session.stage_changed.connect(self._on_stage)
        session.changed.connect(lambda *_: self._on_change())
        session.focus.changed.connect(self._on_change)
        session.focus.regions_changed.connect(self._on_selection)
        session.view.changed.connect(self._on_view)
        for signal in (
            session.measurements.changed,
            session.undo_stack.indexChanged,
            self.region_editor.changed,
            compute.batch.progressed,
        ):
            signal.connect(lambda *_: self.refresh_actions())
        compute.store.loaded.connect(
            lambda i: self._on_change() if i == self.session.focus.sample_id else None
        )
        compute.store.load_failed.connect(lambda _, text: notice.warn(text))
        compute.checks.defect_found.connect(notice.warn)
        compute.store.held_partly.connect(self._tell_held)
        compute.batch.warned.connect(notice.warn)
        compute.batch.measured.connect(self._on_measured)
        self.recovery.failed.connect(notice.warn)
        views.area.picture.viewed.connect(self.show_zoom)
        views.area.sheet.viewed.connect(self.show_zoom)
        views.status.checks_wanted.connect(self._show_checks)
        views.drawer.strip.menu_wanted.connect(self._open_sample_menu)

    # -- reacting

    def _on_stage(self, stage: str) -> None:
        self.pages.show_stage(stage)
        self.show_zoom()
        self._on_change()

    def show_zoom(self) -> None:
        """Show the zoom of what is looked at."""
        area = self.views.area
        seen = area.picture.viewport is not None and self.session.stage != "compare"
        zoom = area.sheet.zoom if area.shows_sheet else area.picture.zoom
        self.views.status.set_zoom(zoom if seen else None)

    def _on_view(self) -> None:
        self._show_patches()
        self.show_zoom()

    def _on_change(self) -> None:
        self._show_patches()
        state = self.session.state
        self.welcome.setVisible(not state.samples)
        self.setWindowTitle(f"{state.name} – Rilievo" if state.samples else "Rilievo")
        self.refresh_actions()

    def _show_patches(self) -> None:
        """Show the rectangles and the marked card of the open step on the picture."""
        picture, marks = self.views.area.picture, self.views.correct.marks
        picture.patches = marks.shown
        picture.patch_label = marks.label
        picture.card = marks.card
        picture.tools.patch_is_drawable = marks.is_drawable
        picture.refresh_cursor()
        picture.update()

    def _on_selection(self) -> None:
        regions = self.session.focus.regions
        if len(regions) == 1 and self.session.stage != "compare":
            self.views.area.picture.show_region(next(iter(regions)))
        self.refresh_actions()

    def _tell_held(self, count: int, total: int) -> None:
        self.views.notice.warn(
            f"Of {total} samples about {count} are held in memory at a time: the focused one, its "
            "neighbours, and some of all. Every sample is measured. Method ▸ Memory for results "
            "sets how much may be held."
        )

    def _on_measured(self, whole: bool) -> None:
        if not whole:
            count = len(self.session.measurements.tables)
            self.views.notice.tell(f"Measuring was cancelled; {count} samples are measured.")
        self.refresh_actions()

    def refresh_actions(self) -> None:
        """Enable what can be done now."""
        self.menus.refresh()
        self.menus.name_undo(self.session.undo_stack)

    def _draw_anew(self) -> None:
        """Draw everything in the colours in force."""
        self._fit_to_screen(keep_size=True)
        self.pages.fit_texts()
        for widget in self.findChildren(QWidget):
            widget.update()
        # What is drawn elsewhere is asked for again.
        self.session.view.changed.emit()
        self.session.stage_changed.emit(self.session.stage)

    # -- what actions of the window itself do

    def edit_group(self) -> None:
        """Go where the group is typed."""
        self.session.go_to("look")
        self.views.look.sample.open()
        self.views.look.sample.group.setFocus()

    def open_search(self) -> None:
        """Open the command search."""
        self.refresh_actions()
        actions = self.menus.actions
        self.search.open([(entry.menu, actions[entry.id]) for entry in self.menus.entries])

    def _show_checks(self) -> None:
        self.pages.fold("drawer", False)
        self.views.drawer.show_tab("Checks")

    def _open_sample_menu(self, at: object) -> None:
        menu = QMenu(self)
        for action_id in ("sample.set_group", "measure.one", "sample.remove"):
            menu.addAction(self.menus.actions[action_id])
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
            self.commands.images.open_any(paths, ask=True)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.search.hide()

    def _fit_to_screen(self, *, keep_size: bool = False) -> None:
        """Be as large as the design, or as the screen has room for with the window's frame."""
        room = self._room()
        self.setMinimumSize(min(1024, room.width()), min(700, room.height()))
        if keep_size:
            return
        self.resize(min(1280, room.width()), min(800, room.height()))

    def _room(self) -> QSize:
        screen = self.screen()
        if screen is None:
            return QSize(1280, 800)
        free = screen.availableGeometry()
        # Frames are known once the window is shown; a title line is about so high.
        return QSize(free.width() - 2 * _FRAME, free.height() - _TITLE_LINE - _FRAME)

    @property
    def _screen_name(self) -> str:
        """The screen on which this is, as settings know it."""
        screen = self.screen()
        if screen is None:
            return ""
        size = screen.size()
        return f"{screen.name()} {size.width()}x{size.height()}".replace("/", "-")

    def _restore(self) -> None:
        """Be where, and divided as, this was on this screen."""
        geometry = QSettings().value(f"geometry {self._screen_name}")
        if isinstance(geometry, QByteArray):
            self.restoreGeometry(geometry)
            room = self._room()
            if not self.isMaximized() and (
                self.width() > room.width() or self.height() > room.height()
            ):
                self.resize(self.size().boundedTo(room))
        self.pages.restore(self._screen_name)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if event is None:
            return
        if not self.commands.study.may_leave():
            event.ignore()
            return
        QSettings().setValue(f"geometry {self._screen_name}", self.saveGeometry())
        self.pages.save(self._screen_name)
        # Files that are being written are finished; the user need not watch.
        self.hide()
        self.commands.help.close()
        self.walk.end()
        self.what_is_this.end()
        self.folder_watcher.stop()
        self.report_runner.close()
        self.compute.batch.close()
        self.jobs.close()
        self.compute.awaited.close()
        self.compute.batch.close_store()
        self.recovery.remove()
        self.session.release()
        # The stack empties itself while the window is torn down; nobody is left to hear of it.
        self.session.undo_stack.blockSignals(True)
        self.garbage.close()
        event.accept()
