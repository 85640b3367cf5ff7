"""The steps of the method through the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFrame
from pytestqt.qtbot import QtBot

from rilievo.core.files import read_sample
from rilievo.core.image.image import Plane
from rilievo.core.method.method import Method
from rilievo.core.method.step_edits import parameters_for, samples_apart
from rilievo.core.parameters import Rectangle
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.signal.steps import STEPS
from rilievo.ui.shell.window import Window
from rilievo.ui.stages.correct.step_card import StepCard
from rilievo.ui.widgets.file_fields import FileField, FramesField
from rilievo.ui.widgets.parameter_fields import Words
from tests.ui.conftest import WAIT
from tests.ui.stages.outline.test_level_body import frame

pytestmark = pytest.mark.slow


@pytest.fixture
def correct(study: Window, settle: Callable[[], None]) -> Window:
    """The synthetic study in Correct, its one card open."""
    study.session.go_to("correct")
    settle()
    # The card of the only step is open, so that its patch is seen.
    assert study.views.correct.editor.active == "background"
    return study


def card(window: Window, step_id: str = "background") -> StepCard:
    return window.views.correct.cards[step_id]


def ids(window: Window) -> list[str]:
    return [use.id for use in window.session.state.method.steps]


def seen(window: Window) -> Plane:
    """What the picture shows, computed."""
    entry = window.session.focus.entry
    assert entry is not None
    sample = window.compute.store.samples[entry.id].renamed(entry.name)
    channel = window.session.focus.channel
    assert channel is not None
    return Analysis(sample, window.compute.displayed.method, window.compute.cache).signal(channel)


def test_a_step_is_found_added_switched_and_removed(
    correct: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    panel = correct.views.correct
    panel.add_button.click()
    chooser = panel.chooser
    everything = chooser.list.count()
    chooser.field.setText("mesh")
    assert 0 < chooser.list.count() < everything
    QTest.keyClick(chooser.field, Qt.Key.Key_Return)
    settle()
    assert ids(correct) == ["background", "mesh"]
    assert card(correct, "mesh").is_open
    assert not card(correct).is_open
    before = frame(correct)
    card(correct, "mesh").box.click()
    settle()
    assert (frame(correct) != before).any()
    assert (
        "switched off" in card(correct, "mesh").summary.text() + card(correct, "mesh").report.text()
    )
    panel.editor.change("mesh", "remove")
    settle()
    assert ids(correct) == ["background"]


def test_steps_move_by_menu_and_by_dragging(correct: Window, settle: Callable[[], None]) -> None:
    panel = correct.views.correct
    for key in ("smooth.gaussian", "arithmetic.number"):
        panel.add_step(key)
    settle()
    panel.editor.change("gaussian", "up")
    assert ids(correct) == ["gaussian", "background", "number"]
    settle()
    qt_card = card(correct, "number")
    first = card(correct, "gaussian")
    at = first.mapToGlobal(QPoint(20, 2))
    qt_card.dragged.emit("number", at)
    line = panel.findChild(QFrame, "dropLine")
    assert line is not None
    assert not line.isHidden()
    qt_card.dropped.emit("number", at)
    assert ids(correct) == ["number", "gaussian", "background"]
    panel.editor.change("number", "duplicate")
    panel.refresh()
    assert ids(correct) == ["number", "number 2", "gaussian", "background"]
    correct.session.undo_stack.undo()
    correct.session.undo_stack.undo()
    assert ids(correct) == ["gaussian", "background", "number"]


def test_a_step_is_renamed_and_reset(correct: Window, settle: Callable[[], None]) -> None:
    panel = correct.views.correct
    {a.text(): a for a in card(correct).actions()}["Rename"].trigger()
    card(correct).name.setText("Empty corner")
    card(correct).name.editingFinished.emit()
    panel.refresh()
    assert card(correct).title.text() == "Empty corner"
    panel.editor.change("background", "reset")
    settle()
    assert panel.marks.shown == ()
    assert samples_apart(correct.session.state.method, "background") == {}
    assert "drag a rectangle" in card(correct).error.text()
    correct.session.go_to("outline")
    settle()
    assert "drag a rectangle" in correct.views.outline.say.text()


def test_a_wrong_value_says_why_and_changes_nothing(
    correct: Window, settle: Callable[[], None]
) -> None:
    panel = correct.views.correct
    panel.add_step("background.opening")
    settle()
    opening = card(correct, "opening")
    opening.form.fields["radius"].field.enter("-3")
    assert opening.error.text() == "Radius must be between 1 and 5000 px. Got -3.0."
    assert opening.form.fields["radius"].field.property("wrong")
    opened = parameters_for(correct.session.state.method, "opening", None)
    assert opened.model_dump()["radius"] is None
    opening.form.fields["radius"].field.enter("30")
    settle()
    assert (
        parameters_for(correct.session.state.method, "opening", None).model_dump()["radius"] == 30
    )
    assert not opening.error.isVisible()


def test_a_formula_that_cannot_be_read_points_at_the_place(
    correct: Window, settle: Callable[[], None]
) -> None:
    step = correct.views.correct.add_step("arithmetic.formula")
    settle()
    words = card(correct, step).form.fields["formula"]
    assert isinstance(words, Words)
    words.enter("chlorophyll / (2 +")
    assert "at character 19" in card(correct, step).error.text()
    assert words.text.textCursor().position() == 18
    words.enter('chlorophyll / max("lipid dye", 1)')
    settle()
    assert not card(correct, step).error.isVisible()
    planes = correct.compute.store.samples[1].channels
    left = seen(correct).pixels
    lipid = np.maximum(planes["lipid dye"].pixels - level(correct, "lipid dye"), 1)
    expected = (planes["chlorophyll"].pixels - level(correct, "chlorophyll")) / lipid
    np.testing.assert_allclose(left, expected, rtol=1e-3, atol=1e-3)


def level(window: Window, channel: str) -> float:
    """What the patch takes off."""
    entry = window.session.focus.entry
    assert entry is not None
    sample = window.compute.store.samples[entry.id].renamed(entry.name)
    return Analysis(sample, window.session.state.method, window.compute.cache).step_numbers(
        channel, "background"
    )["level"]


def test_closed_cards_have_a_small_picture(correct: Window, settle: Callable[[], None]) -> None:
    correct.views.correct.add_step("background.mesh")
    settle()
    assert not card(correct).is_open
    assert not card(correct).small.pixmap().isNull()
    correct.views.correct.editor.change("background", "reset")
    settle()
    # Nothing can be shown of a step that cannot be applied, nor after it.
    assert card(correct).small.pixmap().isNull()


def test_arrow_keys_in_quick_succession_are_one_change(
    correct: Window, settle: Callable[[], None]
) -> None:
    correct.views.correct.add_step("smooth.gaussian")
    settle()
    before = correct.session.undo_stack.count()
    field = card(correct, "gaussian").form.fields["sigma"].field
    for _ in range(4):
        QTest.keyClick(field, Qt.Key.Key_Up)
    assert parameters_for(correct.session.state.method, "gaussian", None).model_dump()["sigma"] == 3
    assert correct.session.undo_stack.count() == before + 1


def test_the_level_marker_is_dragged_in_the_ridges(
    correct: Window, settle: Callable[[], None]
) -> None:
    correct.views.correct.editor.change("background", "remove")
    settle()
    step = correct.views.correct.add_step("background.level")
    settle()
    use = correct.session.state.method.steps[0]
    assert use.channels == ("chlorophyll",)
    facts = correct.compute.queue.focused
    assert facts is not None
    # A first level stands where most pixels are.
    first = use.parameters.model_dump()["level"]
    assert abs(first - facts.native["chlorophyll"].quantile(0.5)) < 5
    correct.views.ridges.drag_marker(f"background {step}", to=262.0)
    settle()
    assert card(correct, step).form.fields["level"].field.value == 262.0
    assert correct.views.ridges.markers[0].value == 262.0
    np.testing.assert_array_equal(
        seen(correct).pixels,
        correct.compute.store.samples[1].channels["chlorophyll"].pixels.astype(np.float32) - 262,
    )


def test_a_patch_for_one_sample_is_marked_listed_and_cleared(
    correct: Window, settle: Callable[[], None]
) -> None:
    panel = correct.views.correct
    common = panel.marks.shown
    known = set(samples_apart(correct.session.state.method, "background"))
    card(correct).scope.button("one").click()
    panel.marks.take(Rectangle(x=5, y=6, width=30, height=30), 0)
    settle()
    entry = correct.session.focus.entry
    assert entry is not None
    assert panel.marks.shown == (Rectangle(x=5, y=6, width=30, height=30),)
    assert set(samples_apart(correct.session.state.method, "background")) == {*known, entry.name}
    assert "differs here" in card(correct).mark.text()
    assert panel.apart_card.isVisible()
    assert panel.apart_rows.count() == len(known) + 1
    card(correct).own.click()
    settle()
    assert panel.marks.shown == common
    assert panel.apart_rows.count() == len(known)


def test_more_patches_with_shift(correct: Window, settle: Callable[[], None]) -> None:
    panel = correct.views.correct
    first = panel.marks.shown
    panel.marks.take(Rectangle(x=1, y=2, width=9, height=9), -2)
    settle()
    assert panel.marks.shown == (*first, Rectangle(x=1, y=2, width=9, height=9))
    panel.marks.take(Rectangle(x=3, y=3, width=5, height=5), -1)
    settle()
    assert panel.marks.shown == (Rectangle(x=3, y=3, width=5, height=5),)
    assert correct.views.area.picture.patches == panel.marks.shown


def test_before_is_shown_while_the_key_is_held(
    correct: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    correct.views.look.display.set_range(-50, 900)
    settle()
    picture = correct.views.area.picture
    picture.setFocus()
    after = frame(correct)
    qtbot.keyPress(picture, Qt.Key.Key_B)
    settle()
    before = frame(correct)
    qtbot.keyRelease(picture, Qt.Key.Key_B)
    settle()
    np.testing.assert_array_equal(frame(correct), after)
    assert (before != after).any()


def test_a_background_is_seen_as_terrain_read_and_saved(
    correct: Window, settle: Callable[[], None], tmp_path: Path, qtbot: QtBot
) -> None:
    panel = correct.views.correct
    panel.add_step("background.mesh")
    settle()
    assert not card(correct, "mesh").thumbnails.buttons["background"].icon().isNull()
    whole = frame(correct)
    card(correct, "mesh").thumbnails.buttons["background"].click()
    settle()
    assert correct.compute.displayed.aspect == ("mesh", "background")
    terrain = frame(correct)
    assert (terrain != whole).any()
    low, high = correct.compute.ranges.display_range(
        "chlorophyll", "signal", correct.session.focus.sample_id
    )
    pixels = seen(correct).pixels
    # The background of what the patch has left: near 0, over a narrow range.
    assert np.ptp(pixels) < 60
    assert pixels.min() <= low < high <= pixels.max() + 1
    correct.menus.actions["method.relief"].trigger()
    settle()
    assert (frame(correct) != terrain).any()
    correct.menus.actions["method.relief"].trigger()
    background = correct.compute.displayed.method
    correct.menus.actions["method.look_background"].trigger()
    settle()
    np.testing.assert_array_equal(frame(correct), whole)
    correct.commands.correct.save_plane(tmp_path / "b.tif", background)
    qtbot.waitUntil(lambda: correct.jobs.idle, timeout=WAIT)
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "b.tif"), pixels)


def test_altered_backgrounds_and_curves_mark_what_is_measured(
    correct: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    card(correct).form.fields["scale"].field.enter("0.9")
    settle()
    assert "altered by hand" in card(correct).mark.text()
    step = correct.views.correct.add_step("curve.power")
    settle()
    assert "not linear" in card(correct, step).mark.text()
    with qtbot.waitSignal(correct.compute.batch.measured, timeout=WAIT):
        correct.commands.measure.measure_one()
    table = correct.session.measurements.ordered_tables()[0]
    assert table.marks["chlorophyll"] == ("not linear", "altered by hand")
    assert set(table.table["marks"]) == {"not linear; altered by hand"}
    assert "not linear" in correct.views.drawer.measurements.marks_text()


def test_a_crop_is_drawn_and_everything_follows(
    correct: Window, settle: Callable[[], None]
) -> None:
    panel = correct.views.correct
    step = panel.add_step("geometry.crop")
    settle()
    card(correct, step).form.fields["rectangle"].draw.click()
    settle()
    assert panel.marks.is_drawable
    assert correct.views.area.picture.patch_label == "crop"
    assert correct.compute.displayed.aspect == (step, "before")
    panel.marks.take(Rectangle(x=100, y=50, width=300, height=200), -1)
    settle()
    assert correct.compute.displayed.aspect is None
    assert correct.views.area.picture.geometry_now is not None
    assert correct.views.area.picture.geometry_now.shape == (200, 300)
    assert correct.compute.displayed.file_pixel(5, 6) == (105, 56)
    correct.views.status.point_at((5, 6))
    native = correct.compute.store.samples[1].channels["chlorophyll"].pixels[56, 105]
    assert f"native {int(native)}" in correct.views.status.line.text()
    correct.session.go_to("outline")
    settle()
    facts = correct.compute.queue.focused
    assert facts is not None
    assert facts.regions
    assert facts.regions[0].labels.shape == (200, 300)
    correct.session.focus.set(regions={int(facts.regions[0].ids[0])})
    inside, x, y = facts.regions[0].mask_of(int(facts.regions[0].ids[0]))
    correct.region_editor.by_hand.edit_selected("reject")
    entry = correct.session.focus.entry
    assert entry is not None
    (edit,) = correct.session.state.method.exception_for(entry.name).edits
    mask, left, top = edit.where[0].mask()
    assert (left, top) == (x + 100, y + 50), "in places of the file"
    np.testing.assert_array_equal(mask, inside)
    settle()
    after = correct.compute.queue.focused
    assert after is not None
    assert after.regions
    assert after.regions[0].count == facts.regions[0].count - 1


def test_files_are_chosen_and_a_wrong_one_is_named(
    correct: Window, settle: Callable[[], None], write_tiff: Callable[..., Path]
) -> None:
    panel = correct.views.correct
    step = panel.add_step("frames.dark")
    settle()
    assert "no dark frame yet" in card(correct, step).error.text()
    field = card(correct, step).form.fields["dark"]
    assert isinstance(field, FramesField)
    field.set_files([write_tiff("small.tif", np.zeros((4, 5), np.uint16))])
    settle()
    assert "small.tif" in card(correct, step).error.text()
    assert "5×4" in card(correct, step).error.text()
    shape = correct.compute.store.samples[1].first.shape
    field.set_files([write_tiff(f"d{k}.tif", np.full(shape, k, np.uint16)) for k in (1, 2, 9)])
    settle()
    assert not card(correct, step).error.isVisible()
    whole = seen(correct).pixels
    field.combine.setCurrentIndex(field.combine.findData("mean"))
    field.combine.activated.emit(0)
    settle()
    # The median of 1, 2 and 9 is 2, their mean 4.
    np.testing.assert_allclose(whole - seen(correct).pixels, 2, atol=1e-3)


def test_a_sample_of_the_study_is_a_reference(correct: Window, settle: Callable[[], None]) -> None:
    step = correct.views.correct.add_step("arithmetic.match")
    settle()
    field = card(correct, step).form.fields["reference"]
    assert isinstance(field, FileField)
    field.box.setCurrentIndex(3)
    field.box.activated.emit(3)
    settle()
    assert "factor" in card(correct, step).report.text()
    assert not card(correct, step).error.isVisible()


def test_a_card_warns_of_a_background_that_takes_the_objects_off(
    add: Callable[..., Window],
    write_tiff: Callable[..., Path],
    settle: Callable[[], None],
) -> None:
    rows, columns = np.indices((160, 160))
    disc = (rows % 80 - 40) ** 2 + (columns % 80 - 40) ** 2 <= 14**2
    pixels = np.random.default_rng(0).normal(500, 4, disc.shape) + 400 * disc
    window = add(write_tiff("discs.tif", pixels.astype(np.uint16)))
    window.session.go_to("correct")
    step = window.views.correct.add_step("background.mesh")
    settle()
    shown = card(window, step)
    assert "automatic: " in shown.report.text()
    assert not shown.doubt.isVisible()
    window.views.correct.editor.set_parameter(step, "tile", 8.0)
    settle()
    assert "automatic" not in shown.report.text()
    assert "Use “Background mesh” with an automatic tile" in shown.doubt.text()
    shown.set_open(False)
    assert shown.doubt.isVisible()
    shown.box.click()
    settle()
    assert not shown.doubt.isVisible()


def test_every_step_has_a_card_that_shows_what_it_is_given(
    add: Callable[..., Window],
    write_tiff: Callable[..., Path],
    settle: Callable[[], None],
) -> None:
    pixels = np.random.default_rng(0).integers(200, 300, (2, 90, 120)).astype(np.uint16)
    correct = add(write_tiff("a-1.tif", pixels[0]), write_tiff("a-2.tif", pixels[1]))
    correct.session.go_to("correct")
    settle()
    for key in STEPS:
        known = STEPS[key]
        step = correct.views.correct.add_step(key)
        settle()
        shown = card(correct, step)
        assert set(shown.form.fields) == set(known.parameters.model_fields), key
        assert shown.is_open
        facts = correct.compute.queue.focused
        assert facts is not None
        assert shown.error.isVisible() == (facts.error is not None), key
        assert not shown.grab().isNull()
        # The panel is this wide in a window of 1024 × 700.
        assert shown.minimumSizeHint().width() <= 350, key
        for aspect in shown.thumbnails.buttons:
            correct.views.correct.editor.look_at(step, aspect)
        settle()
        correct.views.correct.editor.change(step, "remove")
        settle()
        assert correct.compute.displayed.aspect is None


def test_the_method_of_a_study_keeps_its_frames_when_it_is_moved(
    correct: Window, settle: Callable[[], None], write_tiff: Callable[..., Path], tmp_path: Path
) -> None:
    shape = correct.compute.store.samples[1].first.shape
    dark = write_tiff("frames/dark.tif", np.full(shape, 3, np.uint16))
    step = correct.views.correct.add_step("frames.dark")
    settle()
    card(correct, step).form.fields["dark"].set_files([dark])
    correct.commands.method_file.save_method(tmp_path / "m.json")
    settle()
    assert '"file": "frames/dark.tif"' in (tmp_path / "m.json").read_text()
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    (tmp_path / "frames").rename(moved / "frames")
    (tmp_path / "m.json").rename(moved / "m.json")
    loaded = Method.load(moved / "m.json").steps[-1].parameters.model_dump()
    assert loaded["dark"]["files"][0]["file"] == str(moved / "frames" / "dark.tif")


def test_steps_that_fit_the_picture_lead_the_list(
    add: Callable[..., Window], write_tiff: Callable[..., Path], qtbot: QtBot
) -> None:
    rng = np.random.default_rng(4)
    x = np.linspace(0, 1, 160)[None, :]
    values = 400 * (1 + 0.8 * x) + rng.normal(0, 4, (120, 160))
    window = add(write_tiff("tilted.tif", values.astype(np.uint16)))
    window.session.go_to("correct")
    panel = window.views.correct
    panel.choose_step()
    qtbot.waitUntil(lambda: bool(panel.chooser.fitting), timeout=WAIT)
    texts = [panel.chooser.list.item(k).text() for k in range(2)]
    assert texts[0] == "Fits this picture"
    assert "The background rises by" in texts[1]
    panel.chooser.take()
    assert [use.step for use in window.session.state.method.steps] == ["background.mesh"]


@pytest.mark.parametrize("ending", [".ome.tif", ".ome.zarr"])
def test_channels_and_regions_are_written_for_other_programs(
    correct: Window, settle: Callable[[], None], tmp_path: Path, ending: str
) -> None:
    path = tmp_path / f"out{ending}"
    correct.commands.correct.save_ome(path)
    settle()
    sample, method = correct.compute.store.focused, correct.session.state.method
    assert sample is not None
    written = read_sample(path)
    assert written.channel_names == sample.channel_names
    entry = correct.session.focus.entry
    assert entry is not None
    for name in sample.channel_names:
        signal = Analysis(sample.renamed(entry.name), method, correct.compute.cache).signal(name)
        np.testing.assert_array_equal(written.channels[name].pixels, signal.pixels)
