"""Every action of the window in one list: menus, shortcuts and search are built from it."""

from __future__ import annotations

from functools import partial

from rilievo.core.image.number_scale import SCALES
from rilievo.core.pipeline.thumbnails import Aspect
from rilievo.ui.commands.action import Action, Commands, When, is_chosen
from rilievo.ui.commands.correct import BUDGETS
from rilievo.ui.commands.window_actions import help_actions, window_actions
from rilievo.ui.session.study_session import STAGES
from rilievo.ui.session.view_settings import ViewSettings

MENUS = (
    "Study", "Edit", "Sample", "View", "Read", "Method", "Regions", "Measure", "Compare", "Window",
    "Help",
)  # fmt: skip


_ASPECTS: tuple[tuple[Aspect, str, str, str], ...] = (
    ("before", "Before", "as it enters the step", "Shift+B"),
    ("after", "After", "as it leaves the step", ""),
    ("background", "Background", "of what the step takes off", "Shift+G"),
)


def _study(c: Commands, when: When) -> tuple[Action, ...]:
    """The study and its file."""
    pages = c.context.pages
    return (
        Action("study.new", "New study", "Study", "Begin with nothing", c.study.new,
               "Ctrl+N"),
        Action("study.add", "Add images …", "Study", "Bring image files into this study",
               c.images.ask_images, "Ctrl+O"),
        Action("study.add_folder", "Add folder …", "Study", "Bring in all images of a folder",
               c.images.ask_folder, "Ctrl+Shift+O"),
        Action("study.open", "Open study …", "Study", "Open a saved study",
               c.study.ask_study, "Ctrl+Alt+O", gap=True, recent=True),
        Action("study.save", "Save", "Study", "Save the study with its measurements",
               c.study.save, "Ctrl+S", gap=True),
        Action("study.save_as", "Save as …", "Study", "Save the study under another name",
               c.study.ask_save, "Ctrl+Shift+S"),
        Action("study.report", "Report …", "Study",
               "Choose what goes into the report; save it as web page, PDF, or with all tables",
               pages.show_report, "Ctrl+R", when.has_samples, gap=True),
        Action("study.pack", "Pack for handing over …", "Study",
               "The study with copies of its images in one file",
               c.study.ask_pack, "", when.has_samples),
        Action("study.verify", "Verify …", "Study",
               "Measure again, and say whether numbers, files and versions are the same",
               c.study.verify, "", when.has_samples),
        Action("study.watch", "Watch a folder …", "Study",
               "New files join the study and are measured as they appear; again to stop",
               c.watch.toggle, "",
               checked=lambda: c.watch.is_watching),
        Action("study.quit", "Quit", "Study", "Close the window", c.quit, "Ctrl+Q",
               gap=True),
    )  # fmt: skip


def _edit(c: Commands, when: When) -> tuple[Action, ...]:
    """Undo, copy, find."""
    stack = c.context.session.undo_stack
    return (
        Action("edit.undo", "Undo", "Edit", "Take the last change back",
               stack.undo, "Ctrl+Z",
               stack.canUndo),
        Action("edit.redo", "Redo", "Edit", "Make the change again",
               stack.redo, "Ctrl+Shift+Z",
               stack.canRedo),
        Action("edit.copy", "Copy table", "Edit",
               "Copy the selected rows, or all, as tab-separated text",
               c.measure.copy_table, "Ctrl+C", when.has_tables, gap=True),
        Action("edit.find", "Find a command …", "Edit", "Search everything the window can do",
               c.find, "Ctrl+K", gap=True),
    )  # fmt: skip


