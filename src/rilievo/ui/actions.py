"""Every action of the window in one list: menus, shortcuts and search are built from it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rilievo.core.image.number_scale import SCALES
from rilievo.ui.correcting import BUDGETS
from rilievo.ui.model import STAGES

if TYPE_CHECKING:
    from rilievo.ui.window import Window

Run = Callable[["Window"], object]
When = Callable[["Window"], bool]

MENUS = (
    "Study",
    "Edit",
    "Sample",
    "View",
    "Read",
    "Method",
    "Regions",
    "Measure",
    "Compare",
    "Help",
)


@dataclass(frozen=True)
class Action:
    """One thing the window can do.

    gap : a separator stands before it in its menu. checked : for what is switched on and off.
    """

    id: str
    text: str
    menu: str
    tip: str
    run: Run
    shortcut: str = ""
    enabled: When = lambda _window: True
    gap: bool = False
    checked: When | None = None


def _has_samples(window: Window) -> bool:
    return bool(window.model.state.samples)


def _has_focus(window: Window) -> bool:
    return window.bench.focused_sample is not None


def _has_channels(window: Window) -> bool:
    sample = window.bench.focused_sample
    return sample is not None and len(sample.channels) > 1


def _has_picks(window: Window) -> bool:
    return bool(window.model.state.method.picks)


def _has_tables(window: Window) -> bool:
    return bool(window.model.tables)


def _has_selection(window: Window) -> bool:
    return bool(window.model.regions)


def _outlining(window: Window) -> bool:
    return _has_focus(window) and window.model.stage == "outline"


def _can_accept(window: Window) -> bool:
    return _has_selection(window) or window.outlining.left_out is not None


def _has_drawn(window: Window) -> bool:
    return window.outlining.is_drawing and bool(window.model.regions)


def _has_plot(window: Window) -> bool:
    return window.compare_panel.comparison is not None


ACTIONS = (
    Action("study.new", "New study", "Study", "Begin with nothing", lambda w: w.files.new(),
           "Ctrl+N"),
    Action("study.add", "Add images …", "Study", "Bring image files into this study",
           lambda w: w.files.ask_images(), "Ctrl+O"),
    Action("study.add_folder", "Add folder …", "Study", "Bring in all images of a folder",
           lambda w: w.files.ask_folder(), "Ctrl+Shift+O"),
    Action("study.open", "Open study …", "Study", "Open a saved study",
           lambda w: w.files.ask_study(), "Ctrl+Alt+O", gap=True),
    Action("study.save", "Save", "Study", "Save the study with its measurements",
           lambda w: w.files.save(), "Ctrl+S", gap=True),
    Action("study.save_as", "Save as …", "Study", "Save the study under another name",
           lambda w: w.files.ask_save(), "Ctrl+Shift+S"),
    Action("study.report", "Report …", "Study",
           "Choose what goes into the report; save it as web page, PDF, or with all tables",
           lambda w: w.show_report(), "Ctrl+R", _has_samples, gap=True),
    Action("study.pack", "Pack for handing over …", "Study",
           "The study with copies of its images in one file",
           lambda w: w.files.ask_pack(), "", _has_samples),
    Action("study.watch", "Watch a folder …", "Study",
           "New files join the study and are measured as they appear; again to stop",
           lambda w: w.watching.toggle(), "",
           checked=lambda w: w.watching.folder is not None),
    Action("study.quit", "Quit", "Study", "Close the window", lambda w: w.close(), "Ctrl+Q",
           gap=True),
    Action("edit.undo", "Undo", "Edit", "Take the last change back",
           lambda w: w.model.undo_stack.undo(), "Ctrl+Z",
           lambda w: w.model.undo_stack.canUndo()),
    Action("edit.redo", "Redo", "Edit", "Make the change again",
           lambda w: w.model.undo_stack.redo(), "Ctrl+Shift+Z",
           lambda w: w.model.undo_stack.canRedo()),
    Action("edit.copy", "Copy table", "Edit",
           "Copy the selected rows, or all, as tab-separated text",
           lambda w: w.files.copy_table(), "Ctrl+C", _has_tables, gap=True),
    Action("edit.find", "Find a command …", "Edit", "Search everything the window can do",
           lambda w: w.open_search(), "Ctrl+K", gap=True),
    Action("sample.next", "Next sample", "Sample", "Focus the next sample",
           lambda w: w.choosing.step_sample(1), "Ctrl+PgDown", _has_samples),
    Action("sample.previous", "Previous sample", "Sample", "Focus the sample before",
           lambda w: w.choosing.step_sample(-1), "Ctrl+PgUp", _has_samples),
    Action("sample.channel", "Next channel", "Sample", "Show the next channel",
           lambda w: w.choosing.next_channel(), "C", _has_focus),
    Action("sample.by_name", "Group by file name", "Sample",
           "The group is the name before its last number",
           lambda w: w.choosing.group_by("name"), "", _has_samples, gap=True),
    Action("sample.by_folder", "Group by folder", "Sample", "The group is the folder's name",
           lambda w: w.choosing.group_by("folder"), "", _has_samples),
    Action("sample.set_group", "Set group …", "Sample", "Type the group of the chosen samples",
           lambda w: w.edit_group(), "G", _has_samples),
    Action("sample.remove", "Remove from study", "Sample",
           "Take the chosen samples out; their files are not touched",
           lambda w: w.choosing.remove_sample(), "", _has_samples, gap=True),
    Action("view.fit", "Fit", "View", "Show the whole picture",
           lambda w: w.area.fit(), "Ctrl+0", _has_focus),
    Action("view.actual", "Actual pixels", "View", "One screen pixel for one image pixel",
           lambda w: w.area.picture.zoom_to(1.0), "Ctrl+Alt+0", _has_focus),
    Action("view.in", "Zoom in", "View", "Larger", lambda w: w.area.zoom_by(1.25),
           "Ctrl++", _has_focus),
    Action("view.out", "Zoom out", "View", "Smaller", lambda w: w.area.zoom_by(0.8),
           "Ctrl+-", _has_focus),
    Action("view.zoom_box", "Zoom to a box", "View", "Drag a box over what to see",
           lambda w: w.model.viewing.use("zoom"), "Z", _has_focus),
    Action("view.one", "One picture", "View", "Show the focused sample alone",
           lambda w: w.model.viewing.choose(layout_kind="one"), "1", _has_focus, gap=True),
    Action("view.sheet", "Sheet of all samples", "View",
           "All samples side by side, moved and pointed at together",
           lambda w: w.model.viewing.choose(layout_kind="samples"), "2", _has_focus),
    Action("view.sheet_channels", "Sheet of all channels", "View",
           "All channels of the focused sample side by side",
           lambda w: w.model.viewing.choose(layout_kind="channels"), "3", _has_focus),
    Action("view.overlay", "Overlay channels in colours", "View",
           "Add the channels up in their colours",
           lambda w: w.model.viewing.choose(overlay=not w.model.viewing.overlay), "O",
           _has_channels),
    Action("view.split", "Split line to the next sample", "View",
           "Drag a line between the focused sample and another; again for the one after",
           lambda w: w.looking.split_with_next(), "S", _has_focus),
    Action("view.split_plain", "Split line to the plain view", "View",
           "Drag a line between this view and plain gray",
           lambda w: w.model.viewing.choose(split=0, layout_kind="one"), "Shift+S", _has_focus),
    Action("view.split_off", "No split line", "View", "Show one picture again",
           lambda w: w.model.viewing.choose(split=None), "",
           lambda w: w.model.viewing.split is not None),
    Action("view.copy_view", "Copy view", "View", "Keep how this sample is shown",
           lambda w: w.looking.copy_view(), "", _has_focus, gap=True),
    Action("view.paste_view", "Use copied view here", "View",
           "Show the chosen samples as the one whose view was copied",
           lambda w: w.looking.paste_view(), "", lambda w: w.looking.copied_view is not None),
    Action("view.rulers", "Rulers", "View", "Show or hide the rulers",
           lambda w: w.model.viewing.choose(rulers=not w.model.viewing.rulers), "", gap=True,
           checked=lambda w: w.model.viewing.rulers),
    Action("view.navigator", "Navigator", "View", "Show or hide the small whole picture",
           lambda w: w.model.viewing.choose(navigator=not w.model.viewing.navigator),
           checked=lambda w: w.model.viewing.navigator),
    Action("view.marked", "Regions with a mark", "View",
           "In Measure, frame in amber what is saturated, cut by the edge, small or undefined",
           lambda w: w.model.viewing.choose(marked=not w.model.viewing.marked),
           checked=lambda w: w.model.viewing.marked),
    Action("view.places", "Count pixels from 1", "View",
           "Places as FITS counts them, from 1; coordinates in files stay as they are",
           lambda w: w.model.viewing.choose(fits_places=not w.model.viewing.fits_places),
           checked=lambda w: w.model.viewing.fits_places),
    *(
        Action(f"view.scale_{kind}", f"Numbers: {title}", "View", explanation,
               lambda w, kind=kind: w.model.viewing.choose(scale=kind),  # type: ignore[misc]
               gap=i == 0,
               checked=lambda w, kind=kind: w.model.viewing.scale == kind)  # type: ignore[misc]
        for i, (kind, (title, explanation)) in enumerate(SCALES.items())
    ),
    Action("view.reach_more", "Read a larger neighbourhood", "View",
           "Two pixels wider around the pointer (Ctrl+wheel)",
           lambda w: w.model.set_reach(w.model.reach + 2), "Ctrl+]", _has_focus, gap=True),
    Action("view.reach_less", "Read a smaller neighbourhood", "View",
           "Two pixels narrower around the pointer (Ctrl+wheel)",
           lambda w: w.model.set_reach(w.model.reach - 2), "Ctrl+[", _has_focus),
    Action("view.form", "Read a disc or a square", "View", "Change the form of the neighbourhood",
           lambda w: w.model.viewing.choose(
               form="disc" if w.model.viewing.form == "square" else "square"), "D", _has_focus),
    *(
        Action(f"view.{stage}", stage.capitalize(), "View", f"Go to the stage {stage}",
               lambda w, stage=stage: w.model.go_to(stage),  # type: ignore[misc]
               f"Ctrl+{i + 1}", gap=i == 0)
        for i, stage in enumerate(STAGES)
    ),
    Action("read.pick", "Pick readings", "Read", "Click the picture to pin what is read there",
           lambda w: w.model.viewing.use("pick"), "K", _has_focus),
    Action("read.pick_here", "Pick under the pointer", "Read",
           "Pin what is read under the pointer now",
           lambda w: w.looking.pick_here(), "Shift+K", _has_focus),
    Action("read.line", "Draw a profile line", "Read",
           "Drag a line; Shift keeps it straight; its ends can be moved",
           lambda w: w.model.viewing.use("line"), "L", _has_focus),
    Action("read.no_line", "Remove the line", "Read", "Take the profile line away",
           lambda w: w.model.viewing.choose(line=None, tool="point"), "",
           lambda w: w.model.viewing.line is not None),
    Action("read.hold", "Hold the pixels", "Read",
           "Keep the pixels in the drawer instead of following the pointer",
           lambda w: w.drawer.pixels.hold(), "H", _has_focus),
    Action("read.repair", "Repair pixels", "Read",
           "Click a pixel or drag a small patch to replace it in the signal",
           lambda w: w.model.viewing.use("repair"), "R", _has_focus),
    Action("read.length", "Measure a known length", "Read",
           "Drag a line over something of known length to set the pixel size",
           lambda w: w.model.viewing.use("length"), "", _has_focus),
    Action("read.metadata", "Everything in the file …", "Read",
           "Headers, tags and metadata, searched and copied",
           lambda w: w.show_metadata(), "I", _has_focus, gap=True),
    Action("read.save_picks", "Save picks as CSV …", "Read", "Picks of all samples",
           lambda w: w.readings.ask_picks(), "", _has_picks, gap=True),
    Action("read.save_profile", "Save profile as CSV …", "Read", "The profiles that are shown",
           lambda w: w.readings.ask_profile(), "",
           lambda w: w.model.viewing.line is not None),
    Action("read.save_histogram", "Save histogram as CSV …", "Read",
           "The histograms that are shown, bin by bin",
           lambda w: w.readings.ask_histogram(), "", _has_focus),
    Action("read.save_picture", "Save picture as seen …", "Read",
           "PNG, TIFF or SVG, for illustration",
           lambda w: w.readings.ask_picture(), "Ctrl+Shift+P", _has_focus, gap=True),
    Action("read.copy_picture", "Copy picture as seen", "Read", "For illustration",
           lambda w: w.readings.copy_picture(), "Ctrl+Shift+C", _has_focus),
    *(
        Action(f"read.picture_{word.replace(' ', '_')}", f"On pictures: {word}", "Read",
               f"Put the {word} on saved pictures, or leave it out",
               lambda w, word=word: w.model.viewing.choose(  # type: ignore[misc]
                   on_pictures=w.model.viewing.on_pictures ^ {word}),
               checked=lambda w, word=word: word in w.model.viewing.on_pictures)  # type: ignore[misc]
        for word in ("scale bar", "key", "labels")
    ),
    Action("method.add", "Add a step …", "Method", "Search the list of all steps",
           lambda w: w.add_step(), "A", _has_focus),
    Action("method.library", "Library and comparison …", "Method",
           "Take a method, keep the present one, see what differs",
           lambda w: w.show_methods()),
    Action("method.history", "History", "Method", "Every change of the study; go back to any",
           lambda w: w.show_history(), "", _has_samples),
    *(
        Action(f"method.look_{aspect}", f"Open step: {title.lower()}", "Method",
               f"Show the picture {where}, or the whole method again",
               lambda w, aspect=aspect: w.correcting.look(aspect),  # type: ignore[misc]
               key,
               lambda w, aspect=aspect: w.correcting.step_id is not None  # type: ignore[misc]
               and (aspect != "background" or w.correcting.has_background),
               gap=aspect == "before",
               checked=lambda w, aspect=aspect: w.correcting.looks_at(aspect))  # type: ignore[misc]
        for aspect, title, where, key in (
            ("before", "Before", "as it enters the step", "Shift+B"),
            ("after", "After", "as it leaves the step", ""),
            ("background", "Background", "of what the step takes off", "Shift+G"))
    ),
    Action("method.relief", "Backgrounds as relief", "Method",
           "Show a background by itself as terrain with contours",
           lambda w: w.model.viewing.choose(
               background_as_relief=not w.model.viewing.background_as_relief),
           checked=lambda w: w.model.viewing.background_as_relief),
    Action("method.save_background", "Save background …", "Method",
           "The background of the open step as TIFF, FITS or NumPy array",
           lambda w: w.correcting.ask_background(), "", lambda w: w.correcting.has_background,
           gap=True),
    Action("method.save_signal", "Save corrected picture …", "Method",
           "The signal of this sample as TIFF, FITS or NumPy array",
           lambda w: w.correcting.ask_signal(), "", _has_focus),
    *(
        Action(f"method.memory_{budget}", f"Memory for results: {budget / 1e9:g} GB", "Method",
               "How much of what was computed is kept to be shown again at once",
               lambda w, budget=budget: w.correcting.set_budget(budget),  # type: ignore[misc]
               gap=i == 0,
               checked=lambda w, budget=budget:  # type: ignore[misc]
               w.bench.evaluator.budget == budget)
        for i, budget in enumerate(BUDGETS)
    ),
    Action("method.load", "Load method …", "Method", "Take the method from a file",
           lambda w: w.files.ask_method(), gap=True),
    Action("method.save", "Save method …", "Method", "Save the method as JSON",
           lambda w: w.files.ask_save_method()),
    Action("regions.next", "Next region", "Regions", "Select the next region",
           lambda w: w.choosing.step_region(1), "N", _has_focus),
    Action("regions.previous", "Previous region", "Regions", "Select the region before",
           lambda w: w.choosing.step_region(-1), "P", _has_focus),
    Action("regions.none", "Select none", "Regions",
           "Leave the origin of a number; without one, clear the selection",
           lambda w: w.measuring.step_back(), "Esc", _has_selection),
    Action("regions.reject", "Reject selected", "Regions", "Leave the selected regions out",
           lambda w: w.outlining.edit_selected("reject"), "Del", _has_selection, gap=True),
    Action("regions.accept", "Accept selected", "Regions",
           "Keep the selected regions, whatever the clean-up says",
           lambda w: w.outlining.edit_selected("accept"), "Y", _can_accept),
    Action("regions.merge", "Merge selected", "Regions", "Make one region of the selected ones",
           lambda w: w.outlining.edit_selected("merge"), "M", _has_selection),
    Action("regions.cut", "Cut", "Regions", "Draw a line across regions, which parts them",
           lambda w: w.model.viewing.use("cut"), "X", _outlining,
           checked=lambda w: w.model.viewing.tool == "cut"),
    Action("regions.redraw", "Redraw", "Regions", "Draw the outline of the selected region anew",
           lambda w: w.model.viewing.use("redraw"), "", _has_selection,
           checked=lambda w: w.model.viewing.tool == "redraw"),
    Action("regions.restore", "Restore rejected", "Regions",
           "Take back every rejection by hand in this sample",
           lambda w: w.model.restore_edited("Restore rejected regions", ("reject",)), "",
           _has_focus),
    Action("regions.duplicate", "Duplicate drawn", "Regions", "Add a copy of the drawn regions",
           lambda w: w.outlining.duplicate(), "Ctrl+D", _has_drawn, gap=True),
    Action("regions.grow", "Grow drawn", "Regions", "By one pixel on each side",
           lambda w: w.outlining.transform("grow"), "+", _has_drawn),
    Action("regions.shrink", "Shrink drawn", "Regions", "By one pixel on each side",
           lambda w: w.outlining.transform("shrink"), "-", _has_drawn),
    Action("regions.mirror_x", "Mirror drawn left to right", "Regions", "About their own middle",
           lambda w: w.outlining.transform("mirror x"), "", _has_drawn),
    Action("regions.mirror_y", "Mirror drawn top to bottom", "Regions", "About their own middle",
           lambda w: w.outlining.transform("mirror y"), "", _has_drawn),
    Action("regions.spread", "Copy drawn to all samples", "Regions",
           "The same place in every sample", lambda w: w.outlining.spread(), "", _has_drawn),
    *(
        Action(f"regions.add_{source}", f"New class: {text}", "Regions", tip,
               lambda w, source=source: w.choosing.add_class(w, source),  # type: ignore[misc]
               gap=i == 0)
        for i, (source, text, tip) in enumerate((
            ("threshold", "by threshold", "Regions by level, classes or colour"),
            ("drawn", "drawn", "Regions that you draw"),
        ))
    ),
    Action("regions.save", "Save regions …", "Regions",
           "Drawn or found regions of this class as JSON, or label images as TIFF",
           lambda w: w.region_files.ask_save(), "", _has_focus, gap=True),
    Action("regions.load", "Load regions …", "Regions", "Take drawn regions from a JSON file",
           lambda w: w.region_files.ask_load(), "", _has_focus),
    Action("measure.all", "Measure all samples", "Measure",
           "Run the method on every sample of the study",
           lambda w: w.measure_all(), "Ctrl+M",
           lambda w: _has_samples(w) and not w.bench.is_measuring),
    Action("measure.one", "Measure this sample", "Measure", "Run the method on the focused sample",
           lambda w: w.measure_one(), "Ctrl+Shift+M",
           lambda w: _has_focus(w) and not w.bench.is_measuring),
    Action("measure.pause", "Pause measuring", "Measure",
           "Begin no new sample; again to go on", lambda w: w.bench.batch.pause(), "",
           lambda w: w.bench.batch.is_running, checked=lambda w: w.bench.batch.is_paused),
    Action("measure.retry", "Measure failed samples again", "Measure",
           "Those that could not be measured the last time", lambda w: w.bench.batch.retry(), "",
           lambda w: bool(w.bench.batch.failures) and not w.bench.is_measuring),
    Action("measure.cancel", "Cancel measuring", "Measure", "What was measured stays",
           lambda w: w.bench.cancel_measuring(), "", lambda w: w.bench.is_measuring),
    Action("measure.save", "Save table …", "Measure",
           "Every region of every sample as CSV, Excel, JSON or Parquet, long or wide",
           lambda w: w.measuring.ask_table(), "Ctrl+E", _has_tables, gap=True),
    Action("measure.origin", "Go to a number …", "Measure",
           "Show where a number of a report or file comes from",
           lambda w: w.measuring.ask_number(), "Ctrl+G", _has_tables),
    Action("measure.light_curve", "Save light curves …", "Measure",
           "The same stars through all samples, with errors, against the date",
           lambda w: w.measuring.ask_light_curve(), "",
           lambda w: w.drawer.series is not None),
    Action("compare.save", "Save plot …", "Compare", "As PNG, SVG or PDF",
           lambda w: w.files.ask_plot(), "", _has_plot),
    Action("compare.checks", "Check the batch", "Compare",
           "What differs between samples besides the treatment",
           lambda w: w.comparing.show_batch_checks(), "", _has_samples),
    Action("compare.report", "Put into the report", "Compare",
           "This comparison, as it is shown", lambda w: w.compare_panel.put_into_report(), "",
           _has_plot),
    Action("compare.measured", "Show as measured", "Compare",
           "Measured values in place of normalised ones, or these again",
           lambda w: w.compare_panel.toggle_measured(), "",
           lambda w: bool(w.compare_panel.toggle),
           checked=lambda w: w.compare_panel.as_measured),
    Action("compare.copy_plot", "Copy plot", "Compare", "Copy the plot as a picture",
           lambda w: w.files.copy_plot(), "", _has_plot),
    Action("compare.copy_table", "Copy statistics and tests", "Compare",
           "Copy the tables of groups and tests as tab-separated text",
           lambda w: w.files.copy_groups(), "", _has_plot),
    Action("help.about", "About Rilievo", "Help", "Version, licence, where the manual is",
           lambda w: w.about()),
)  # fmt: skip
