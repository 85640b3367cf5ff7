"""Reading values in the real window: picks, profile, pixels, repair, histogram, statistics."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot

from rilievo.core.pipeline.analysis import Analysis
from rilievo.ui.session.sample_edits import add_pick
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT, repairs

RNG = np.random.default_rng(12)


def clipboard_text() -> str:
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    return clipboard.text()


@pytest.fixture
def two(
    add: Callable[..., Window], write_tiff: Callable[..., Path]
) -> tuple[Window, np.ndarray, np.ndarray]:
    """Two samples of synthetic numbers, the first in focus at 8×."""
    first = RNG.integers(100, 4000, (60, 80)).astype(np.uint16)
    second = RNG.integers(100, 4000, (60, 80)).astype(np.uint16)
    window = add(write_tiff("a-1.tif", first), write_tiff("a-2.tif", second))
    window.views.area.picture.zoom_to(8.0)
    return window, first, second


def click(window: Window, x: int, y: int) -> None:
    picture = window.views.area.picture
    picture.centre_on(x, y)
    at = picture.to_widget(x, y).toPoint()
    QTest.mouseMove(picture, at)
    QTest.mouseClick(picture, Qt.MouseButton.LeftButton, pos=at)


def drag(window: Window, start: QPoint, end: QPoint) -> None:
    picture = window.views.area.picture
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(picture, (start + end) / 2)
    QTest.mouseMove(picture, end)
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=end)


def test_picks_are_pinned_named_averaged_carried_and_saved(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None], tmp_path: Path
) -> None:
    window, first, second = two
    window.menus.actions["read.pick"].trigger()
    window.session.focus.set_reach(3)
    click(window, 20, 15)
    click(window, 50, 40)
    settle()
    panel = window.views.drawer.picks
    assert panel.isVisible()
    assert panel.table.rowCount() == 2
    mean = first[14:17, 19:22].mean()
    shown = panel.table.item(0, 3)
    assert shown is not None
    assert float(shown.text().replace("\u202f", "")) == pytest.approx(mean, rel=1e-3)
    panel.table.selectAll()
    item = panel.table.item(0, 2)
    assert item is not None
    item.setText("wool")
    settle()
    assert {pick.specimen for pick in window.session.state.method.picks} == {"wool"}
    assert panel.specimens.rowCount() == 1
    count = panel.specimens.item(0, 1)
    assert count is not None and count.text() == "2"
    panel.table.clearSelection()
    panel.carry_to_all()
    settle()
    window.commands.readings.save_picks(tmp_path / "p.csv")
    settle()
    saved = pandas.read_csv(tmp_path / "p.csv")
    assert saved["sample"].tolist() == ["a-1", "a-1", "a-2", "a-2"]
    assert saved["mean"].tolist() == pytest.approx(
        [
            p[y - 1 : y + 2, x - 1 : x + 2].mean()
            for p in (first, second)
            for x, y in ((20, 15), (50, 40))
        ]
    )
    specimens = pandas.read_csv(tmp_path / "p-specimens.csv")
    assert specimens["n"].tolist() == [2, 2]
    window.commands.readings.copy_picks()
    settle()
    assert clipboard_text().startswith("sample\tgroup")
    panel.table.selectRow(1)
    panel.remove()
    settle()
    assert len(window.session.state.method.picks) == 1
    window.session.undo_stack.undo()
    assert len(window.session.state.method.picks) == 2


@pytest.mark.slow
def test_a_pick_leaves_measurements_current(study: Window, settle: Callable[[], None]) -> None:
    study.commands.measure.measure_all()
    settle()
    tables = dict(study.session.measurements.tables)
    add_pick(study.session, 100, 100)
    settle()
    assert not study.session.measurements.is_stale
    assert all(study.session.measurements.tables[key] is table for key, table in tables.items())


def test_a_line_is_drawn_moved_and_read(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None], tmp_path: Path
) -> None:
    window, first, _ = two
    picture, panel = window.views.area.picture, window.views.drawer.profile
    window.menus.actions["read.line"].trigger()
    picture.centre_on(40, 30)
    drag(window, picture.to_widget(15, 30).toPoint(), picture.to_widget(55, 30).toPoint())
    settle()
    line = window.session.view.line
    assert line is not None
    assert (line.x0, line.y0, line.x1, line.y1) == (15, 30, 55, 30)
    np.testing.assert_array_equal(panel.profiles[0].profile.values, first[30, 15:56])
    # An end is taken hold of and moved; the other stays.
    drag(window, picture.to_widget(55, 30).toPoint(), picture.to_widget(55, 40).toPoint())
    settle()
    line = window.session.view.line
    assert line is not None and (line.x0, line.y0, line.y1) == (15, 30, 40)
    panel.set_line(10, 20, 40, 20)
    panel.width_field.enter("3")
    settle()
    np.testing.assert_allclose(panel.profiles[0].profile.values, first[19:22, 10:41].mean(axis=0))
    panel.across.setCurrentIndex(1)
    panel.across.activated.emit(1)
    panel.others.setCurrentIndex(2)
    panel.others.activated.emit(2)
    settle()
    assert [one.name for one in panel.profiles] == ["a-1", "a-2"]
    np.testing.assert_allclose(panel.profiles[0].profile.values, first[19:22, 10:41].sum(axis=0))
    window.commands.readings.save_profile(tmp_path / "line.csv")
    settle()
    saved = pandas.read_csv(tmp_path / "line.csv")
    assert list(saved.columns) == ["distance_px", "x", "y", "a-1", "a-2"]
    assert len(saved) == 31
    panel.plot.hovered.emit((7.2, 0.0))
    assert picture.line_cursor == 7.0
    window.menus.actions["read.no_line"].trigger()
    assert window.session.view.line is None


def test_a_full_row_follows_the_pointer_until_it_is_held(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None]
) -> None:
    window, first, _ = two
    window.views.drawer.show_tab("Profile")
    panel = window.views.drawer.profile
    panel.kind.setCurrentIndex(1)
    panel.kind.activated.emit(1)
    window.session.view.point_at((4, 22))
    settle()
    np.testing.assert_array_equal(panel.profiles[0].profile.values, first[22])
    panel.hold.setChecked(True)
    window.session.view.point_at((4, 33))
    settle()
    np.testing.assert_array_equal(panel.profiles[0].profile.values, first[22])
    panel.hold.setChecked(False)
    panel.kind.setCurrentIndex(2)
    panel.kind.activated.emit(2)
    window.session.view.point_at((41, 33))
    settle()
    np.testing.assert_array_equal(panel.profiles[0].profile.values, first[:, 41])


def test_pixels_follow_the_pointer_or_stay(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None]
) -> None:
    window, first, _ = two
    window.views.drawer.show_tab("Pixels")
    panel = window.views.drawer.pixels
    settle()
    window.session.view.point_at((30, 20))
    columns, rows = panel.grid.room()
    values = panel.grid.values
    assert values.shape == (rows, columns)
    x0, y0 = 30 - columns // 2, 20 - rows // 2
    np.testing.assert_array_equal(values, first[y0 : y0 + rows, x0 : x0 + columns])
    window.menus.actions["read.hold"].trigger()
    window.session.view.point_at((60, 50))
    np.testing.assert_array_equal(panel.grid.values, values)
    panel.copy_button.click()
    assert clipboard_text().splitlines()[0].split("\t")[1] == str(x0)
    window.session.view.choose(scale="unit")
    assert panel.grid.text_of(65535.0).startswith("1.0")
    window.session.view.choose(scale="native")
    panel.size_field.enter("7")
    assert window.session.focus.reach == 7
    # At the border the grid keeps its size.
    window.menus.actions["read.hold"].trigger()
    window.session.view.point_at((0, 0))
    np.testing.assert_array_equal(panel.grid.values, first[:rows, :columns])


@pytest.mark.slow
def test_a_repair_changes_the_signal_never_the_file(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None]
) -> None:
    window, first, _ = two
    path = window.session.state.samples[0].path
    before = path.read_bytes()
    window.menus.actions["read.repair"].trigger()
    window.views.drawer.pixels.repair_value.enter("5")
    click(window, 33, 21)
    settle()
    sample, method = window.compute.store.samples[1].renamed("a-1"), window.session.state.method
    signal = Analysis(sample, method, window.compute.cache).signal("gray").pixels
    assert signal[21, 33] == 5
    assert np.count_nonzero(signal != first) == 1
    assert path.read_bytes() == before
    assert sample.first.pixels[21, 33] == first[21, 33]
    other = window.compute.store.samples[2].renamed("a-2")
    assert (
        Analysis(other, method, window.compute.cache).signal("gray").pixels[21, 33]
        == other.first.pixels[21, 33]
    )
    window.session.go_to("correct")
    settle()
    assert len(repairs(window)) == 1
    window.views.correct.open_card("repair")
    positions = window.views.correct.cards["repair"].form.fields["repairs"]
    assert positions.words.text.toPlainText() == "33, 21, 5"
    positions.words.enter("33; 21; 6\n1 2")
    assert len(repairs(window)) == 1
    assert "Line 2" in positions.text.text()
    positions.words.enter("33, 21, 6\n1, 2")
    settle()
    assert [one.value for one in repairs(window)] == [6, None]
    window.session.undo_stack.undo()
    assert [one.value for one in repairs(window)] == [5]


@pytest.mark.slow
def test_the_histogram_in_every_kind(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None], tmp_path: Path
) -> None:
    window, first, second = two
    window.views.drawer.show_tab("Histogram")
    panel = window.views.drawer.histogram
    settle()
    panel.refresh()
    (shown,) = panel.histograms
    assert shown.histogram.total == first.size
    panel.others.setCurrentIndex(2)
    panel.refresh()
    assert [one.histogram.total for one in panel.histograms] == [first.size, second.size]
    for kind in range(3):
        panel.kind.setCurrentIndex(kind)
        for height in range(2):
            panel.height_kind.setCurrentIndex(height)
            panel.refresh()
    panel.percentiles.setChecked(True)
    assert panel.percentile_lines[2].value() == pytest.approx(np.quantile(first, 0.5), abs=2)
    panel.plot.hovered.emit((1000.0, 0.5))
    assert "at or below" in panel.reading.text()
    window.commands.readings.save_histogram(tmp_path / "h.csv")
    settle()
    saved = pandas.read_csv(tmp_path / "h.csv")
    mine = saved[saved["name"].str.startswith("a-1")]
    levels, counts = np.unique(first, return_counts=True)
    assert mine["level"].tolist() == levels.tolist()
    assert mine["count"].tolist() == counts.tolist()
    assert mine["cumulative"].iloc[-1] == pytest.approx(1)


@pytest.mark.slow
def test_the_histogram_of_selected_regions(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    study.views.drawer.show_tab("Histogram")
    study.session.focus.set(regions={2, 3})
    study.views.drawer.histogram.regions.setChecked(True)
    settle()
    study.views.drawer.histogram.refresh()
    facts = study.compute.queue.focused
    assert facts is not None and facts.regions
    (shown,) = study.views.drawer.histogram.histograms
    assert shown.histogram.total == np.isin(facts.regions[0].labels, [2, 3]).sum()


def test_statistics_lead_to_the_extreme(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None]
) -> None:
    window, first, _ = two
    card = window.views.look.statistics
    card.set_folded(False)
    settle()
    y, x = np.unravel_index(first.argmax(), first.shape)
    assert f"href='{x},{y}'" in card.text.text()
    card.text.linkActivated.emit(f"{x},{y}")
    at = window.views.area.picture.to_widget(float(x), float(y)).toPoint()
    assert (at - window.views.area.picture.rect().center()).manhattanLength() < 4
    card.copy()
    settle()
    rows = dict(line.split("\t") for line in clipboard_text().splitlines())
    assert float(rows["mean"]) == pytest.approx(first.mean())
    assert float(rows["share"]) == 1
    window.session.change(
        "declare",
        window.session.state.with_overrides([1], saturation=float(np.quantile(first, 0.9))),
    )
    settle()
    card.no_saturated.setChecked(True)
    settle()
    assert "% of the pixels remain" in card.text.text()


def test_one_switch_changes_every_printed_number(
    two: tuple[Window, np.ndarray, np.ndarray], settle: Callable[[], None]
) -> None:
    window, first, _ = two
    window.views.status.point_at((10, 10))
    window.session.view.choose(scale="8-bit")
    settle()
    expected = first[10, 10] / 65535 * 255
    assert float(window.views.status.texts()["native"].split()[1]) == pytest.approx(
        expected, rel=1e-3
    )
    low, _ = window.compute.ranges.display_range("gray", "native", 1)
    assert window.views.look.display.low.value == pytest.approx(low / 257, abs=1e-3)
    assert window.views.area.key.number_scale.value(65535.0) == 255
    window.session.view.choose(count_from_one=True)
    assert window.views.status.texts()["position"].startswith("x 11  y 11")
    # A typed end is understood on the scale that is shown.
    window.views.look.display.high.enter("10")
    assert window.compute.ranges.display_range("gray", "native", 1)[1] == pytest.approx(2570)


def test_a_disc_is_read_as_it_is_drawn(two: tuple[Window, np.ndarray, np.ndarray]) -> None:
    window, first, _ = two
    window.menus.actions["view.form"].trigger()
    window.session.focus.set_reach(5)
    window.views.status.point_at((10, 10))
    y, x = np.mgrid[:60, :80]
    inside = (x - 10) ** 2 + (y - 10) ** 2 <= 2.5**2
    text = window.views.status.texts()["around"].replace("\u202f", "")
    assert text.startswith("disc 5 mean ")
    assert float(text.split()[3]) == pytest.approx(first[inside].mean(), rel=1e-3)


def test_the_peak_under_the_pointer_is_read_in_look(
    add: Callable[..., Window], write_tiff: Callable[..., Path], qtbot: QtBot
) -> None:
    v, u = np.mgrid[:120, :120]
    noise = np.random.default_rng(1).normal(0, 3, (120, 120))
    values = 300 + 2000 * np.exp(-((u - 60) ** 2 + (v - 50) ** 2) / (2 * 2.0**2)) + noise
    window = add(write_tiff("star.tif", values.clip(0).astype(np.uint16)))
    window.views.drawer.show_tab("Pixels")
    panel = window.views.drawer.pixels
    window.session.view.point_at((61, 51))
    qtbot.waitUntil(lambda: "FWHM" in panel.peak.text(), timeout=WAIT)
    told = panel.peak.text().split("FWHM")[1].split(" px")[0]
    assert float(told.rpartition(">")[2]) == pytest.approx(2 * 2.3548, abs=0.1)
    window.session.view.point_at((20, 100))
    qtbot.waitUntil(lambda: "No peak here" in panel.peak.text(), timeout=WAIT)
