"""A stack in the window: brought in, moved through by sliders and keys, played, measured."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from rilievo.core.method.method import Measure
from rilievo.demo.sets import write_demo_study
from rilievo.ui.panels.drawer import TABS
from rilievo.ui.shell.window import Window
from tests.outlines import outline
from tests.ui.conftest import choose
from tests.ui.opening import open_study

WAIT = 30_000
TIMES, DEPTHS = 6, 4


def plane(time: int, z: int) -> np.ndarray:
    values = np.full((24, 30), 100 + 10 * time + z, np.uint16)
    values[4:10, 5:12] += 500
    return values


@pytest.fixture
def file(write_tiff: Callable[..., Path]) -> Path:
    values = np.array([[plane(t, z) for z in range(DEPTHS)] for t in range(TIMES)])
    return write_tiff("drops.ome.tif", values, metadata={"axes": "TZYX", "TimeIncrement": 30.0})


@pytest.fixture
def stack(window: Window, file: Path, qtbot: QtBot, settle: Callable[[], None]) -> Window:
    window.commands.images.preview([file])
    intake = window.views.intake
    qtbot.waitUntil(lambda: len(intake.proposals) == TIMES * DEPTHS, timeout=WAIT)
    assert intake.planes.currentText() == "each depth and time"
    intake.accept()
    qtbot.waitUntil(lambda: len(window.session.state.samples) == TIMES * DEPTHS, timeout=WAIT)
    settle()
    return window


def shown(window: Window) -> np.ndarray:
    sample = window.compute.store.focused
    assert sample is not None
    return sample.first.pixels


def test_sliders_and_keys_show_the_plane(
    stack: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    bar = stack.views.area.stack_bar
    assert bar.isVisible() and bar.time.isVisible() and bar.z.isVisible()
    assert (shown(stack) == plane(0, 0)).all()
    bar.time.slider.setValue(3)
    settle()
    assert (shown(stack) == plane(3, 0)).all()
    assert bar.time.label.text() == "time 4 of 6 · 90 s"
    for action in ("later", "deeper", "deeper", "shallower"):
        stack.menus.actions[f"sample.{action}"].trigger()
    settle()
    assert (shown(stack) == plane(4, 1)).all()
    assert (bar.time.slider.value(), bar.z.slider.value()) == (4, 1)
    # Round at the ends.
    for _ in range(2):
        stack.menus.actions["sample.later"].trigger()
    settle()
    assert (shown(stack) == plane(0, 1)).all()
    bar.z.slider.setFocus()
    qtbot.keyClick(bar.z.slider, Qt.Key.Key_Right)
    settle()
    assert (shown(stack) == plane(0, 2)).all()
    assert bar.z.slider.accessibleDescription().startswith("depth 3 of 4")


def test_a_stack_plays_and_stops(stack: Window, qtbot: QtBot) -> None:
    bar = stack.views.area.stack_bar
    stack.menus.actions["sample.play"].trigger()
    seen: set[int] = set()

    def all_seen() -> bool:
        seen.add(bar.time.slider.value())
        return len(seen) == TIMES

    qtbot.waitUntil(all_seen, timeout=WAIT)
    bar.z.play.click()
    assert not bar.time.play.isChecked() and bar.z.play.isChecked()
    stack.menus.actions["sample.play"].trigger()
    stack.menus.actions["sample.play"].trigger()
    assert not bar.time.play.isChecked() and not bar.z.play.isChecked()
    assert not bar._timer.isActive()


def test_samples_that_are_no_stack_have_no_slider(study: Window) -> None:
    assert not study.views.area.stack_bar.isVisible()
    assert not study.menus.actions["sample.play"].isEnabled()


def test_a_projection_is_a_sample(
    window: Window, file: Path, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    window.commands.images.preview([file])
    intake = window.views.intake
    qtbot.waitUntil(lambda: len(intake.proposals) == TIMES * DEPTHS, timeout=WAIT)
    box = intake.planes
    box.setCurrentIndex(box.findText("largest value over depth"))
    box.activated.emit(box.currentIndex())
    assert [one.name for one in intake.proposals][:2] == ["drops t1 max", "drops t2 max"]
    intake.accept()
    qtbot.waitUntil(lambda: len(window.session.state.samples) == TIMES, timeout=WAIT)
    settle()
    assert (shown(window) == plane(0, DEPTHS - 1)).all()
    bar = window.views.area.stack_bar
    assert bar.time.isVisible() and not bar.z.isVisible()


def test_pages_of_unknown_meaning_are_asked_about(
    window: Window, write_tiff: Callable[..., Path], qtbot: QtBot
) -> None:
    values = np.array([plane(t, 0) for t in range(9)])
    path = write_tiff("movie.tif", values, photometric="minisblack", metadata=None)
    window.commands.images.preview([path])
    intake = window.views.intake
    qtbot.waitUntil(lambda: len(intake.proposals) == 9, timeout=WAIT)
    assert intake.planes.currentText() == "pages are time"
    box = intake.planes
    box.setCurrentIndex(box.findText("pages are depth"))
    box.activated.emit(box.currentIndex())
    assert intake.proposals[4].attributes["z"] == "5"
    box.setCurrentIndex(0)
    box.activated.emit(0)
    assert len(intake.proposals) == 1
    intake.accept()
    qtbot.waitUntil(lambda: window.compute.store.focused is not None, timeout=WAIT)
    assert len(window.compute.store.focused.channels) == 9


def test_pages_can_be_channels_in_turn(
    window: Window, write_tiff: Callable[..., Path], qtbot: QtBot, settle: Callable[[], None]
) -> None:
    pages = np.stack([np.full((20, 24), 10 * k, np.uint16) for k in range(8)])
    file = write_tiff("turns.tif", pages, metadata=None, photometric="minisblack")
    window.commands.images.preview([file])
    intake = window.views.intake
    qtbot.waitUntil(lambda: len(intake.proposals) == 8, timeout=WAIT)
    choose(intake.planes, "time of 2 channels")
    qtbot.waitUntil(lambda: len(intake.proposals) == 4, timeout=WAIT)
    cell = intake.table.item(0, 2)
    assert cell is not None and cell.text() == "channel 1, channel 2"
    intake.accept()
    qtbot.waitUntil(lambda: len(window.session.state.samples) == 4, timeout=WAIT)
    settle()
    window.session.focus.set(sample_id=window.session.state.samples[2].id)
    settle()
    sample = window.compute.store.focused
    assert sample is not None
    values = {name: int(plane.pixels[0, 0]) for name, plane in sample.channels.items()}
    assert values == {"channel 1": 40, "channel 2": 50}


def test_positions_of_a_file_are_stacks_of_their_own(
    window: Window, tmp_path: Path, qtbot: QtBot
) -> None:
    path = tmp_path / "stage.ome.tif"
    with tifffile.TiffWriter(path, ome=True) as file:
        for k in range(2):
            values = np.full((6, 20, 24), 10 * k, np.uint16)
            file.write(values, metadata={"axes": "TYX"}, photometric="minisblack")
    window.commands.images.preview([path])
    intake = window.views.intake
    qtbot.waitUntil(lambda: len(intake.proposals) == 12, timeout=WAIT)
    intake.accept()
    qtbot.waitUntil(lambda: len(window.session.state.samples) == 12, timeout=WAIT)
    entries = window.session.state.samples
    assert {entry.attributes["position"] for entry in entries} == {"1", "2"}
    assert [entry.sources[0].image for entry in entries] == [0] * 6 + [1] * 6


def test_values_along_the_stack_at_the_pointer(
    stack: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    drawer = stack.views.drawer
    drawer.show_tab("Along")
    panel = drawer.along
    stack.session.view.point_at((20, 15))
    settle()
    assert panel.found.positions.tolist() == [0, 30, 60, 90, 120, 150]
    assert panel.found.values.tolist() == [plane(t, 0)[15, 20] for t in range(TIMES)]
    panel.fit.setCurrentIndex(panel.fit.findData("line"))
    panel.fit.activated.emit(1)
    settle()
    assert panel.found.fit is not None
    assert panel.found.fit.parameters == pytest.approx((100, 10 / 30))
    stack.views.area.stack_bar.time.slider.setValue(2)
    panel.axis.setCurrentIndex(1)
    panel.axis.activated.emit(1)
    settle()
    assert panel.found.values.tolist() == [plane(2, z)[15, 20] for z in range(DEPTHS)]
    # The mean of a neighbourhood, where one is read.
    stack.session.focus.set_reach(3)
    settle()
    assert panel.found.values[1] == pytest.approx(plane(2, 1)[14:17, 19:22].mean())
    panel.steady.setChecked(True)
    stack.session.view.point_at((6, 6))
    settle()
    assert panel.found.values[1] == pytest.approx(plane(2, 1)[14:17, 19:22].mean())


@pytest.mark.slow
def test_the_tab_of_a_stack_has_its_room_while_another_is_looked_at(
    study: Window, tmp_path: Path, settle: Callable[[], None]
) -> None:
    drawer, position = study.views.drawer, TABS.index("Along")
    drawer.show_tab("Picks")
    settle()
    saved, _ = write_demo_study("drops", tmp_path / "drops")
    open_study(study, saved)
    settle()
    assert drawer.tabs.isTabVisible(position)
    assert drawer.tabs.tabRect(position).width() > 20


def test_without_a_stack_there_is_no_tab_for_it(study: Window) -> None:
    tabs = study.views.drawer.tabs
    names = [tabs.tabText(k) for k in range(tabs.count()) if tabs.isTabVisible(k)]
    assert "Along" not in names


def test_of_a_long_stack_the_first_planes_are_listed_and_all_are_taken(
    window: Window, write_tiff: Callable[..., Path], qtbot: QtBot
) -> None:
    values = np.arange(700, dtype=np.uint16)[:, None, None] + np.zeros((1, 4, 5), np.uint16)
    path = write_tiff("long.tif", values, photometric="minisblack", metadata=None)
    window.commands.images.preview([path])
    intake = window.views.intake
    qtbot.waitUntil(lambda: len(intake.proposals) == 700, timeout=WAIT)
    assert intake.table.rowCount() == 501
    last = intake.table.item(500, 0)
    assert last is not None and last.text() == "… and 200 more like these"
    first = intake.table.item(0, 0)
    assert first is not None
    first.setCheckState(Qt.CheckState.Unchecked)
    assert len(intake.taken()) == 699


@pytest.fixture
def followed(stack: Window, qtbot: QtBot) -> Window:
    """The stack, measured, its regions followed through time."""
    method = stack.session.state.method.changed(
        outlines=(outline(400.0),), measure=Measure(quantities=("mean", "x", "y", "pixel_count"))
    )
    stack.session.change_method("Measure places", method)
    stack.commands.measure.measure_all()
    tables = stack.session.measurements.ordered_tables
    qtbot.waitUntil(
        lambda: len(tables()) == TIMES * DEPTHS and all(one.known for one in tables()), timeout=WAIT
    )
    return stack


def test_measured_planes_get_their_tracks(followed: Window) -> None:
    measurements = followed.session.measurements
    for table in measurements.ordered_tables():
        # A track for each depth, which goes through all times.
        assert table.facts(1).attributes["track"] == table.attributes["z"]
    # A table that is measured anew is not given the tracks of the former one.
    first = followed.session.state.samples[0].id
    again = replace(measurements.tables[first], thresholds=(1.0,))
    measurements.set_table(first, again, followed.session.state.method)
    assert not measurements.ordered_tables()[0].known


def test_a_channel_of_many_planes_is_the_same_on_each(
    stack: Window, settle: Callable[[], None]
) -> None:
    card = stack.views.look.channels
    card.set_folded(False)
    card.start.setCurrentIndex(card.start.findData("projection"))
    card.new_button.click()
    assert [card.over.along.itemText(k) for k in range(2)] == ["time", "depth"]
    card.over.how.setCurrentIndex(card.over.how.findData("median"))
    card.over.last.set_value(5)
    card.name.setText("still")
    card.finish()
    settle()
    reading = stack.session.state.method.reading
    assert reading.derived[0].formula == "gray, median over time 1–5"
    assert stack.session.focus.channel == "still"
    for sample_id in (1, DEPTHS + 1):
        stack.session.focus.set(sample_id=sample_id)
        settle()
        made = stack.compute.store.samples[sample_id].channels["still"]
        np.testing.assert_array_equal(made.pixels, plane(2, 0))


def test_followed_regions_have_curves_related_to_their_baselines(
    followed: Window, settle: Callable[[], None]
) -> None:
    followed.session.go_to("compare")
    panel = followed.views.compare
    panel.shown.set_folded(False)
    settle()
    choose(panel.what.by, "sample:time (s)")
    settle()
    panel.shown.kind.button("series").click()
    settle()
    assert panel.shown.curves.isVisibleTo(panel.shown)
    choose(panel.shown.curves, "region")
    settle()
    panel.normalise.set_folded(False)
    choose(panel.normalise.by, "baseline")
    settle()
    panel.normalise.how.setCurrentIndex(1)
    panel.normalise.how.activated.emit(1)
    panel.normalise.last.entered.emit(panel.normalise.last.value or 0.0)
    settle()
    comparison = panel.comparison
    assert comparison is not None
    # A depth is followed by itself: four regions, each of which gains 10 a time.
    assert len(comparison.curves) == DEPTHS
    for curve in comparison.curves:
        np.testing.assert_allclose(curve.y, 10.0 * np.arange(TIMES), atol=1e-9)
    assert panel.normalise.first.isVisibleTo(panel.normalise)
