"""The whole job through the real window, from opening files to the exported table."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pandas
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QGuiApplication
from pytestqt.qtbot import QtBot

from rilievo.core.batch import measured
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Method
from rilievo.core.method.step_edits import parameters_for, samples_apart
from rilievo.core.table.table import region_frame
from rilievo.demo.lipid import CROWDED_FIELD, CROWDED_PATCH, PATCH, recovery
from rilievo.ui.shell.window import Window
from tests.core.helpers.measuring import run_batch
from tests.ui.conftest import WAIT
from tests.ui.opening import open_study

pytestmark = pytest.mark.slow


@pytest.fixture
def dressed() -> bool:
    """Sizes are those that people see."""
    return True


def drag(qtbot: QtBot, window: Window, start: tuple[int, int], end: tuple[int, int]) -> None:
    """Drag the pointer over the picture from one image pixel to another."""
    picture = window.views.area.picture
    positions = [picture.to_widget(*index).toPoint() for index in (start, end)]
    qtbot.mouseMove(picture, positions[0])
    qtbot.mousePress(picture, Qt.MouseButton.LeftButton, pos=positions[0])
    qtbot.mouseMove(picture, (positions[0] + positions[1]) / 2)
    qtbot.mouseMove(picture, positions[1])
    qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=positions[1])


def test_from_files_to_the_exported_table(
    window: Window, lipid: Path, qtbot: QtBot, settle: Callable[[], None], tmp_path: Path
) -> None:
    # She opens the twelve files; groups follow from their names.
    images = sorted(lipid.parent.glob("*.ome.tif"))
    window.commands.images.open_any(images)
    qtbot.waitUntil(lambda: len(window.session.state.samples) == 12, timeout=WAIT)
    settle()
    assert list(window.session.state.groups) == ["low-nitrogen", "replete", "starved"]
    assert window.views.area.chips.isVisible()

    # She draws a background patch where no cells are.
    window.session.go_to("correct")
    step = window.views.correct.add_step("background.patch")
    settle()
    window.views.area.picture.fit()
    drag(qtbot, window, (PATCH.x, PATCH.y), (PATCH.x + 89, PATCH.y + 89))
    settle()
    (patch,) = window.views.correct.marks.shown
    assert abs(patch.x - PATCH.x) <= 1
    assert abs(patch.width - PATCH.width) <= 3
    # One field has a cell there: its patch is moved, for that sample only.
    crowded = next(e for e in window.session.state.samples if e.name == CROWDED_FIELD)
    window.session.focus.set(sample_id=crowded.id)
    settle()
    window.views.correct.cards[step].scope.button("one").click()
    middle = (patch.x + patch.width // 2, patch.y + patch.height // 2)
    target = (CROWDED_PATCH.x + 45, CROWDED_PATCH.y + 45)
    drag(qtbot, window, middle, target)
    settle()
    assert list(samples_apart(window.session.state.method, step)) == [CROWDED_FIELD]
    assert parameters_for(window.session.state.method, step, None).model_dump()["patches"] == (
        patch.model_dump(),
    )

    # She thresholds the cells on chlorophyll: automatic first, then by hand in the Ridges.
    window.session.go_to("outline")
    settle()
    automatic = {tile.name: tile.region_count for tile in window.views.drawer.tiles}
    window.views.ridges.drag_marker("threshold", to=340.0)
    settle()
    assert window.session.state.method.outline.threshold.way == "hand"
    by_hand = {tile.name: tile.region_count for tile in window.views.drawer.tiles}
    assert set(by_hand) == set(automatic)
    window.views.outline.clean.add_step("split_distance")
    window.views.outline.clean.add_step("keep")
    for name, value in (("quantity", "area_unit"), ("lower", 20.0), ("upper", 400.0)):
        window.views.outline.clean.change(2, name, value)
    settle()

    # She measures all samples and sees that starved cells hold more lipid.
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        window.views.header.run_button.click()
    settle()
    assert window.session.stage == "measure"
    assert len(window.session.measurements.tables) == 12
    window.session.go_to("compare")
    qtbot.waitUntil(lambda: window.views.comparison.plot.is_drawn, timeout=WAIT)
    comparison = window.views.compare.comparison
    assert comparison is not None
    assert comparison.channel == "lipid dye"
    means = {statistics.group: statistics.mean for statistics in comparison.statistics}
    assert means["starved"] > 3 * means["replete"]
    window.commands.compare.save_plot(tmp_path / "plot.svg")
    window.commands.compare.save_plot(tmp_path / "plot.png")

    # She exports the table, the method and the study.
    window.commands.measure.save_table(tmp_path / "regions.csv")
    window.commands.method_file.save_method(tmp_path / "method.json")
    assert window.commands.study.save_to(tmp_path / "lipid.rilievo")
    settle()
    for name in ("plot.svg", "plot.png"):
        assert (tmp_path / name).stat().st_size > 10_000

    # The exported numbers are near the truth …
    table = pandas.read_csv(
        tmp_path / "regions.csv", dtype={"marks": str, "replicate": str}
    ).fillna({"marks": ""})
    truth = pandas.read_csv(lipid.parent / "truth" / "cells.csv")
    for row in recovery(truth, table):
        assert row.found / row.cells >= 0.97
        assert row.median_deviation < 3.0
    # … and the same, to the last digit, as without the window.
    items = samples_for(images)
    outcomes = run_batch(items, Method.load(tmp_path / "method.json"))
    without = region_frame(measured(outcomes)).to_pandas()
    exported = table.sort_values(["sample", "channel", "region"]).reset_index(drop=True)
    expected = without.sort_values(["sample", "channel", "region"]).reset_index(drop=True)
    pandas.testing.assert_frame_equal(exported, expected, check_exact=True, check_dtype=False)


def test_the_study_comes_back_with_its_measurements(
    study: Window, qtbot: QtBot, settle: Callable[[], None], tmp_path: Path
) -> None:
    with qtbot.waitSignal(study.compute.batch.measured, timeout=WAIT):
        study.commands.measure.measure_all()
    before = [table.table for table in study.session.measurements.ordered_tables()]
    assert study.commands.study.save_to(tmp_path / "again.rilievo")
    state = study.session.state
    study.session.clear()
    assert study.session.measurements.tables == {}
    open_study(study, tmp_path / "again.rilievo")
    settle()
    assert study.session.state.method == state.method
    after = [table.table for table in study.session.measurements.ordered_tables()]
    assert all(a.equals(b) for a, b in zip(after, before, strict=True))
    assert study.views.drawer.measurements.rows.rowCount() == sum(len(t) for t in before)


def test_copying_puts_a_table_on_the_clipboard(
    study: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    with qtbot.waitSignal(study.compute.batch.measured, timeout=WAIT):
        study.commands.measure.measure_one()
    study.commands.measure.copy_table()
    settle()
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    lines = clipboard.text().splitlines()
    assert lines[0].split("\t")[:4] == ["sample", "file", "group", "channel"]
    assert len(lines) == 1 + study.views.drawer.measurements.rows.rowCount()


@pytest.mark.parametrize("stage", ["look", "correct", "outline", "measure", "compare"])
def test_every_stage_can_be_visited_with_nothing_open(
    window: Window, stage: str, qtbot: QtBot
) -> None:
    window.session.go_to(stage)
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    assert window.session.stage == stage
    at = window.views.header.rail.waypoint("look").toPoint()
    qtbot.mouseClick(window.views.header.rail, Qt.MouseButton.LeftButton, pos=at + QPoint(0, 10))
    assert window.session.stage == "look"
