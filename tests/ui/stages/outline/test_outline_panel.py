"""The cards and tools of Outline, through the window."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot

from rilievo.core.regions.drawn_shapes import DrawnRegion
from rilievo.core.regions.pixel_shapes import FloodShape, StencilShape
from rilievo.core.regions.region_set import CLASS_STRIDE, RegionSet
from rilievo.core.regions.shapes import (
    EllipseShape,
    GridShape,
    LineShape,
    PolygonShape,
    RectangleShape,
    RingShape,
)
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT
from tests.ui.opening import open_study
from tests.ui.stages.outline.test_level_body import frame

pytestmark = pytest.mark.slow

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def plain(
    add: Callable[..., Window], write_tiff: Callable[..., Path], settle: Callable[[], None]
) -> Window:
    """One sample with four squares of other brightness on a dark ground, in Outline."""
    pixels = np.full((60, 80), 100, np.uint16)
    for k, value in enumerate((400, 800, 1200, 2000)):
        pixels[10 + 25 * (k // 2) : 25 + 25 * (k // 2), 10 + 40 * (k % 2) : 30 + 40 * (k % 2)] = (
            value
        )
    window = add(write_tiff("photo.tif", pixels))
    window.session.go_to("outline")
    settle()
    return window


@pytest.fixture
def drawing(plain: Window, settle: Callable[[], None]) -> Window:
    """The same with a drawn class in focus."""
    plain.views.outline.classes.add_class("drawn")
    settle()
    return plain


def at(window: Window, x: float, y: float) -> QPoint:
    return window.views.area.picture.to_widget(x, y).toPoint()


def drag(
    window: Window, *positions: tuple[float, float],
    keys: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
) -> None:  # fmt: skip
    """Press at the first place, move through the others, let go at the last."""
    picture = window.views.area.picture
    QTest.mousePress(picture, LEFT, keys, at(window, *positions[0]))
    for index in positions[1:]:
        QTest.mouseMove(picture, at(window, *index))
    QTest.mouseRelease(picture, LEFT, keys, at(window, *positions[-1]))


def click(window: Window, x: float, y: float, keys: Qt.KeyboardModifier | None = None) -> None:
    picture = window.views.area.picture
    QTest.mouseMove(picture, at(window, x, y))
    QTest.mouseClick(picture, LEFT, keys or Qt.KeyboardModifier.NoModifier, at(window, x, y))


def drawn(window: Window) -> tuple[DrawnRegion, ...]:
    return window.session.focus.outline.drawn


def outlined(window: Window) -> RegionSet:
    """The regions of the class in focus."""
    regions = window.compute.regions.focused
    assert regions is not None
    return regions


def draw(
    window: Window, settle: Callable[[], None], tool: str, *positions: tuple[float, float]
) -> DrawnRegion:
    """Draw a region and put the tool away; return it."""
    window.session.view.use(tool)  # type: ignore[arg-type]
    drag(window, *positions)
    window.session.view.choose(tool="point")
    settle()
    return drawn(window)[-1]


# -- drawing


@pytest.mark.parametrize(
    ("tool", "positions", "kind"),
    [
        ("rectangle", [(10, 10), (30, 25)], RectangleShape),
        ("ellipse", [(10, 10), (20, 18), (30, 25)], EllipseShape),
        ("turned", [(10, 10), (30, 25)], RectangleShape),
        ("band line", [(10, 10), (30, 25)], LineShape),
        ("freehand", [(10, 10), (30, 12), (28, 25), (12, 22)], PolygonShape),
        ("brush", [(10, 10), (30, 10)], StencilShape),
        ("disc", [(20, 20), (20, 20)], RingShape),
        ("ring", [(20, 20), (32, 20)], RingShape),
        ("flood", [(15, 15), (15, 15)], FloodShape),
    ],
)
def test_each_tool_draws_a_region(
    drawing: Window, settle: Callable[[], None], tool: str,
    positions: list[tuple[float, float]], kind: type,
) -> None:  # fmt: skip
    drawing.views.outline.drawn.tools[tool].click()
    assert drawing.session.view.tool == tool
    drag(drawing, *positions)
    settle()
    (region,) = drawn(drawing)
    assert isinstance(region.shape, kind)
    assert region.sample == "photo"
    regions = outlined(drawing)
    assert regions.count == 1
    assert drawing.session.focus.regions == {int(regions.ids[0])}, "what was drawn is selected"
    drawing.session.undo_stack.undo()
    assert drawn(drawing) == ()


def test_a_rectangle_covers_the_pixels_it_was_dragged_over(
    drawing: Window, settle: Callable[[], None]
) -> None:
    drawing.session.view.use("rectangle")
    drag(drawing, (11, 11), (28, 23))
    settle()
    regions = outlined(drawing)
    inside = regions.labels > 0
    width, height = regions.boxes[0][2:]
    assert (width, height) == (pytest.approx(17, abs=1), pytest.approx(12, abs=1))
    assert inside.sum() == width * height
    (sample,) = drawing.compute.store.samples.values()
    assert set(sample.first.pixels[inside].tolist()) == {400}, "all within the first square"


def test_a_polygon_is_closed_by_a_click_on_its_first_corner(
    drawing: Window, settle: Callable[[], None]
) -> None:
    drawing.session.view.use("polygon")
    for index in ((10, 10), (30, 10), (30, 25), (10, 10)):
        click(drawing, *index)
    settle()
    (region,) = drawn(drawing)
    assert isinstance(region.shape, PolygonShape)
    assert len(region.shape.points) == 3


def test_the_brush_goes_on_and_takes_away(drawing: Window, settle: Callable[[], None]) -> None:
    drawing.session.view.use("brush")
    drawing.views.outline.drawn.radius.enter("3")
    drag(drawing, (10, 30), (40, 30))
    settle()
    first = drawn(drawing)[0].shape
    assert isinstance(first, StencilShape)
    drag(drawing, (40, 30), (40, 45))
    settle()
    more = drawn(drawing)[0].shape
    assert len(drawn(drawing)) == 1
    assert isinstance(more, StencilShape)
    assert more.area > first.area
    drag(drawing, (10, 30), (25, 30), keys=Qt.KeyboardModifier.ControlModifier)
    settle()
    less = drawn(drawing)[0].shape
    assert isinstance(less, StencilShape)
    assert less.area < more.area


def test_a_region_is_moved_by_pointer_keys_and_numbers(
    drawing: Window, settle: Callable[[], None]
) -> None:
    before = draw(drawing, settle, "rectangle", (20, 20), (40, 30)).shape
    assert isinstance(before, RectangleShape)
    drag(drawing, (before.x, before.y), (before.x + 10, before.y + 5))
    settle()
    moved = drawn(drawing)[0].shape
    assert isinstance(moved, RectangleShape)
    assert (round(moved.x - before.x), round(moved.y - before.y)) == (10, 5)
    picture = drawing.views.area.picture
    for key, keys, step in (
        (Qt.Key.Key_Right, Qt.KeyboardModifier.NoModifier, 1),
        (Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier, -10),
    ):
        x = drawn(drawing)[0].shape.centre[0]
        picture.keyPressEvent(QKeyEvent(QKeyEvent.Type.KeyPress, key, keys))
        settle()
        assert drawn(drawing)[0].shape.centre[0] == pytest.approx(x + step)
    form = drawing.views.outline.drawn.form
    assert form is not None
    form.fields["width"].entered.emit(33.0)
    assert drawn(drawing)[0].shape.width == 33  # type: ignore[union-attr]
    form.fields["width"].entered.emit(-1.0)
    assert "width" in drawing.views.outline.say.text()


def test_a_corner_is_dragged(drawing: Window, settle: Callable[[], None]) -> None:
    before = draw(drawing, settle, "rectangle", (20, 20), (40, 30)).shape
    assert isinstance(before, RectangleShape)
    corner = before.corners()[2]
    drag(drawing, corner, (corner[0] + 12, corner[1] + 9))
    settle()
    after = drawn(drawing)[0].shape
    assert isinstance(after, RectangleShape)
    assert after.width == pytest.approx(before.width + 12, abs=1)
    assert after.height == pytest.approx(before.height + 9, abs=1)


def test_duplicate_mirror_grow_stamp_and_remove(
    drawing: Window, settle: Callable[[], None]
) -> None:
    first = draw(drawing, settle, "ellipse", (10, 10), (30, 20)).shape
    panel = drawing.views.outline.drawn
    panel.acts["Grow"].click()
    assert drawn(drawing)[0].shape.width == pytest.approx(first.width + 2)  # type: ignore[union-attr]
    panel.acts["Shrink"].click()
    panel.acts["Mirror ↔"].click()
    settle()
    panel.acts["Duplicate"].click()
    settle()
    assert len(drawn(drawing)) == 2
    drawing.session.view.use("stamp")
    click(drawing, 60, 40)
    settle()
    stamped = drawn(drawing)[2].shape
    assert isinstance(stamped, EllipseShape)
    assert (stamped.width, stamped.height) == (first.width, first.height)  # type: ignore[union-attr]
    assert stamped.x == pytest.approx(60, abs=1)
    drawing.menus.actions["regions.reject"].trigger()
    settle()
    assert len(drawn(drawing)) == 2


def test_name_group_and_attributes_reach_the_table(
    drawing: Window, settle: Callable[[], None]
) -> None:
    draw(drawing, settle, "rectangle", (12, 12), (28, 22))
    panel = drawing.views.outline.drawn
    for field, text in (
        (panel.name, "wool"), (panel.group, "early"), (panel.attributes, "hours = 5; side = left"),
    ):  # fmt: skip
        field.setText(text)
        field.editingFinished.emit()
    panel.acts["To all samples"].click()
    settle()
    region = drawn(drawing)[0]
    assert (region.name, region.group, region.sample) == ("wool", "early", None)
    assert region.attributes == {"hours": "5", "side": "left"}
    drawing.commands.measure.measure_all()
    settle()
    (table,) = drawing.session.measurements.ordered_tables()
    row = table.table.iloc[-1]
    assert (row["name"], row["group"], row["hours"], row["mean"]) == ("wool", "early", "5", 400)


def test_a_grid_of_three_clicks_with_names_and_a_cell_of_its_own(
    drawing: Window, settle: Callable[[], None]
) -> None:
    panel = drawing.views.outline.drawn
    drawing.session.view.use("grid")
    settle()
    for field, text in (
        (panel.grid_rows, "2"), (panel.grid_columns, "2"),
        (panel.cell_width, "10"), (panel.cell_height, "8"),
    ):  # fmt: skip
        field.enter(text)
    panel.names.setPlainText("a\tb\nc")
    for index in ((20, 17), (60, 17), (20, 42)):
        click(drawing, *index)
    settle()
    (region,) = drawn(drawing)
    assert isinstance(region.shape, GridShape)
    regions = outlined(drawing)
    assert [regions.facts(int(i)).name for i in regions.ids] == ["a", "b", "c", "B2"]
    drawing.session.view.choose(tool="point")
    drawing.session.focus.set(regions=[int(regions.ids[3])])
    settle()
    drag(drawing, (60, 42), (63, 46))
    settle()
    shifted = drawn(drawing)[0].shape
    assert isinstance(shifted, GridShape)
    assert shifted.shifts[3] == pytest.approx((3, 4), abs=0.6)
    assert list(shifted.shifts) == [3]


def test_all_21_swatches_by_a_grid_and_by_colour(
    window: Window, settle: Callable[[], None], tmp_path: Path, qtbot: QtBot
) -> None:
    from rilievo.demo.sets import write_demo_study  # noqa: PLC0415 (slow to import)

    study, _ = write_demo_study("swatches", tmp_path / "swatches")
    open_study(window, study)
    qtbot.waitUntil(lambda: len(window.compute.queue.summaries) == 4, timeout=WAIT)
    window.session.go_to("outline")
    settle()
    window.views.outline.choose_kind("Colour")
    settle()
    window.views.outline.colour.set_end("madder", "lower", 20.0)
    settle()
    by_colour = {
        entry.name: window.compute.regions.of(entry.id)
        for entry in window.session.state.samples[:3]
    }
    assert sum(r.count for r in by_colour.values() if r is not None) == 21
    window.views.outline.classes.add_class("drawn")
    window.session.view.use("grid")
    window.region_editor.drawn.set(
        grid=window.region_editor.drawn.grid.model_copy(update={"width": 60, "height": 60})
    )
    for entry in window.session.state.samples[:3]:
        window.session.focus.set(sample_id=entry.id)
        settle()
        found = by_colour[entry.name]
        assert found is not None
        centres = found.centres[np.argsort(found.centres[:, 0])]
        for index in (centres[0], centres[-1]):
            click(window, *index)
        settle()
        cells = window.compute.regions.focused
        assert cells is not None
        assert cells.count == 7
        for x, y in cells.centres:
            assert found.at(round(x), round(y)), "each cell lies on its own swatch"
        assert len({found.at(round(x), round(y)) for x, y in cells.centres}) == 7


# -- edits by hand


def test_regions_are_merged_cut_and_redrawn(plain: Window, settle: Callable[[], None]) -> None:
    plain.views.outline.level.threshold.enter("300")
    settle()
    plain.session.focus.set(regions=[1, 2])
    plain.menus.actions["regions.merge"].trigger()
    settle()
    regions = outlined(plain)
    assert regions.areas.tolist() == [600, 300, 300]
    plain.session.view.use("cut")
    drag(plain, (5, 42), (35, 42))
    settle()
    cut = outlined(plain)
    assert cut.count in {4, 5}
    assert cut.areas.sum() == regions.areas.sum()
    assert plain.session.view.tool == "point"
    plain.views.outline.hand.restore.click()
    settle()
    plain.session.focus.set(regions=[4])
    plain.session.view.use("redraw")
    drag(plain, (52, 37), (66, 37), (66, 46), (52, 46), (52, 38))
    settle()
    redrawn = outlined(plain)
    assert redrawn.count == 4
    assert redrawn.areas[-1] == pytest.approx(14 * 9, abs=30)


def keep_above(window: Window, mean: float, settle: Callable[[], None]) -> RegionSet:
    """Find the squares and keep those above a mean; return all that were found."""
    window.views.outline.level.threshold.enter("300")
    settle()
    window.views.outline.clean.add_step("keep")
    settle()
    found = outlined(window)
    window.views.outline.clean.change(1, "quantity", "mean")
    window.views.outline.clean.change(1, "lower", mean)
    settle()
    return found


def test_what_was_left_out_says_why_and_is_taken_back(
    plain: Window, settle: Callable[[], None]
) -> None:
    keep_above(plain, 500.0, settle)
    assert "1 left out" in plain.views.outline.say.text()
    plain.views.status.point_at((15, 15))
    assert "left out: mean 400 is below 500" in plain.views.status.line.text()
    click(plain, 15, 15)
    plain.menus.actions["regions.accept"].trigger()
    settle()
    regions = outlined(plain)
    assert regions.count == 4


def test_regions_that_are_taken_back_one_right_after_the_other_are_all_taken(
    plain: Window, settle: Callable[[], None]
) -> None:
    whole = keep_above(plain, 1e6, settle)
    assert outlined(plain).count == 0
    # Asked for before the first one is found.
    for region in range(1, 4):
        y, x = (int(at) for at in np.argwhere(whole.labels == region)[50])
        plain.region_editor.by_hand.point_out(x, y)
        plain.menus.actions["regions.accept"].trigger()
    settle()
    assert outlined(plain).count == 3


def test_a_region_gets_another_class(plain: Window, settle: Callable[[], None]) -> None:
    plain.views.outline.level.threshold.enter("300")
    plain.commands.outline.add_class("threshold")
    settle()
    panel = plain.views.outline
    panel.classes.name.setText("bright")
    panel.classes.take_name()
    panel.level.threshold.enter("1900")
    plain.session.focus.set_class(0)
    settle()
    plain.session.focus.set(regions=[1])
    panel.hand.menu.aboutToShow.emit()
    (action,) = panel.hand.menu.actions()
    action.trigger()
    settle()
    facts = plain.compute.queue.focused
    assert facts is not None
    assert [r.count for r in facts.regions] == [3, 2]
    plain.commands.measure.measure_all()
    settle()
    (table,) = plain.session.measurements.ordered_tables()
    assert table.table["class"].tolist() == ["cell"] * 3 + ["bright"] * 2
    assert (table.ids >= CLASS_STRIDE).sum() == 2


# -- how regions are found


def test_picks_inside_and_outside_set_the_threshold(
    plain: Window, settle: Callable[[], None]
) -> None:
    row = plain.views.outline.picks
    row.inside.click()
    for index in ((15, 15), (55, 15)):
        click(plain, *index)
    row.outside.click()
    for index in ((5, 5), (40, 30)):
        click(plain, *index)
    settle()
    assert "2 inside, 2 outside" in row.text.text()
    assert "100 %" in row.text.text()
    row.use.click()
    settle()
    assert plain.compute.regions.level(plain.session.focus.sample_id) == pytest.approx(250, abs=1)
    click(plain, 5, 5)
    settle()
    assert len(plain.session.focus.outline.picks) == 3, "a pick that is clicked again goes away"
    row.clear.click()
    assert plain.session.focus.outline.picks == ()


def test_a_band_is_dragged_by_its_ends(plain: Window, settle: Callable[[], None]) -> None:
    panel = plain.views.outline
    panel.level.take_way("band")
    settle()
    panel.level.set_parameter("lower", 500.0)
    panel.level.set_parameter("upper", 1500.0)
    settle()
    regions = outlined(plain)
    assert regions.count == 2
    assert {m.key for m in plain.views.ridges.markers} == {"lower", "upper"}
    plain.views.ridges.drag_marker("upper", to=900.0)
    settle()
    assert plain.session.focus.outline.threshold.parameters.model_dump() == {
        "lower": 500,
        "upper": 900,
    }
    panel.level.plot.drag("lower", 300.0)
    settle()
    assert plain.session.focus.outline.threshold.parameters.model_dump()["lower"] == pytest.approx(
        300, abs=1
    )
    panel.level.set_parameter("upper", 1.0)
    assert "below its lower" in panel.say.text()


def test_every_automatic_level_is_a_tick_to_click(
    study: Window, settle: Callable[[], None]
) -> None:
    study.session.go_to("outline")
    settle()
    plot = study.views.outline.level.plot
    ticks = {line.key for line in plot.lines if not line.movable}
    assert {"triangle", "iterative_mean", "cross_entropy", "maximum_entropy"} < ticks
    plot.picked.emit("triangle")
    settle()
    assert study.session.focus.outline.threshold.way == "triangle"
    study.views.outline.level.factor.enter("1.5")
    settle()
    level = study.compute.regions.level(study.session.focus.sample_id)
    tick = next(line.value for line in plot.lines if line.key == "triangle")
    assert level == pytest.approx(1.5 * tick)


def test_one_level_for_all_samples_in_the_window(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    settle()
    ids = [entry.id for entry in study.session.state.samples]
    study.views.outline.level.reach.setCurrentIndex(1)
    study.views.outline.level.reach.activated.emit(1)
    settle()
    levels = {study.compute.regions.level(i) for i in ids}
    assert len(levels) == 1
    assert None not in levels
    assert all((study.compute.regions.of(i) or 0) for i in ids)


def test_the_steady_stretch_is_marked_and_a_click_sets_the_level(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    card = study.views.outline.steady
    card.open()
    qtbot.waitUntil(lambda: card.plot.stretch is not None, timeout=WAIT)
    settle()
    stretch = card.plot.stretch
    assert stretch is not None
    level = study.compute.regions.level(study.session.focus.sample_id)
    assert level is not None
    assert stretch[0] < level < stretch[1]
    card.plot.clicked.emit(500.0)
    settle()
    assert study.compute.regions.level(study.session.focus.sample_id) == pytest.approx(
        500, rel=0.01
    )
    card.use.click()
    settle()
    assert study.compute.regions.level(study.session.focus.sample_id) == pytest.approx(
        sum(stretch) / 2, rel=0.02
    )
    for what in ("area", "mean"):
        card.what.button(what).click()
        assert card.plot.heights.size == card.plot.positions.size > 10


def test_classes_by_the_tree(plain: Window, settle: Callable[[], None]) -> None:
    panel = plain.views.outline
    panel.choose_kind("Classes")
    settle()
    panel.gray.form.changed.emit("k", 5)
    settle()
    assert len(panel.gray.boxes) == 5
    still = frame(plain)
    panel.gray.flat.setChecked(True)
    settle()
    assert (frame(plain) != still).any()
    panel.gray.boxes[2].setChecked(True)
    panel.gray.boxes[2].clicked.emit(True)
    settle()
    regions = outlined(plain)
    assert regions.count == 2
    QTest.keyClick(panel.gray.tree, Qt.Key.Key_Up)
    settle()
    assert panel.gray.parameters.k == 4
    panel.gray.boxes[3].setChecked(False)
    panel.gray.boxes[3].clicked.emit(False)
    assert "At least one class" in panel.say.text()


def test_a_limit_is_dragged_over_the_histogram_of_all_samples(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    settle()
    row = study.views.outline.clean.rows[2]
    assert row.plot is not None
    assert row.plot.heights.size > 10
    still = frame(study)
    stack, count = study.session.undo_stack, study.session.undo_stack.count()
    # However long the machine takes, the marker does not come to rest before it is let go.
    study.compute.drag.rest.setInterval(10 * WAIT)
    row.plot.begun.emit("lower")
    for value in (60.0, 70.0, 80.0):
        row.plot.moved.emit("lower", value)
    qtbot.waitUntil(lambda: study.compute.drag.kept is not None, timeout=WAIT)
    qtbot.waitUntil(lambda: bool((frame(study) != still).any()), timeout=WAIT)
    row.plot.released.emit("lower")
    settle()
    limits = study.session.focus.outline.clean[2].parameters.model_dump()
    assert limits["lower"] == pytest.approx(80, abs=1)
    assert stack.count() == count + 1
    regions = outlined(study)
    factor = study.compute.store.samples[1].first.calibration.area_factor or 0
    assert (regions.areas * factor >= limits["lower"]).all()


def test_steps_of_the_clean_up_are_moved_switched_and_removed(
    study: Window, settle: Callable[[], None]
) -> None:
    study.session.go_to("outline")
    clean = study.views.outline.clean
    keys = [use.cleaner for use in study.session.focus.outline.clean]
    clean.rows[0].wanted.emit("down")
    assert [use.cleaner for use in study.session.focus.outline.clean] == [keys[1], keys[0], keys[2]]
    settle()
    clean.rows[1].switched.emit(False)
    assert not study.session.focus.outline.clean[1].on
    settle()
    clean.rows[1].wanted.emit("remove")
    settle()
    assert [use.cleaner for use in study.session.focus.outline.clean] == [keys[1], keys[2]]
    study.session.undo_stack.setIndex(0)
    assert [use.cleaner for use in study.session.focus.outline.clean] == keys


def test_a_class_is_made_from_another(plain: Window, settle: Callable[[], None]) -> None:
    panel = plain.views.outline
    panel.level.threshold.enter("300")
    settle()
    panel.classes.add_class("derived", "ring")
    settle()
    panel.derived.width_field.enter("2")
    panel.derived.gap.enter("0")
    settle()
    rings = outlined(plain)
    assert rings.count == 4
    assert {rings.facts(int(i)).parent for i in rings.ids} == {1, 2, 3, 4}
    panel.classes.remove.click()
    assert plain.session.state.method.class_names == ("cell",)
    panel.classes.add_class("derived", "inside")
    settle()
    assert "choose the classes" in panel.say.text()
    plain.session.focus.set_class(0)
    panel.classes.remove.click()
    assert "is made from" in panel.classes.say.text()


def test_noise_says_how_many_regions_and_offers_a_way_out(
    add: Callable[..., Window], write_tiff: Callable[..., Path], settle: Callable[[], None]
) -> None:
    rng = np.random.default_rng(1)
    window = add(write_tiff("noise.tif", rng.integers(0, 1000, (700, 700)).astype(np.uint16)))
    window.session.go_to("outline")
    window.views.outline.level.threshold.enter("900")
    settle()
    assert "most are likely noise" in window.views.outline.say.text()
    assert window.views.outline.suggested_fix.isVisibleTo(window.views.outline)
    window.views.outline.suggested_fix.click()
    settle()
    regions = outlined(window)
    assert regions.count < 100


# -- files


def test_regions_are_saved_and_taken_up_again(
    plain: Window, settle: Callable[[], None], tmp_path: Path
) -> None:
    plain.views.outline.level.threshold.enter("300")
    settle()
    found = outlined(plain)
    plain.commands.region_files.save(tmp_path / "cells.json")
    plain.commands.region_files.save(tmp_path / "photo-cells.tif")
    settle()
    data = json.loads((tmp_path / "cells.json").read_text())
    assert data["format"] == "rilievo-regions"
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "photo-cells.tif"), found.labels)
    plain.commands.region_files.load(tmp_path / "cells.json")
    settle()
    again = outlined(plain)
    np.testing.assert_array_equal(again.labels % CLASS_STRIDE, found.labels)
    plain.views.outline.classes.add_class("label_image")
    settle()
    plain.views.outline.labels.take_file(tmp_path / "photo-cells.tif")
    settle()
    assert plain.session.focus.outline.label_image["file"].endswith("{sample}-cells.tif")
    third = outlined(plain)
    np.testing.assert_array_equal(third.labels % CLASS_STRIDE, found.labels)
    plain.commands.region_files.load(tmp_path / "nothing.json")
    settle()
    assert "nothing.json" in plain.views.notice.text


def test_files_of_regions_that_are_loaded_together_are_all_taken(
    plain: Window, settle: Callable[[], None], tmp_path: Path
) -> None:
    plain.views.outline.level.threshold.enter("300")
    settle()
    count = outlined(plain).count
    for name in ("a.json", "b.json", "c.json"):
        plain.commands.region_files.save(tmp_path / name)
    settle()
    for name in ("a.json", "b.json", "c.json"):
        plain.commands.region_files.load(tmp_path / name)
    settle()
    assert len(plain.session.focus.outline.drawn) == 3 * count


def test_a_click_selects_a_region_of_another_class_too(
    plain: Window, settle: Callable[[], None]
) -> None:
    plain.views.outline.level.threshold.enter("1900")
    plain.commands.outline.add_class("threshold")
    plain.views.outline.level.threshold.enter("300")
    settle()
    plain.session.focus.set_class(0)
    settle()
    click(plain, 15, 15)
    (region,) = plain.session.focus.regions
    assert region > CLASS_STRIDE
    plain.views.status.point_at((15, 15))
    assert "object 1" in plain.views.status.line.text()


def test_no_shortcut_of_the_stage_is_a_key_that_fields_need(plain: Window) -> None:
    """Return takes what is typed; a region that is selected must not swallow it."""
    plain.views.outline.level.threshold.enter("300")
    taken = {action.shortcut().toString() for action in plain.menus.actions.values()}
    assert not taken & {"Return", "Enter", "Tab", "Space"}


def test_drawing_while_another_kind_of_class_is_worked_on_makes_a_drawn_one(
    plain: Window, settle: Callable[[], None]
) -> None:
    draw(plain, settle, "ellipse", (10, 10), (30, 25))
    assert [o.source for o in plain.session.state.method.outlines] == ["threshold", "drawn"]
    assert len(drawn(plain)) == 1
