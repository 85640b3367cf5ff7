"""Measure in the window: table, origin, prints, plots, columns, exports, stars."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from rilievo.core.measure import QUANTITIES
from rilievo.core.measure.region_flags import flag
from rilievo.core.table.table import RegionTable
from rilievo.ui.panels.measurements_panel import AT_ONCE
from rilievo.ui.panels.table.rows_model import IDENTITY
from rilievo.ui.session.sample_edits import add_pick, change_picks
from rilievo.ui.shell.window import Window
from tests.stars import moffat_star
from tests.ui.conftest import WAIT, choose

pytestmark = pytest.mark.slow

Settle = Callable[[], None]


def line_of(window: Window, sample: str, region: int, channel: str) -> int:
    rows = window.views.drawer.measurements.rows
    for line in range(rows.rowCount()):
        row = rows.row_at(line)
        if row is not None and (
            rows.all.sample(row), int(rows.all.region[row]), rows.all.channel(row)
        ) == (sample, region, channel):  # fmt: skip
            return line
    raise AssertionError("no such row")


def column(window: Window, key: str) -> int:
    return window.views.drawer.measurements.rows.keys.index(key) + len(IDENTITY)


# -- the table


def test_sorting_by_several_columns(measured: Window) -> None:
    table = measured.views.drawer.measurements
    table.sort_by(2, also=False)
    table.sort_by(column(measured, "area"), also=True)
    table.sort_by(column(measured, "area"), also=True)
    rows = table.rows.all
    shown = table.rows.shown.rows
    groups = [rows.text("group", row) for row in shown.tolist()]
    assert groups == sorted(groups)
    for name in set(groups):
        own = rows.columns["area"][shown][np.array(groups) == name]
        assert (np.diff(own) <= 0).all()
    titles = [
        table.rows.headerData(c, Qt.Orientation.Horizontal) for c in (2, column(measured, "area"))
    ]
    assert titles == ["Group ▲1", "Area (px²) ▼2"]


def test_filters_and_groups(measured: Window) -> None:
    table = measured.views.drawer.measurements
    table.filter.setText('area > 800 and group = "starved"')
    table.filter.editingFinished.emit()
    rows = table.rows.all
    shown = table.rows.shown.rows
    assert 0 < shown.size < rows.count
    assert (rows.columns["area"][shown] > 800).all()
    assert "of 336 rows" in table.about.text()
    table.group.setCurrentIndex(table.group.findData("sample"))
    lines = table.rows.rowCount()
    totals = [k for k in range(lines) if table.rows.row_at(k) is None]
    assert len(totals) == len({rows.sample(r) for r in shown.tolist()})
    first = table.rows.data(table.rows.index(totals[0], 0))
    own = [r for r in shown.tolist() if rows.sample(r) == first]
    mean = table.rows.data(table.rows.index(totals[0], column(measured, "area")))
    assert float(mean.replace("\u202f", "")) == pytest.approx(
        rows.columns["area"][own].mean(), abs=0.06
    )
    table.filter.setText("nothing > 3")
    table.filter.editingFinished.emit()
    assert "no column “nothing”" in table.about.text()
    table.filter.setText("starved-1")
    table.filter.editingFinished.emit()
    assert {rows.sample(r) for r in table.rows.shown.rows.tolist()} == {"starved-1"}


def test_a_range_is_brushed_in_the_header(measured: Window, qtbot: QtBot) -> None:
    table = measured.views.drawer.measurements
    measured.views.drawer.show_tab("Measurements")
    header, position = table.table.header, column(measured, "area")
    assert position in header.histograms
    table.view.setColumnWidth(position, 120)
    left = header.sectionViewportPosition(position)
    down = header.height() - 6
    viewport = header.viewport()
    qtbot.mousePress(viewport, Qt.MouseButton.LeftButton, pos=QPointF(left + 40, down).toPoint())
    qtbot.mouseMove(viewport, QPointF(left + 80, down).toPoint())
    qtbot.mouseRelease(viewport, Qt.MouseButton.LeftButton, pos=QPointF(left + 80, down).toPoint())
    (key, low, high) = table.rows.query.ranges[0]
    assert key == "area"
    values = table.rows.all.columns["area"]
    assert values.min() < low < high < values.max()
    shown = values[table.rows.shown.rows]
    assert shown.size == ((values >= low) & (values <= high)).sum() > 0
    table.brush(position, None)
    assert table.rows.shown.rows.size == values.size


def test_a_million_rows_are_arranged_off_the_interface_thread(
    measured: Window, qtbot: QtBot, settle: Settle
) -> None:
    count = AT_ONCE + 5
    values = np.random.default_rng(1).normal(0, 1, count)
    first = measured.session.state.samples[0]
    big = RegionTable(
        first.name, "", "", ("cell",), np.arange(1, count + 1), {"a": {"mean": values}}
    )
    measured.session.measurements.tables = {first.id: big}
    measured.session.measurements.changed.emit()
    settle()
    table = measured.views.drawer.measurements
    assert table.rows.rowCount() == count
    table.sort_by(len(IDENTITY), also=False)
    settle()
    order = table.rows.all.columns["mean"][table.rows.shown.rows]
    assert (np.diff(order) >= 0).all()


def test_number_scale_and_digits_change_what_is_printed(measured: Window) -> None:
    table = measured.views.drawer.measurements
    line = line_of(measured, "starved-2", 3, "lipid dye")
    at = table.rows.index(line, column(measured, "mean"))
    native = measured.session.measurements.ordered_tables()
    value = next(t for t in native if t.sample == "starved-2").column("lipid dye", "mean")[2]
    table.digits.setCurrentIndex(table.digits.findData("3"))
    assert float(table.rows.data(at).replace("\u202f", "")) == pytest.approx(value, rel=5e-3)
    table.digits.setCurrentIndex(0)
    measured.session.view.choose(scale="unit")
    assert float(table.rows.data(at)) == pytest.approx(value / 4095, abs=6e-6)
    assert "0–1" in table.rows.headerData(column(measured, "mean"), Qt.Orientation.Horizontal)
    measured.session.view.choose(scale="native")


def test_rows_with_a_mark(measured: Window) -> None:
    table = measured.views.drawer.measurements
    table.mark.setCurrentIndex(table.mark.findData("saturated inside"))
    rows = table.rows.all
    shown = table.rows.shown.rows
    assert shown.size == np.count_nonzero(rows.flags & flag("saturated inside")) > 0
    text = table.rows.data(table.rows.index(0, 4))
    assert "saturated inside" in text


# -- origin


def test_a_click_on_a_number_shows_its_origin(
    measured: Window, qtbot: QtBot, settle: Settle
) -> None:
    measured.session.go_to("measure")
    table = measured.views.drawer.measurements
    line = line_of(measured, "starved-2", 7, "lipid dye")
    index = table.rows.index(line, column(measured, "median"))
    table.view.scrollTo(index)
    at = table.view.visualRect(index).center()
    qtbot.mouseClick(table.view.viewport(), Qt.MouseButton.LeftButton, pos=at)
    settle()
    assert measured.pages.origin_shown
    origin = measured.views.origin.origin
    assert origin is not None
    assert (origin.sample, origin.channel, origin.quantity.key) == (
        "starved-2", "lipid dye", "median",
    )  # fmt: skip
    assert origin.value == np.median(origin.signal)
    assert measured.session.focus.regions == {7}
    assert measured.session.focus.channel == "lipid dye"
    measured.views.origin.copy_text()
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    assert "Median of cell 7, lipid dye" in clipboard.text()
    measured.views.origin.back.click()
    assert not measured.pages.origin_shown


def test_a_number_of_a_report_is_found_by_its_name(measured: Window, settle: Settle) -> None:
    measured.session.go_to("compare")
    measured.commands.measure.go_to_number("low-nitrogen-1 / cell 2 / chlorophyll / sd")
    settle()
    origin = measured.views.origin.origin
    assert measured.pages.origin_shown
    assert origin is not None
    assert origin.title == "SD of cell 2, chlorophyll"
    for text, said in (
        ("nowhere / cell 1", "No measured sample is called “nowhere”"),
        ("starved-1 / cell 999", "has no region “cell 999”"),
        ("starved-1 / cell 1 / red", "“red” was not measured"),
        ("starved-1 / cell 1 / chlorophyll / beauty", "“beauty” is no quantity"),
    ):
        measured.commands.measure.go_to_number(text)
        assert said in measured.views.notice.text


# -- chosen regions, prints, plots


def test_several_regions_have_joint_statistics(measured: Window, settle: Settle) -> None:
    measured.session.go_to("measure")
    ids = {e.name: e.id for e in measured.session.state.samples}
    measured.session.focus.select_regions({ids["starved-1"]: {1, 2}, ids["starved-2"]: {3}})
    settle()
    card = measured.views.measure.selected
    assert card.isVisibleTo(measured.views.measure)
    tables = {t.sample: t for t in measured.session.measurements.ordered_tables()}
    channel = measured.session.focus.channel or "chlorophyll"
    count = tables["starved-1"].column(channel, "pixel_count")[:2].sum()
    count += tables["starved-2"].column(channel, "pixel_count")[2]
    assert card.values["pixel_count"].text().replace("\u202f", "") == str(int(count))
    chosen = measured.views.drawer.measurements.selected_or_all()[1]
    assert {(sample, region) for sample, region, _ in chosen} == {
        ("starved-1", 1), ("starved-1", 2), ("starved-2", 3),
    }  # fmt: skip
    measured.session.focus.set(regions={1})
    settle()
    assert not card.isVisibleTo(measured.views.measure)


def test_contact_prints_are_sorted_chosen_and_rejected(
    measured: Window, qtbot: QtBot, settle: Settle
) -> None:
    measured.session.go_to("measure")
    measured.views.drawer.show_tab("Prints")
    prints = measured.views.drawer.prints
    prints.key.setCurrentIndex(prints.key.findData("area"))
    prints.falling.setChecked(True)
    settle()
    rows = measured.views.drawer.measurements.rows.all
    areas = [rows.columns["area"][cell.row] for cell in prints.cells]
    assert areas == sorted(areas, reverse=True)
    assert len(prints.cells) == sum(
        t.ids.size for t in measured.session.measurements.tables.values()
    )
    prints.grid.grab()
    settle()
    assert (prints.cells[0].sample, prints.cells[0].region) in prints.images
    box = prints.box_of(1).center()
    qtbot.mouseClick(prints.grid, Qt.MouseButton.LeftButton, pos=box)
    qtbot.mouseClick(
        prints.grid, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier,
        prints.box_of(2).center(),
    )  # fmt: skip
    gone = {(c.sample, c.region) for c in prints.cells[1:3]}
    names = {e.id: e.name for e in measured.session.state.samples}
    chosen = {
        (names[i], r)
        for i, regions in measured.session.focus.selected_regions().items()
        for r in regions
    }
    assert chosen == gone
    before = sum(t.ids.size for t in measured.session.measurements.tables.values())

    def count() -> int:
        return sum(t.ids.size for t in measured.session.measurements.tables.values())

    for change, wanted in (
        (lambda: qtbot.keyClick(prints.grid, Qt.Key.Key_Delete), before - 2),
        (measured.session.undo_stack.undo, before),
    ):
        change()
        settle()
        # Where measuring takes long, results do not follow by themselves.
        if measured.session.measurements.is_stale:
            measured.commands.measure.measure_all()
        qtbot.waitUntil(lambda n=wanted: count() == n, timeout=WAIT)
    settle()


@pytest.mark.parametrize("kind", ["scatter", "histogram", "strip"])
def test_brushing_a_plot_chooses_regions(measured: Window, settle: Settle, kind: str) -> None:
    measured.session.go_to("measure")
    measured.views.drawer.show_tab("Plots")
    plots = measured.views.drawer.plots
    plots.kind.setCurrentIndex(plots.kind.findData(kind))
    plots.across.setCurrentIndex(plots.across.findData("area"))
    plots.upwards.setCurrentIndex(plots.upwards.findData("mean"))
    settle()
    rows = measured.views.drawer.measurements.rows.all
    means = rows.columns["mean"]
    level = float(np.sort(means)[-9])
    if kind == "histogram":
        plots.brush(QRectF(level, 0, means.max() - level + 1, 5))
    else:
        plots.brush(QRectF(-1e6, level, 2e6, means.max() - level + 1))
    names = {e.id: e.name for e in measured.session.state.samples}
    chosen = {
        (names[i], r)
        for i, regions in measured.session.focus.selected_regions().items()
        for r in regions
    }
    wanted = {(rows.sample(k), int(rows.region[k])) for k in np.flatnonzero(means >= level)}
    assert chosen == wanted


def test_summary_stands_beside(measured: Window, settle: Settle) -> None:
    measured.session.go_to("measure")
    measured.views.drawer.show_tab("Summary")
    settle()
    summary = measured.views.drawer.summary
    assert summary.rowCount() == 2 * len(measured.session.state.samples)
    titles = [summary.horizontalHeaderItem(c).text() for c in range(summary.columnCount())]
    assert "Mean of all pixels (counts)" in titles
    summary.selectRow(4)
    assert measured.session.focus.entry is not None
    assert measured.session.focus.entry.name == summary.item(4, 0).text()


# -- quantities and columns


def test_quantities_by_search_set_and_own_set(
    measured: Window, qtbot: QtBot, settle: Settle
) -> None:
    measured.session.go_to("measure")
    card = measured.views.measure.quantities
    card.search.setText("signal to noise")
    texts = [card.list.item(k).text() for k in range(card.list.count())]
    assert texts == ["Intensity", "Signal to noise"]
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        card.list.item(1).setCheckState(Qt.CheckState.Checked)
    settle()
    assert "snr" in measured.session.state.method.measure.quantities
    card.list.setCurrentRow(1)
    assert "mean and sd of the ring" in card.about.text()
    card.search.setText("p37")
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        card.list.item(1).setCheckState(Qt.CheckState.Checked)
    settle()
    assert "p37" in measured.views.drawer.measurements.rows.keys
    card.keep_set("mine")
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        card.choose_set("Shape")
    settle()
    shapes = [q.key for q in QUANTITIES.values() if q.family == "shape"]
    assert list(measured.session.state.method.measure.quantities) == shapes
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        card.choose_set("mine")
    assert "p37" in measured.session.state.method.measure.quantities


def test_derived_columns_follow_without_measuring_again(measured: Window, settle: Settle) -> None:
    measured.session.go_to("measure")
    card = measured.views.measure.derived
    card.set_folded(False)
    card.name.setText("density")
    card.formula.setText("sum / area_unit")
    card.plus.click()
    settle()
    assert not measured.session.measurements.is_stale
    rows = measured.views.drawer.measurements.rows
    assert rows.keys[-1] == "density"
    expected = rows.all.columns["sum"] / rows.all.columns["area_unit"]
    np.testing.assert_allclose(rows.all.columns["density"], expected)
    assert rows.all.heading("density") == "density (counts/µm²)"
    card.name.setText("relative")
    card.formula.setText('mean / mean("replete")')
    card.add_typed()
    settle()
    group = [rows.all.text("group", k) == "replete" for k in range(rows.all.count)]
    channel = [rows.all.channel(k) == "chlorophyll" for k in range(rows.all.count)]
    own = rows.all.columns["relative"][np.array(group) & np.array(channel)]
    assert own.mean() == pytest.approx(1)
    card.formula.setText("mean +")
    card.add_typed()
    assert "at character" in card.say.text()
    measured.session.go_to("compare")
    settle()
    panel = measured.views.compare
    choose(panel.what.quantities[0], "density")
    settle()
    assert panel.comparison is not None
    assert "density" in panel.comparison.label
    measured.session.undo_stack.undo()
    measured.session.undo_stack.undo()
    settle()
    assert "relative" not in rows.keys


def test_compartments_of_two_classes(measured: Window, qtbot: QtBot, settle: Settle) -> None:
    panel = measured.views.outline
    measured.session.go_to("outline")
    panel.classes.add_class("threshold")
    panel.classes.name.setText("droplet")
    panel.classes.take_name()
    measured.compute.session.change_class("dye", channel="lipid dye")
    panel.level.take_way("hand")
    panel.level.threshold.enter("1600")
    settle()
    measured.session.go_to("measure")
    card = measured.views.measure.pairs
    card.set_folded(False)
    settle()
    card.inner.setCurrentText("droplet")
    card.outer.setCurrentText("cell")
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        card.add_chosen()
        measured.commands.measure.measure_all()
    settle()
    rows = measured.views.drawer.measurements.rows
    key = "droplet/cell mean ratio"
    assert key in rows.keys
    ratio = rows.all.columns[key]
    assert np.isfinite(ratio).any()
    droplets = rows.all.texts("class").where(lambda text: text == "droplet")
    dye = rows.all.texts("channel").where(lambda text: text == "lipid dye")
    inside = ratio[droplets & dye & np.isfinite(ratio)]
    assert (inside > 1).all()
    card.outer.setCurrentText("droplet")
    card.add_chosen()
    assert "two different classes" in card.say.text()


# -- exports


@pytest.mark.parametrize("suffix", [".csv", ".xlsx", ".json", ".parquet"])
def test_the_table_is_saved(measured: Window, tmp_path: Path, settle: Settle, suffix: str) -> None:
    path = tmp_path / f"table{suffix}"
    measured.commands.measure.save_table(path, as_wide=True)
    settle()
    rows = sum(t.ids.size for t in measured.session.measurements.tables.values())
    if suffix == ".json":
        found = pd.DataFrame(json.loads(path.read_text("utf-8"))["rows"])
    else:
        read = {".csv": pd.read_csv, ".xlsx": pd.read_excel, ".parquet": pd.read_parquet}
        found = read[suffix](path)
    assert len(found) == rows
    expected = np.concatenate(
        [t.column("lipid dye", "mean") for t in measured.session.measurements.ordered_tables()]
    )
    np.testing.assert_allclose(found["lipid dye: mean"], expected)
    if suffix == ".csv":
        metadata = json.loads((tmp_path / "table.metadata.json").read_text("utf-8"))
        assert all(len(file["sha256"]) == 64 for file in metadata["files"])


def test_a_folder_that_cannot_be_written_to_is_named(
    measured: Window, tmp_path: Path, settle: Settle
) -> None:
    measured.commands.measure.save_table(tmp_path / "nowhere" / "table.csv")
    settle()
    assert "choose a folder you may write to" in measured.views.notice.text


# -- calibration


def test_calibration_from_picks_with_residuals(study: Window, settle: Settle) -> None:
    study.session.go_to("correct")
    panel = study.views.correct
    step = panel.add_step("curve.calibrate")
    settle()
    card = panel.cards[step]
    field = card.form.fields["points"]
    field.picks.click()
    settle()
    assert "has no pick" in study.views.notice.text
    study.session.go_to("look")
    for position, value in (((60, 60), "0"), ((300, 300), "0.5 mg"), ((500, 200), "1,5")):
        add_pick(study.session, *position)
        change_picks(study.session, "name", [study.session.state.method.picks[-1].number],
                                 specimen=value)  # fmt: skip
    study.session.go_to("correct")
    settle()
    field.picks.click()
    settle()
    points = study.session.state.method.steps[-1].parameters.points
    assert [point.value for point in points] == [0, 0.5, 1.5]
    field.set_point(3, 70_000.0, 12.0)
    settle()
    fields = card.form.fields
    fields["unit"].entered.emit("mg/ml")
    settle()
    assert field.table.rowCount() == 5
    # Typing a value leaves the intensity as it was read, though it is shown rounded.
    read = study.session.state.method.steps[-1].parameters.points[1].intensity
    field.table.item(1, 1).setText("0.75")
    settle()
    point = study.session.state.method.steps[-1].parameters.points[1]
    assert (point.intensity, point.value) == (read, 0.75)
    residual = field.table.item(0, 3)
    assert residual is not None
    assert residual.text() not in ("", "–")
    assert field.text.text().startswith("mg/ml = ")
    assert "R²" in field.text.text()


# -- stars


@pytest.fixture
def stars(
    window: Window, write_tiff: Callable[..., Path], measure_stars: Callable[..., None]
) -> Window:
    """Three nights of twenty stars; the first one brightens."""
    rng = np.random.default_rng(3)
    positions = []
    while len(positions) < 20:
        x, y = rng.uniform(30, 220, 2)
        if all(np.hypot(x - a, y - b) > 30 for a, b in positions):
            positions.append((x, y))
    light = rng.uniform(2e4, 1e5, 20)
    paths = []
    for night in range(3):
        frame = rng.normal(500, 5, (250, 250))
        for k, (x, y) in enumerate(positions):
            flux = light[k] * (1 + 0.3 * night if k == 0 else 1)
            frame += moffat_star((250, 250), x + night, y - 2 * night, flux, 3.5, fine=3)
        paths.append(write_tiff(f"night-{night}.tif", frame.round().astype(np.uint16)))
    measure_stars(paths)
    return window


def test_stars_are_found_explained_and_measured(stars: Window, settle: Settle) -> None:
    regions = stars.compute.regions.focused
    assert regions is not None
    assert regions.count >= 18
    table = stars.session.measurements.tables[stars.session.focus.sample_id or -1]
    assert np.nanmedian(table.column("gray", "fwhm")) == pytest.approx(3.5, rel=0.03)
    stars.session.go_to("outline")
    panel = stars.views.outline
    panel.stars.form.fields["isolation"].entered.emit(60.0)
    settle()
    assert "blended" in panel.say.text()
    panel.stars.form.fields["radius"].entered.emit(8.0)
    panel.stars.form.fields["sky_inner"].entered.emit(2.0)
    assert "sky ring outside of the aperture" in panel.say.text()


def test_the_star_panel_and_its_circles(stars: Window, qtbot: QtBot, settle: Settle) -> None:
    stars.session.go_to("measure")
    stars.views.drawer.show_tab("Star")
    panel = stars.views.drawer.star
    assert panel.look is None
    regions = stars.compute.regions.focused
    assert regions is not None
    region = int(regions.ids[5])
    stars.session.focus.set(regions={region})
    settle()
    assert panel.look is not None
    table = stars.session.measurements.tables[stars.session.focus.sample_id or -1]
    assert panel.look.stars.flux[0] == pytest.approx(table.column("gray", "flux")[5])
    picture = stars.views.area.picture
    x, y = regions.centres[5]
    picture.zoom_to(4.0)
    picture.centre_on(float(x), float(y))
    settle()
    start = picture.to_widget(float(x) + 8, float(y)).toPoint()
    end = picture.to_widget(float(x) + 10, float(y)).toPoint()
    with qtbot.waitSignal(stars.compute.batch.measured, timeout=WAIT):
        qtbot.mousePress(picture, Qt.MouseButton.LeftButton, pos=start)
        qtbot.mouseMove(picture, end)
        qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=end)
    settle()
    assert stars.session.focus.outline.star.radius == pytest.approx(10, abs=0.5)
    panel.set_radius(6.0)
    settle()
    assert stars.session.focus.outline.star.radius == 6.0
    stars.session.undo_stack.undo()
    settle()
    assert stars.session.focus.outline.star.radius == pytest.approx(10, abs=0.5)
    panel.set_radius(6.0)
    settle()
    qtbot.keyClick(panel.growth, Qt.Key.Key_Right)
    settle()
    assert stars.session.focus.outline.star.radius == 6.5
    qtbot.keyClick(panel.growth, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert stars.session.focus.outline.star.radius == 6.4
    assert panel.growth.accessibleDescription() == "aperture of 6.4 pixels"


def test_field_and_light_curve(stars: Window, tmp_path: Path, settle: Settle) -> None:
    stars.session.go_to("measure")
    stars.views.drawer.show_tab("Field")
    settle()
    field = stars.views.drawer.field
    assert field.field is not None
    assert field.field.count >= 18
    assert "Even over the field" in field.say.text()
    stars.views.drawer.show_tab("Light curve")
    settle()
    panel = stars.views.drawer.light_curve
    assert panel.series is not None
    assert panel.curve is not None
    # The star that varies most stands first and is shown.
    assert panel.curve.is_variable
    assert panel.curve.magnitude[0] - panel.curve.magnitude[2] == pytest.approx(
        2.5 * np.log10(1.6), abs=0.02
    )
    assert not panel.series.comparison[panel.curve.star]
    before = int(panel.series.comparison.sum())
    panel.toggle_comparison()
    settle()
    assert int(panel.series.comparison.sum()) == before + 1
    assert not stars.session.measurements.is_stale
    assert len(stars.session.state.method.measure.comparison_stars) == before + 1
    stars.session.undo_stack.undo()
    settle()
    assert int(panel.series.comparison.sum()) == before
    panel.toggle_comparison()
    settle()
    panel.choose_by_constancy()
    settle()
    assert int(panel.series.comparison.sum()) == before
    stars.commands.measure.save_light_curve(tmp_path / "curves.csv")
    settle()
    saved = pd.read_csv(tmp_path / "curves.csv")
    assert len(saved) == panel.series.x.size * 3
    assert saved["variable"].sum() == 3


def test_star_tabs_are_there_for_stars_alone(stars: Window) -> None:
    stars.session.go_to("measure")
    names = [
        stars.views.drawer.tabs.tabText(k)
        for k in range(stars.views.drawer.tabs.count())
        if stars.views.drawer.tabs.isTabVisible(k)
    ]
    assert {"Star", "Field", "Light curve"} <= set(names)
    stars.session.undo_stack.setIndex(1)
    assert not any(
        stars.views.drawer.tabs.isTabVisible(k)
        for k in range(stars.views.drawer.tabs.count())
        if stars.views.drawer.tabs.tabText(k) in ("Star", "Field", "Light curve")
    )
