"""A number leads to its origin from wherever it stands; what is chosen shows everywhere."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from rilievo.core.measure.region_flags import flag
from rilievo.core.report.figures import Dot
from rilievo.ui.panels.table.rows_model import IDENTITY
from rilievo.ui.shell.window import Window
from tests.stars import moffat_star
from tests.ui.conftest import WAIT

Settle = Callable[[], None]


def pixels_of(image: QImage) -> np.ndarray:
    plain = image.convertToFormat(QImage.Format.Format_RGB888)
    data = plain.constBits().asstring(plain.sizeInBytes())
    rows = np.frombuffer(data, np.uint8).reshape(plain.height(), plain.bytesPerLine())
    return rows[:, : 3 * plain.width()].reshape(plain.height(), plain.width(), 3)


@pytest.mark.slow
def test_chosen_regions_show_in_tiles_and_ridges(measured: Window, settle: Settle) -> None:
    ids = {e.name: e.id for e in measured.session.state.samples}
    measured.session.focus.set(sample_id=ids["starved-2"])
    settle()
    measured.views.drawer.show_tab("Samples")
    settle()
    tile = measured.views.drawer.strip.tile(ids["starved-2"])
    assert tile is not None
    assert tile.image is not None
    before = pixels_of(tile.image)
    curve = measured.views.ridges.chosen_curve
    assert curve.getData()[0] is None or not len(curve.getData()[0])
    measured.session.focus.set(regions={3})
    settle()
    assert tile.image is not None
    after = pixels_of(tile.image)
    changed = (before != after).any(axis=2)
    assert 0 < changed.sum() < changed.size / 20
    # The curve over the row is the histogram of that region's pixels.
    x, y = curve.getData()
    assert x is not None
    row = next(
        i for i, r in enumerate(measured.views.ridges.rows) if r.sample_id == ids["starved-2"]
    )
    assert y.min() == pytest.approx(len(measured.views.ridges.rows) - 1 - row)
    table = measured.session.measurements.tables[ids["starved-2"]]
    channel = measured.views.ridges.channel
    level = table.column(channel, "mean")[2]
    weights = y - y.min()
    assert abs(np.average(x, weights=weights) - level) < 3 * table.column(channel, "sd")[2]
    measured.session.focus.set(regions=())
    settle()
    assert curve.getData()[0] is None or not len(curve.getData()[0])


@pytest.mark.slow
def test_a_dot_of_a_plot_leads_to_its_number(measured: Window, settle: Settle) -> None:
    measured.views.drawer.show_tab("Plots")
    plots = measured.views.drawer.plots
    settle()
    plots.choose_dot(17)
    settle()
    rows = measured.views.drawer.measurements.rows.all
    row = int(plots.points.rows[17])
    origin = measured.views.origin.origin
    assert measured.pages.origin_shown
    assert origin is not None
    assert (origin.sample, origin.channel) == (rows.sample(row), rows.channel(row))
    assert origin.value == pytest.approx(rows.columns["mean"][row])


def test_the_number_below_a_print_leads_to_its_origin(
    measured: Window, qtbot: QtBot, settle: Settle
) -> None:
    measured.views.drawer.show_tab("Prints")
    prints = measured.views.drawer.prints
    prints.key.setCurrentIndex(prints.key.findData("sd"))
    settle()
    cell, at = prints.cells[2], prints.box_of(2).center()
    qtbot.mouseDClick(prints.grid, Qt.MouseButton.LeftButton, pos=at)
    settle()
    origin = measured.views.origin.origin
    assert origin is not None
    assert (origin.sample, origin.quantity.key) == (cell.sample, "sd")
    assert cell.value.replace("\u202f", "")[:3] in f"{origin.value:.4g}"


@pytest.mark.slow
def test_a_dot_of_the_comparison_leads_to_its_number(measured: Window, settle: Settle) -> None:
    measured.session.go_to("compare")
    settle()
    measured.commands.compare.show_origin_of_dot(
        Dot(x=0, y=0, sample="replete-2", region=4, value=1.0)
    )
    settle()
    origin = measured.views.origin.origin
    comparison = measured.views.compare.comparison
    assert measured.pages.origin_shown
    assert origin is not None
    assert comparison is not None
    assert (origin.sample, origin.channel, origin.quantity.key) == (
        "replete-2", comparison.channel, comparison.quantity,
    )  # fmt: skip


def test_a_row_of_the_summary_chooses_its_regions(measured: Window, settle: Settle) -> None:
    measured.views.drawer.show_tab("Summary")
    settle()
    measured.views.drawer.summary.choose_regions(6)
    settle()
    name = measured.views.drawer.summary.item(6, 0).text()
    assert measured.session.focus.entry is not None
    assert measured.session.focus.entry.name == name
    table = measured.session.measurements.tables[measured.session.focus.sample_id or -1]
    assert measured.session.focus.regions == frozenset(table.ids.tolist())


@pytest.mark.slow
def test_origin_says_all_and_leaves_with_escape(
    measured: Window, qtbot: QtBot, settle: Settle
) -> None:
    measured.commands.measure.show_origin("starved-2", 7, "lipid dye", "cv")
    settle()
    panel = measured.views.origin
    origin = panel.origin
    assert origin is not None
    assert "sd / mean" in panel.definition.text()
    assert panel.with_values.text().startswith("= ")
    assert "saturated inside" in panel.marks.text()
    assert "Background from patches" in panel.steps.text()
    assert panel.table.model().rowCount() == origin.x.size
    first = [panel.table.model().index(0, c).data() for c in range(5)]
    assert first[:2] == [str(origin.x[0] + 1), str(origin.y[0] + 1)]
    assert "starved-2" in panel.file.text()
    ((_, checksum),) = origin.files
    assert checksum[:16] in panel.file.text()
    qtbot.keyClick(panel, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not measured.pages.origin_shown, timeout=WAIT)
    # A number that the method would not give any more is not shown.
    measured.commands.measure.show_origin("starved-2", 7, "lipid dye", "cv")
    settle()
    measured.compute.batch.follows = False
    measured.compute.session.change_class("another level", connectivity=4)
    assert not measured.pages.origin_shown


def test_a_sample_that_was_not_measured_says_so(study: Window, settle: Settle) -> None:
    study.commands.measure.show_origin("starved-2", 1, "lipid dye", "mean")
    assert "is not measured now" in study.views.notice.text


@pytest.mark.slow
def test_regions_with_a_mark_are_framed(measured: Window, settle: Settle) -> None:
    ids = {e.name: e.id for e in measured.session.state.samples}
    measured.session.focus.set(sample_id=ids["starved-2"], channel="lipid dye")
    settle()
    flags = measured.session.measurements.tables[ids["starved-2"]].flags["lipid dye"]
    assert (flags & flag("saturated inside")).any()
    picture = measured.views.area.picture
    framed = pixels_of(picture.grab().toImage())
    measured.menus.actions["view.marked"].trigger()
    settle()
    plain = pixels_of(picture.grab().toImage())
    assert (framed != plain).any(axis=2).sum() > 100
    measured.menus.actions["view.marked"].trigger()


@pytest.mark.slow
def test_columns_keep_their_order(measured: Window) -> None:
    table = measured.views.drawer.measurements
    header = table.table.header
    area = table.rows.keys.index("area") + len(IDENTITY)
    header.moveSection(header.visualIndex(area), 3)
    measured.session.measurements.changed.emit()
    assert header.visualIndex(area) == 3
    # Sample and region stay in front, whatever is moved.
    assert [header.visualIndex(c) for c in (0, 1)] == [0, 1]


@pytest.mark.slow
def test_a_stale_number_has_no_origin(measured: Window) -> None:
    measured.compute.batch.follows = False
    measured.compute.session.change_class("another level", connectivity=4)
    measured.commands.measure.show_origin("starved-2", 7, "lipid dye", "mean")
    assert not measured.pages.origin_shown
    assert "measure all again (Ctrl+M)" in measured.views.notice.text


def test_columns_are_hidden_and_stay_so(measured: Window, settle: Settle) -> None:
    table = measured.views.drawer.measurements
    position = table.rows.keys.index("median") + len(IDENTITY)
    table.show_column(position, "median", False)
    assert table.view.isColumnHidden(position)
    measured.session.measurements.changed.emit()
    assert table.view.isColumnHidden(position)
    table.show_column(position, "median", True)
    measured.session.measurements.changed.emit()
    assert not table.view.isColumnHidden(position)
    # Sample and region stand apart and do not scroll.
    assert [table.table.names.isColumnHidden(c) for c in range(4)] == [False, False, True, True]
    assert table.view.isColumnHidden(0)


def test_copied_rows_are_those_that_are_filtered(
    measured: Window, qtbot: QtBot, settle: Settle
) -> None:
    table = measured.views.drawer.measurements
    table.filter.setText('sample = "replete-1" and channel = "chlorophyll"')
    table.filter.editingFinished.emit()
    measured.session.focus.set(regions=())
    measured.menus.actions["edit.copy"].trigger()
    settle()
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    lines = clipboard.text().splitlines()
    assert len(lines) == 1 + table.rows.rowCount()
    assert all(line.startswith("replete-1\t") for line in lines[1:])


def test_the_header_draws_its_histograms(measured: Window, settle: Settle) -> None:
    table = measured.views.drawer.measurements
    measured.views.drawer.show_tab("Measurements")
    settle()
    header = table.table.header
    position = table.rows.keys.index("area") + len(IDENTITY)
    with_bars = pixels_of(header.grab().toImage())
    counts, low, high = header.histograms[position]
    assert counts.sum() == table.rows.all.count
    header.histograms = {}
    without = pixels_of(header.grab().toImage())
    assert (with_bars != without).any(axis=2).sum() > 200
    assert low < high


@pytest.fixture
def star(
    window: Window, write_tiff: Callable[..., Path], measure_stars: Callable[..., None]
) -> Window:
    rng = np.random.default_rng(1)
    paths = []
    for night in range(2):
        frame = rng.normal(300, 4, (140, 180))
        for x, y in ((40, 40), (130, 50), (60, 100), (140, 110), (95, 70)):
            frame += moffat_star((140, 180), x + 0.3, y - 0.2, 5e4 + 500 * x, 3.2, fine=3)
        paths.append(write_tiff(f"n-{night}.tif", frame.astype(np.uint16)))
    measure_stars(paths)
    return window


@pytest.mark.slow
def test_numbers_of_a_star_lead_to_their_origin(star: Window, settle: Settle) -> None:
    star.views.drawer.show_tab("Star")
    regions = star.compute.regions.focused
    assert regions is not None
    star.session.focus.set(regions={int(regions.ids[1])})
    settle()
    panel = star.views.drawer.star
    panel.values["fwhm"].click()
    settle()
    origin = star.views.origin.origin
    assert origin is not None
    assert origin.quantity.key == "fwhm"
    assert origin.value == pytest.approx(3.2, rel=0.03)
    assert "Moffat 1969" in star.views.origin.source.text()
    panel.values["flux"].click()
    settle()
    assert star.views.origin.origin is not None
    assert star.views.origin.origin.value == pytest.approx(
        float(panel.look.stars.flux[0]) if panel.look else 0, rel=1e-6
    )


def test_a_star_is_chosen_in_the_field(star: Window, qtbot: QtBot, settle: Settle) -> None:
    star.views.drawer.show_tab("Field")
    settle()
    field = star.views.drawer.field
    dot = field.dots.points()[2]
    field.dots.sigClicked.emit(field.dots, [dot], None)
    table = star.session.measurements.tables[star.session.focus.sample_id or -1]
    x, y = (table.column(table.channels[0], key) for key in ("star_x", "star_y"))
    nearest = int(np.hypot(x - dot.pos().x(), y - dot.pos().y()).argmin())
    assert star.session.focus.regions == {int(table.ids[nearest])}


def test_without_stars_the_panels_say_what_to_do(measured: Window) -> None:
    assert "Stars are found in Outline" in measured.views.drawer.star.say.text()
    assert "Nothing" not in measured.views.drawer.field.key.text()
