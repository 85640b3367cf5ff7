"""Table, plot and picture speak of the same thing."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from rilievo.ui.shell.window import Window
from tests.outlines import clean_up
from tests.ui.conftest import WAIT, choose


def column_of(window: Window, title: str) -> int:
    rows = window.views.drawer.measurements.rows
    titles = [rows.headerData(i, Qt.Orientation.Horizontal) for i in range(rows.columnCount())]
    return next(i for i, text in enumerate(titles) if text.startswith(title))


def test_a_row_selects_its_region_and_back(measured: Window) -> None:
    table = measured.views.drawer.measurements
    row = next(
        r for r in range(table.rows.rowCount()) if table.rows.sample_and_region(r)[0] == "starved-2"
    )
    table.view.selectRow(row + 3)
    sample, region = table.rows.sample_and_region(row + 3)
    assert measured.session.focus.entry is not None
    assert measured.session.focus.entry.name == sample
    assert measured.session.focus.regions == {region}
    measured.session.focus.set(regions={region + 1})
    selection = table.view.selectionModel()
    assert selection is not None
    chosen = {table.rows.sample_and_region(i.row()) for i in selection.selectedRows()}
    assert chosen == {(sample, region + 1)}
    assert len(selection.selectedRows()) == 2, "one row a channel"


def test_sorting_by_a_number(measured: Window) -> None:
    table = measured.views.drawer.measurements
    column = column_of(measured, "Mean")
    table.sort_by(column, also=False)
    table.sort_by(column, also=False)
    shown = [
        float(table.rows.data(table.rows.index(r, column)).replace("\u202f", ""))
        for r in range(table.rows.rowCount())
    ]
    assert shown == sorted(shown, reverse=True)
    everything = np.concatenate(
        [
            t.column(c, "mean")
            for t in measured.session.measurements.ordered_tables()
            for c in t.channels
        ]
    )
    assert shown[0] == pytest.approx(everything.max(), abs=0.06)
    table.sort_by(0, also=False)
    names = [table.rows.sample_and_region(r)[0] for r in range(table.rows.rowCount())]
    assert names == sorted(names)


def test_filters_of_the_table(measured: Window) -> None:
    table = measured.views.drawer.measurements
    everything = table.rows.rowCount()
    table.channel.setCurrentText("lipid dye")
    assert table.rows.rowCount() == everything // 2
    table.only_focused.setChecked(True)
    one = measured.session.measurements.tables[measured.session.focus.sample_id or -1]
    assert table.rows.rowCount() == one.ids.size


def test_only_selected_rows_are_copied(measured: Window) -> None:
    table = measured.views.drawer.measurements
    assert len(table.selected_or_all()[1]) == table.rows.rowCount()
    measured.session.focus.set(regions={2})
    _, rows = table.selected_or_all()
    assert {(sample, region) for sample, region, _ in rows} == {("replete-1", 2)}


@pytest.mark.slow
def test_measurements_follow_a_change_of_the_method(
    measured: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    before = sum(table.ids.size for table in measured.session.measurements.tables.values())
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        measured.compute.session.change_class("fewer", clean=clean_up(True, 90.0))
    settle()
    assert not measured.session.measurements.is_stale
    assert sum(table.ids.size for table in measured.session.measurements.tables.values()) < before


def test_slow_measurements_are_marked_instead(measured: Window, settle: Callable[[], None]) -> None:
    measured.compute.batch.follows = False
    measured.compute.session.change_class("fewer", clean=clean_up(True, 90.0))
    settle()
    assert measured.session.measurements.is_stale
    assert "method has changed" in measured.views.drawer.measurements.about.text()


@pytest.mark.slow
def test_choosing_quantities_changes_the_table(
    measured: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        measured.views.measure.quantities.choose("cv", on=True)
    settle()
    assert column_of(measured, "CV") > 0
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        measured.views.measure.quantities.choose("bbox_x", on=False)
    assert "bbox_x" not in measured.session.state.method.measure.quantities


@pytest.mark.slow
def test_a_dot_leads_to_its_region(measured: Window, qtbot: QtBot) -> None:
    measured.session.go_to("compare")
    plot = measured.views.comparison.plot
    qtbot.waitUntil(lambda: plot.is_drawn and measured.jobs.idle, timeout=WAIT)
    dot = next(d for d in plot.dots if d.sample == "starved-4" and d.region == 0)
    ratio = plot.devicePixelRatioF()
    at = QPoint(round(dot.x / ratio), round(dot.y / ratio))
    qtbot.mouseClick(plot, Qt.MouseButton.LeftButton, pos=at)
    assert measured.session.focus.entry is not None
    assert measured.session.focus.entry.name == "starved-4"


@pytest.mark.slow
def test_group_table_and_another_quantity(measured: Window, qtbot: QtBot) -> None:
    measured.session.go_to("compare")
    qtbot.waitUntil(lambda: measured.views.comparison.plot.is_drawn, timeout=WAIT)
    groups = measured.views.drawer.groups
    assert [groups.item(r, 0).text() for r in range(3)] == ["replete", "low-nitrogen", "starved"]
    lines = groups.as_text().splitlines()
    assert len(lines) == 4
    choose(measured.views.compare.what.quantities[0], "area_unit")
    qtbot.waitUntil(
        lambda: (
            measured.views.compare.comparison is not None
            and measured.views.compare.comparison.quantity == "area_unit"
        ),
        timeout=WAIT,
    )
    assert "× replete" in lines[0]


@pytest.mark.slow
def test_changing_a_group_changes_the_comparison(measured: Window, qtbot: QtBot) -> None:
    measured.session.go_to("compare")
    qtbot.waitUntil(lambda: measured.views.comparison.plot.is_drawn, timeout=WAIT)
    groups = {entry.id: ("All", entry.replicate) for entry in measured.session.state.samples}
    measured.session.change("one group", measured.session.state.with_groups(groups))
    qtbot.waitUntil(
        lambda: (
            measured.views.compare.comparison is not None
            and measured.views.compare.comparison.groups == ("All",)
        ),
        timeout=WAIT,
    )
    assert measured.views.drawer.groups.rowCount() == 1