def _sample(c: Commands, when: When) -> tuple[Action, ...]:
    """Which sample and channel is in focus; groups."""
    return (
        Action("sample.next", "Next sample", "Sample", "Focus the next sample",
               partial(c.selection.step_sample, 1), "Ctrl+PgDown", when.has_samples),
        Action("sample.previous", "Previous sample", "Sample", "Focus the sample before",
               partial(c.selection.step_sample, -1), "Ctrl+PgUp", when.has_samples),
        Action("sample.channel", "Next channel", "Sample", "Show the next channel",
               c.selection.show_next_channel, "C", when.has_focus),
        Action("sample.later", "Next time", "Sample", "The next time of a stack",
               partial(c.area.stack_bar.step, "time", 1), ".", when.has_stack, gap=True),
        Action("sample.earlier", "Previous time", "Sample", "The time before, of a stack",
               partial(c.area.stack_bar.step, "time", -1), ",", when.has_stack),
        Action("sample.deeper", "Next depth", "Sample", "The next depth of a stack",
               partial(c.area.stack_bar.step, "z", 1), "]", when.has_stack),
        Action("sample.shallower", "Previous depth", "Sample", "The depth before, of a stack",
               partial(c.area.stack_bar.step, "z", -1), "[", when.has_stack),
        Action("sample.play", "Play or stop", "Sample", "Go through the planes of a stack",
               c.area.stack_bar.toggle_play, "Ctrl+.", when.has_stack),
        Action("sample.by_name", "Group by file name", "Sample",
               "The group is the name before its last number",
               partial(c.selection.group_by, "name"), "", when.has_open_samples, gap=True),
        Action("sample.by_folder", "Group by folder", "Sample", "The group is the folder's name",
               partial(c.selection.group_by, "folder"), "", when.has_open_samples),
        Action("sample.set_group", "Set group …", "Sample", "Type the group of the chosen samples",
               c.edit_group, "G", when.has_open_samples),
        Action("sample.blind", "Blind the study", "Sample",
               "Codes for names, a random order, no groups, files and attributes until unblinded",
               c.blinding.blind, "", when.has_open_samples, gap=True),
        Action("sample.unblind", "Unblind the study …", "Sample",
               "Show names, groups, files and attributes again; the history tells when",
               c.blinding.unblind, "", when.is_blind),
        Action("sample.remove", "Remove from study", "Sample",
               "Take the chosen samples out; their files are not touched",
               c.selection.remove_samples, "", when.has_samples, gap=True),
    )  # fmt: skip


