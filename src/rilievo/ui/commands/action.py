"""What an action of the window is, what it works on, and when it can be done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from rilievo.ui.canvas.picture_area import PictureArea
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
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.panels.drawer import Drawer
from rilievo.ui.stages.compare.compare_panel import ComparePanel


def _always() -> bool:
    return True


@dataclass(frozen=True)
class Action:
    """One thing the window can do.

    gap : a separator stands before it in its menu. checked : for what is switched on and off.
    recent : the studies used last are listed below it.
    """

    id: str
    text: str
    menu: str
    tip: str
    run: Callable[[], object]
    shortcut: str = ""
    enabled: Callable[[], bool] = _always
    gap: bool = False
    checked: Callable[[], bool] | None = None
    recent: bool = False


@dataclass(frozen=True)
class Commands:
    """All commands of a window, and what they work on; made by the shell.

    quit, find, edit_group : what the window itself does.
    """

    context: CommandContext
    study: StudyCommands
    images: ImageCommands
    method_file: MethodFileCommands
    selection: SelectionCommands
    blinding: BlindingCommands
    view: ViewCommands
    look: LookCommands
    readings: ReadingCommands
    correct: CorrectCommands
    outline: OutlineCommands
    region_files: RegionFileCommands
    measure: MeasureCommands
    compare: CompareCommands
    report: ReportCommands
    watch: WatchCommands
    markers: MarkerDrag
    region_editor: RegionEditor
    area: PictureArea
    drawer: Drawer
    compare_panel: ComparePanel
    quit: Callable[[], object]
    find: Callable[[], None]
    edit_group: Callable[[], None]
    arrangement: ArrangementCommands
    help: HelpCommands


class When:
    """When actions can be done."""

    def __init__(self, commands: Commands) -> None:
        self._commands = commands
        self._session = commands.context.session
        self._compute = commands.context.compute

    def has_samples(self) -> bool:
        return bool(self._session.state.samples)

    def has_open_samples(self) -> bool:
        return self.has_samples() and not self._session.is_blind

    def is_blind(self) -> bool:
        return self._session.is_blind

    def has_focus(self) -> bool:
        return self._compute.store.focused is not None

    def has_stack(self) -> bool:
        return self._session.stack is not None

    def has_channels(self) -> bool:
        sample = self._compute.store.focused
        return sample is not None and len(sample.channels) > 1

    def has_picks(self) -> bool:
        return bool(self._session.state.method.picks)

    def has_tables(self) -> bool:
        return bool(self._session.measurements.tables)

    def has_selection(self) -> bool:
        return bool(self._session.focus.regions)

    def has_line(self) -> bool:
        return self._session.view.line is not None

    def is_outlining(self) -> bool:
        return self.has_focus() and self._session.stage == "outline"

    def can_accept(self) -> bool:
        return self.has_selection() or self._commands.region_editor.by_hand.left_out is not None

    def has_drawn(self) -> bool:
        return self._commands.region_editor.drawn.is_drawing and self.has_selection()

    def can_measure(self) -> bool:
        return self.has_samples() and not self._compute.batch.is_running

    def can_measure_one(self) -> bool:
        return self.has_focus() and not self._compute.batch.is_running

    def can_retry(self) -> bool:
        return bool(self._compute.batch.failures) and not self._compute.batch.is_running

    def has_plot(self) -> bool:
        return self._commands.compare_panel.comparison is not None


def is_chosen(choices: object, name: str, value: object) -> bool:
    """Whether one of several choices has a value, for marks in menus."""
    return bool(getattr(choices, name) == value)
