"""All that a window shows, made once: header, picture, panels, drawer, status line."""

from __future__ import annotations

from rilievo.ui.canvas.picture_area import PictureArea
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.folder_watcher import FolderWatcher
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.compute.report_runner import ReportRunner
from rilievo.ui.help.topics import set_topic
from rilievo.ui.panels.comparison_panel import ComparisonView
from rilievo.ui.panels.drawer import Drawer
from rilievo.ui.panels.intake import IntakeView
from rilievo.ui.panels.metadata_panel import MetadataView
from rilievo.ui.panels.methods_panel import MethodsView
from rilievo.ui.panels.origin_panel import OriginPanel
from rilievo.ui.panels.report_panel import ReportView
from rilievo.ui.panels.ridges import Ridges
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.shell.status_line import StatusLine
from rilievo.ui.shell.window_header import Header
from rilievo.ui.stages.compare.compare_panel import ComparePanel
from rilievo.ui.stages.correct.correct_panel import CorrectPanel
from rilievo.ui.stages.look.look_panel import LookPanel
from rilievo.ui.stages.measure.measure_panel import MeasurePanel
from rilievo.ui.stages.outline.outline_panel import OutlinePanel
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.notice import Notice


class Views:
    """The parts of one window that are seen; none of them knows the window."""

    def __init__(
        self,
        session: StudySession,
        compute: Compute,
        theme: Theme,
        editor: RegionEditor,
        runner: ReportRunner,
        watcher: FolderWatcher,
    ) -> None:
        jobs = compute.jobs
        self.notice = Notice()
        self.header = Header(session, theme)
        # In the middle.
        self.area = PictureArea(session, compute, theme, editor)
        self.comparison = ComparisonView(session, compute, jobs, theme)
        self.metadata = MetadataView(session, compute)
        self.intake = IntakeView(compute, theme)
        self.methods = MethodsView(session, theme)
        self.report = ReportView(session, runner)
        # Below it.
        self.drawer = Drawer(session, compute, theme)
        self.status = StatusLine(session, compute, watcher)
        # At the side.
        self.ridges = Ridges(session, compute, jobs, theme)
        self.look = LookPanel(session, compute)
        self.correct = CorrectPanel(session, compute, theme)
        self.outline = OutlinePanel(session, compute, theme, editor)
        self.measure = MeasurePanel(session, compute, theme)
        self.compare = ComparePanel(session, compute, jobs)
        for panel, heading in (
            (self.look, "Look"), (self.correct, "Correct"), (self.outline, "Outline"),
            (self.measure, "Measure"), (self.compare, "Compare"), (self.ridges, "See"),
            (self.drawer, "Read"), (self.area, "See"), (self.comparison, "Compare"),
            (self.report, "Report"), (self.methods, "Methods and history"),
            (self.intake, "Bring in"), (self.look.checks, "Checks"),
        ):  # fmt: skip
            set_topic(panel, "guide", heading)
            if not panel.accessibleName():
                panel.setAccessibleName(heading)
        self.origin = OriginPanel(theme)