def _view(c: Commands, when: When) -> tuple[Action, ...]:
    """How one looks, and the stages."""
    session = c.context.session
    view = c.context.session.view
    return (
        Action("view.fit", "Fit", "View", "Show the whole picture",
               c.area.fit, "Ctrl+0", when.has_focus),
        Action("view.fill", "Fill the room", "View",
               "As large as leaves no ground beside the picture; drag to see the rest",
               c.area.fill, "Shift+F", when.has_focus),
        Action("view.actual", "Actual pixels", "View", "One screen pixel for one image pixel",
               partial(c.area.picture.zoom_to, 1.0), "Ctrl+Alt+0", when.has_focus),
        Action("view.in", "Zoom in", "View", "Larger", partial(c.area.zoom_by, 1.25),
               "Ctrl++", when.has_focus),
        Action("view.out", "Zoom out", "View", "Smaller", partial(c.area.zoom_by, 0.8),
               "Ctrl+-", when.has_focus),
        Action("view.zoom_box", "Zoom to a box", "View", "Drag a box over what to see",
               partial(c.view.use_tool, "zoom"), "Z", when.has_focus),
        Action("view.one", "One picture", "View", "Show the focused sample alone",
               partial(view.choose, layout_kind="one"), "1", when.has_focus, gap=True),
        Action("view.sheet", "Sheet of all samples", "View",
               "All samples side by side, moved and pointed at together",
               partial(view.choose, layout_kind="samples"), "2", when.has_focus),
        Action("view.sheet_channels", "Sheet of all channels", "View",
               "All channels of the focused sample side by side",
               partial(view.choose, layout_kind="channels"), "3", when.has_focus),
        Action("view.overlay", "Overlay channels in colours", "View",
               "Add the channels up in their colours",
               partial(c.view.toggle, "overlay"), "O",
               when.has_channels),
        Action("view.split", "Split line to the next sample", "View",
               "Drag a line between the focused sample and another; again for the one after",
               c.view.split_with_next, "S", when.has_focus),
        Action("view.split_plain", "Split line to the plain view", "View",
               "Drag a line between this view and plain gray",
               c.view.split_with_plain, "Shift+S", when.has_focus),
        Action("view.split_off", "No split line", "View", "Show one picture again",
               partial(view.choose, split=None), "",
               lambda: view.split is not None),
        Action("view.copy_view", "Copy view", "View", "Keep how this sample is shown",
               c.view.copy_view, "", when.has_focus, gap=True),
        Action("view.paste_view", "Use copied view here", "View",
               "Show the chosen samples as the one whose view was copied",
               c.view.paste_view, "", lambda: c.view.copied_view is not None),
        Action("view.rulers", "Rulers", "View", "Show or hide the rulers",
               partial(c.view.toggle, "rulers"), "", gap=True,
               checked=lambda: view.rulers),
        Action("view.navigator", "Navigator", "View", "Show or hide the small whole picture",
               partial(c.view.toggle, "navigator"),
               checked=lambda: view.navigator),
        Action("view.marked", "Regions with a mark", "View",
               "In Measure, frame in amber what is saturated, cut by the edge, small or undefined",
               partial(c.view.toggle, "marked"),
               checked=lambda: view.marked),
        Action("view.places", "Count pixels from 1", "View",
               "Places as FITS counts them, from 1; coordinates in files stay as they are",
               partial(c.view.toggle, "count_from_one"),
               checked=lambda: view.count_from_one),
        *(
            Action(f"view.scale_{kind}", f"Numbers: {title}", "View", explanation,
                   partial(view.choose, scale=kind),
                   gap=i == 0,
                   checked=partial(is_chosen, view, "scale", kind))
            for i, (kind, (title, explanation)) in enumerate(SCALES.items())
        ),
        Action("view.reach_more", "Read a larger neighbourhood", "View",
               "Two pixels wider around the pointer (Ctrl+wheel)",
               partial(c.view.change_reach, 2), "Ctrl+]", when.has_focus, gap=True),
        Action("view.reach_less", "Read a smaller neighbourhood", "View",
               "Two pixels narrower around the pointer (Ctrl+wheel)",
               partial(c.view.change_reach, -2), "Ctrl+[", when.has_focus),
        Action("view.form", "Read a disc or a square", "View",
               "Change the form of the neighbourhood",
               c.view.toggle_form, "D", when.has_focus),
        *(
            Action(f"view.{stage}", stage.capitalize(), "View", f"Go to the stage {stage}",
                   partial(session.go_to, stage),
                   f"Ctrl+{i + 1}", gap=i == 0)
            for i, stage in enumerate(STAGES)
        ),
    )  # fmt: skip


