"""Which signal of which view asks for which command: the only place where they meet."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QTimer

from rilievo.ui.commands.action import Commands
from rilievo.ui.shell.layout import Layout
from rilievo.ui.shell.views import Views


def connect_views(commands: Commands, views: Views, layout: Layout, parent: QObject) -> None:
    """Connect the views with the commands. parent : owns the timers."""
    _connect_picture(commands, views, parent)
    _connect_look(commands, views, layout)
    _connect_correct(commands, views, layout)
    views.ridges.marker_begun.connect(commands.markers.begin)
    views.ridges.marker_moved.connect(commands.markers.move)
    _connect_measure(commands, views)
    _connect_compare(commands, views, layout)


def _connect_picture(commands: Commands, views: Views, parent: QObject) -> None:
    """What the pointer and the tools do."""
    view, picture, look = commands.context.session.view, views.area.picture, commands.look
    asks = picture.signals
    picture.pointed.connect(views.status.point_at)
    sheet, strip = views.area.sheet, views.drawer.strip
    sheet.pointed.connect(views.status.point_at)
    # Sorted and filtered as the tiles are.
    sheet.samples_in_order = lambda: [tile.sample_id for tile in strip.tiles]
    strip.arranged.connect(sheet.refresh)
    asks.patch_drawn.connect(views.correct.marks.take)
    asks.card_marked.connect(views.correct.marks.take_card)
    asks.pick_wanted.connect(look.add_pick)
    asks.line_drawn.connect(views.drawer.profile.set_line)
    asks.length_drawn.connect(views.look.levels.take_length)
    asks.repair_wanted.connect(look.repair)
    asks.tool_done.connect(lambda: view.choose(tool="point"))
    view.tool_changed.connect(look.follow_tool)
    # Once for all that changes while a pointer moves.
    soon = QTimer(parent)
    soon.setSingleShot(True)
    soon.timeout.connect(commands.context.follow)
    for signal in (view.changed, view.line_changed):
        signal.connect(lambda: soon.start(0))


def _connect_look(commands: Commands, views: Views, layout: Layout) -> None:
    """What is read, and what the cards of Look ask for."""
    look, readings, drawer = commands.look, commands.readings, views.drawer
    drawer.profile.cursor_moved.connect(look.show_line_cursor)
    drawer.picks.chosen_changed.connect(look.choose_picks)
    drawer.picks.go_to.connect(look.look_at)
    drawer.picks.copy_wanted.connect(readings.copy_picks)
    drawer.picks.save_wanted.connect(readings.ask_picks)
    drawer.profile.copy_wanted.connect(readings.copy_profile)
    drawer.profile.save_wanted.connect(readings.ask_profile)
    drawer.histogram.copy_wanted.connect(readings.copy_histogram)
    drawer.histogram.save_wanted.connect(readings.ask_histogram)
    views.look.levels.length_wanted.connect(lambda: commands.view.use_tool("length"))
    views.look.sample.metadata_wanted.connect(layout.show_metadata)
    views.look.statistics.position_wanted.connect(look.look_at)
    views.metadata.closed.connect(layout.show_picture)
    views.intake.closed.connect(layout.show_picture)
    views.intake.accepted.connect(commands.images.add_proposals)
    views.area.key.drag_begun.connect(views.look.display.begin_drag)
    views.area.key.range_dragged.connect(views.look.display.set_range)


def _connect_correct(commands: Commands, views: Views, layout: Layout) -> None:
    views.correct.library_button.clicked.connect(layout.show_methods)
    views.correct.marks.points_wanted.connect(commands.correct.take_points)
    views.methods.closed.connect(layout.show_picture)
    views.methods.file_wanted.connect(commands.method_file.load_method)
    views.drawer.history.save_wanted.connect(commands.correct.ask_history)


def _connect_measure(commands: Commands, views: Views) -> None:
    """Table, prints and plots of Measure, and the origin of their numbers."""
    session, measure, drawer = commands.context.session, commands.measure, views.drawer
    drawer.measurements.number_chosen.connect(measure.show_origin)
    drawer.number_chosen.connect(measure.show_origin)
    drawer.reject_wanted.connect(lambda: commands.region_editor.by_hand.edit_selected("reject"))
    drawer.light_curves_wanted.connect(measure.ask_light_curve)
    views.measure.joined.connect(views.ridges.show_chosen)
    views.measure.export_wanted.connect(measure.ask_table)
    views.measure.copy_wanted.connect(measure.copy_table)
    views.origin.back_wanted.connect(measure.leave_origin)
    session.stage_changed.connect(lambda _: measure.leave_origin())
    session.stage_changed.connect(measure.measure_at_once)
    views.origin.error.wanted.connect(measure.find_error)
    views.origin.error.frames_wanted.connect(measure.ask_camera_frames)
    session.changed.connect(lambda *_: measure.leave_stale_origin())


def _connect_compare(commands: Commands, views: Views, layout: Layout) -> None:
    """The cards of Compare with plot, drawer, picture and report."""
    panel, plot, compare = views.compare, views.comparison, commands.compare
    panel.compared.connect(compare.show)
    panel.save_wanted.connect(compare.ask_plot)
    panel.copy_wanted.connect(compare.copy_groups)
    panel.report_wanted.connect(layout.show_report)
    plot.plot.dot_chosen.connect(compare.focus_dot)
    plot.plot.dot_chosen.connect(compare.show_origin_of_dot)
    plot.as_measured_toggled.connect(panel.toggle_measured)
    plot.outlier_chosen.connect(compare.show_outlier)
    plot.choices.wanted.connect(compare.try_choices)
    plot.twice.wanted.connect(compare.ask_other)
    plot.twice.save_wanted.connect(compare.save_agreement)
    views.report.closed.connect(layout.show_picture)
    views.report.name_wanted.connect(commands.report.ask)
    views.report.folder_wanted.connect(commands.report.ask_folder)
    views.report.cancel_wanted.connect(commands.report.cancel)