def _read(c: Commands, when: When) -> tuple[Action, ...]:
    """What is read off the picture."""
    pages = c.context.pages
    view = c.context.session.view
    return (
        Action("read.pick", "Pick readings", "Read", "Click the picture to pin what is read there",
               partial(c.view.use_tool, "pick"), "K", when.has_focus),
        Action("read.pick_here", "Pick under the pointer", "Read",
               "Pin what is read under the pointer now",
               c.look.pick_here, "Shift+K", when.has_focus),
        Action("read.line", "Draw a profile line", "Read",
               "Drag a line; Shift keeps it straight; its ends can be moved",
               partial(c.view.use_tool, "line"), "L", when.has_focus),
        Action("read.no_line", "Remove the line", "Read", "Take the profile line away",
               c.view.remove_line, "",
               when.has_line),
        Action("read.hold", "Hold the pixels", "Read",
               "Keep the pixels in the drawer instead of following the pointer",
               c.drawer.pixels.hold, "H", when.has_focus),
        Action("read.repair", "Repair pixels", "Read",
               "Click a pixel or drag a small patch to replace it in the signal",
               partial(c.view.use_tool, "repair"), "R", when.has_focus),
        Action("read.length", "Measure a known length", "Read",
               "Drag a line over something of known length to set the pixel size",
               partial(c.view.use_tool, "length"), "", when.has_focus),
        Action("read.metadata", "Everything in the file …", "Read",
               "Headers, tags and metadata, searched and copied",
               pages.show_metadata, "I", when.has_focus, gap=True),
        Action("read.save_picks", "Save picks as CSV …", "Read", "Picks of all samples",
               c.readings.ask_picks, "", when.has_picks, gap=True),
        Action("read.save_profile", "Save profile as CSV …", "Read", "The profiles that are shown",
               c.readings.ask_profile, "",
               when.has_line),
        Action("read.save_histogram", "Save histogram as CSV …", "Read",
               "The histograms that are shown, bin by bin",
               c.readings.ask_histogram, "", when.has_focus),
        Action("read.save_picture", "Save picture as seen …", "Read",
               "PNG, TIFF or SVG, for illustration",
               c.readings.ask_picture, "Ctrl+Shift+P", when.has_focus, gap=True),
        Action("read.copy_picture", "Copy picture as seen", "Read", "For illustration",
               c.readings.copy_picture, "Ctrl+Shift+C", when.has_focus),
        *(
            Action(f"read.picture_{word.replace(' ', '_')}", f"On pictures: {word}", "Read",
                   f"Put the {word} on saved pictures, or leave it out",
                   partial(c.view.toggle_on_pictures, word),
                   checked=partial(_is_on_pictures, view, word))
            for word in ("scale bar", "key", "labels")
        ),
    )  # fmt: skip


def _method(c: Commands, when: When) -> tuple[Action, ...]:
    """Steps and method files."""
    compute = c.context.compute
    pages = c.context.pages
    view = c.context.session.view
    return (
        Action("method.add", "Add a step …", "Method", "Search the list of all steps",
               c.correct.add_step, "A", when.has_focus),
        Action("method.library", "Library and comparison …", "Method",
               "Take a method, keep the present one, see what differs",
               pages.show_methods),
        Action("method.agree", "Fix the method", "Method",
               "As agreed beforehand: later changes are told in the report, each with its effect",
               c.method_file.agree, "", when.has_open_samples),
        Action("method.history", "History", "Method", "Every change of the study; go back to any",
               pages.show_history, "", when.has_samples),
        *(
            Action(f"method.look_{aspect}", f"Open step: {title.lower()}", "Method",
                   f"Show the picture {where}, or the whole method again",
                   partial(c.correct.look, aspect),
                   key,
                   partial(c.correct.can_look, aspect),
                   gap=aspect == "before",
                   checked=partial(c.correct.looks_at, aspect))
            for aspect, title, where, key in _ASPECTS
        ),
        Action("method.relief", "Backgrounds as relief", "Method",
               "Show a background by itself as terrain with contours",
               partial(c.view.toggle, "background_as_relief"),
               checked=lambda: view.background_as_relief),
        Action("method.light", "Light from all samples …", "Method",
               "Estimate the uneven light that all samples share, save it as a frame, divide by it",
               c.correct.ask_light, "", when.has_focus),
        Action("method.save_background", "Save background …", "Method",
               "The background of the open step as TIFF, FITS or NumPy array",
               c.correct.ask_background, "", lambda: c.correct.has_background,
               gap=True),
        Action("method.save_signal", "Save corrected picture …", "Method",
               "The signal of this sample as TIFF, OME-TIFF, OME-Zarr, FITS or NumPy array",
               c.correct.ask_signal, "", when.has_focus),
        Action("method.save_ome", "Save channels and regions …", "Method",
               "All corrected channels of this sample, and its regions as label images: OME-TIFF "
               "or OME-Zarr",
               c.correct.ask_ome, "", when.has_focus),
        *(
            Action(f"method.memory_{budget}", f"Memory for results: {budget / 1e9:g} GB", "Method",
                   "How much of what was computed is kept to be shown again at once",
                   partial(c.correct.set_budget, budget),
                   gap=i == 0,
                   checked=partial(is_chosen, compute.cache, "budget", budget))
            for i, budget in enumerate(BUDGETS)
        ),
        Action("method.load", "Load method …", "Method", "Take the method from a file",
               c.method_file.ask_method, gap=True),
        Action("method.save", "Save method …", "Method", "Save the method as JSON",
               c.method_file.ask_save_method),
    )  # fmt: skip


def _regions(c: Commands, when: When) -> tuple[Action, ...]:
    """Region classes, and regions by hand."""
    editor = c.region_editor
    view = c.context.session.view
    return (
        Action("regions.next", "Next region", "Regions", "Select the next region",
               partial(c.selection.step_region, 1), "N", when.has_focus),
        Action("regions.previous", "Previous region", "Regions", "Select the region before",
               partial(c.selection.step_region, -1), "P", when.has_focus),
        Action("regions.none", "Select none", "Regions",
               "Leave the origin of a number; without one, clear the selection",
               c.measure.step_back, "Esc", when.has_selection),
        Action("regions.reject", "Reject selected", "Regions", "Leave the selected regions out",
               partial(editor.by_hand.edit_selected, "reject"), "Del", when.has_selection,
               gap=True),
        Action("regions.accept", "Accept selected", "Regions",
               "Keep the selected regions, whatever the clean-up says",
               partial(editor.by_hand.edit_selected, "accept"), "Y", when.can_accept),
        Action("regions.merge", "Merge selected", "Regions", "Make one region of the selected ones",
               partial(editor.by_hand.edit_selected, "merge"), "M", when.has_selection),
        Action("regions.cut", "Cut", "Regions", "Draw a line across regions, which parts them",
               partial(c.view.use_tool, "cut"), "X", when.is_outlining,
               checked=lambda: view.tool == "cut"),
        Action("regions.redraw", "Redraw", "Regions",
               "Draw the outline of the selected region anew",
               partial(c.view.use_tool, "redraw"), "", when.has_selection,
               checked=lambda: view.tool == "redraw"),
        Action("regions.restore", "Restore rejected", "Regions",
               "Take back every rejection by hand in this sample",
               c.outline.restore_rejected, "",
               when.has_focus),
        Action("regions.duplicate", "Duplicate drawn", "Regions", "Add a copy of the drawn regions",
               editor.drawn.duplicate, "Ctrl+D", when.has_drawn, gap=True),
        Action("regions.grow", "Grow drawn", "Regions", "By one pixel on each side",
               partial(editor.drawn.transform, "grow"), "+", when.has_drawn),
        Action("regions.shrink", "Shrink drawn", "Regions", "By one pixel on each side",
               partial(editor.drawn.transform, "shrink"), "-", when.has_drawn),
        Action("regions.mirror_x", "Mirror drawn left to right", "Regions",
               "About their own middle",
               partial(editor.drawn.transform, "mirror x"), "", when.has_drawn),
        Action("regions.mirror_y", "Mirror drawn top to bottom", "Regions",
               "About their own middle",
               partial(editor.drawn.transform, "mirror y"), "", when.has_drawn),
        Action("regions.spread", "Copy drawn to all samples", "Regions",
               "The same position in every sample", editor.drawn.spread, "", when.has_drawn),
        *(
            Action(f"regions.add_{source}", f"New class: {text}", "Regions", tip,
                   partial(c.outline.add_class, source),
                   gap=i == 0)
            for i, (source, text, tip) in enumerate((
                ("threshold", "by threshold", "Regions by level, classes or colour"),
                ("drawn", "drawn", "Regions that you draw"),
            ))
        ),
        Action("regions.save", "Save regions …", "Regions",
               "Drawn or found regions of this class as JSON, or label images as TIFF",
               c.region_files.ask_save, "", when.has_focus, gap=True),
        Action("regions.load", "Load regions …", "Regions", "Take drawn regions from a JSON file",
               c.region_files.ask_load, "", when.has_focus),
    )  # fmt: skip


def _measure(c: Commands, when: When) -> tuple[Action, ...]:
    """Measuring, tables, origins."""
    batch, measurements = c.context.compute.batch, c.context.session.measurements
    return (
        Action("measure.all", "Measure all samples", "Measure",
               "Run the method on every sample of the study",
               c.measure.measure_all, "Ctrl+M",
               when.can_measure),
        Action("measure.one", "Measure this sample", "Measure",
               "Run the method on the focused sample",
               c.measure.measure_one, "Ctrl+Shift+M",
               when.can_measure_one),
        Action("measure.errors", "Errors of the numbers", "Measure",
               "A column ± beside each number, from the noise of the camera; again to leave it",
               c.measure.toggle_errors, "", when.has_tables,
               checked=lambda: measurements.has_errors),
        Action("measure.pause", "Pause measuring", "Measure",
               "Begin no new sample; again to go on", batch.pause, "",
               lambda: batch.is_running, checked=lambda: batch.is_paused),
        Action("measure.retry", "Measure failed samples again", "Measure",
               "Those that could not be measured the last time", batch.retry, "",
               when.can_retry),
        Action("measure.cancel", "Cancel measuring", "Measure", "What was measured stays",
               batch.cancel, "", lambda: batch.is_running),
        Action("measure.save", "Save table …", "Measure",
               "Every region of every sample as CSV, Excel, JSON or Parquet, long or wide",
               c.measure.ask_table, "Ctrl+E", when.has_tables, gap=True),
        Action("measure.origin", "Go to a number …", "Measure",
               "Show where a number of a report or file comes from",
               c.measure.ask_number, "Ctrl+G", when.has_tables),
        Action("measure.light_curve", "Save light curves …", "Measure",
               "The same stars through all samples, with errors, against the date",
               c.measure.ask_light_curve, "",
               lambda: c.drawer.series is not None),
    )  # fmt: skip


def _compare(c: Commands, when: When) -> tuple[Action, ...]:
    """Plots and tests."""
    return (
        Action("compare.save", "Save plot …", "Compare", "As PNG, SVG or PDF",
               c.compare.ask_plot, "", when.has_plot),
        Action("compare.checks", "Check the batch", "Compare",
               "What differs between samples besides the treatment",
               c.compare.show_batch_checks, "", when.has_samples),
        Action("compare.choices", "What would change it", "Compare",
               "Compare again under other thresholds, backgrounds, limits and tests",
               c.compare.try_choices, "", when.has_plot),
        Action("compare.twice", "Two measurers …", "Compare",
               "Measure all samples by another study or method too: how far do both agree?",
               c.compare.ask_other, "", when.has_open_samples),
        Action("compare.report", "Put into the report", "Compare",
               "This comparison, as it is shown", c.compare_panel.put_into_report, "",
               when.has_plot),
        Action("compare.measured", "Show as measured", "Compare",
               "Measured values in place of normalised ones, or these again",
               c.compare_panel.toggle_measured, "",
               lambda: bool(c.compare_panel.toggle),
               checked=lambda: c.compare_panel.as_measured),
        Action("compare.copy_plot", "Copy plot", "Compare", "Copy the plot as a picture",
               c.compare.copy_plot, "", when.has_plot),
        Action("compare.copy_table", "Copy statistics and tests", "Compare",
               "Copy the tables of groups and tests as tab-separated text",
               c.compare.copy_groups, "", when.has_plot),
    )  # fmt: skip


def _is_on_pictures(view: ViewSettings, word: str) -> bool:
    return word in view.on_pictures


def list_actions(commands: Commands) -> tuple[Action, ...]:
    """Return all actions in the order of the menus."""
    when = When(commands)
    groups = (
        _study, _edit, _sample, _view, _read, _method, _regions, _measure, _compare, window_actions,
        help_actions,
    )  # fmt: skip
    return tuple(action for group in groups for action in group(commands, when))
