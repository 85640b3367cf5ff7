"""Bringing in and seeing, in the real window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
import tifffile
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QGuiApplication, QImage
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot

from rilievo.core.files.channel_preparation import Derived, Term
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT

RNG = np.random.default_rng(4)


def noise(*shape: int) -> np.ndarray:
    return RNG.integers(200, 3000, shape).astype(np.uint16)


@pytest.fixture
def photo(add: Callable[..., Window], tmp_path: Path) -> Window:
    """A colour photograph in focus."""
    pixels = RNG.integers(20, 240, (40, 60, 3)).astype(np.uint8)
    (tmp_path / "wool.png").write_bytes(imagecodecs.png_encode(pixels))
    return add(tmp_path / "wool.png")


# -- bring in


def test_a_folder_is_shown_before_it_is_taken(
    window: Window, write_tiff: Callable[..., Path], settle: Callable[[], None], qtbot: QtBot
) -> None:
    for sample in ("low-1", "low-2"):
        for channel in ("dye", "dic"):
            write_tiff(f"in/{sample}_{channel}.tif", noise(20, 30))
    (write_tiff("in/bad_x.tif", noise(3, 3))).write_text("no image")
    folder = write_tiff("in/notes/odd.tif", noise(20, 30)).parent.parent
    window.commands.images.open_any([folder], ask=True)
    qtbot.waitUntil(lambda: window.jobs.idle and window.views.intake.isVisible())
    assert not window.session.state.samples
    assert len(window.views.intake.proposals) == 6
    assert any("bad_x.tif" in window.views.intake.table.item(i, 6).text() for i in range(6))
    window.views.intake.pattern.setText("{sample}_{sample}")
    assert "twice" in window.views.intake.message.text()
    assert not window.views.intake.add_button.isEnabled()
    window.views.intake.pattern.setText("{group}-{replicate#}_{channel}")
    names = [proposal.name for proposal in window.views.intake.taken()]
    assert names == ["low-1", "low-2"]
    window.views.intake.table.item(1, 0).setCheckState(Qt.CheckState.Unchecked)
    unticked = window.views.intake.proposals[1].name
    window.views.intake.accept()
    settle()
    (entry,) = window.session.state.samples
    assert entry.name != unticked
    assert (entry.group, entry.replicate) == ("low", entry.name[-1])
    assert window.compute.store.samples[entry.id].channel_names == ("dic", "dye")
    assert not window.views.intake.isVisible()


def test_pages_are_chosen_or_become_samples(
    window: Window, write_tiff: Callable[..., Path], settle: Callable[[], None], qtbot: QtBot
) -> None:
    stack = noise(4, 12, 12)
    path = write_tiff("stack.tif", stack, photometric="minisblack")
    window.commands.images.open_any([path], ask=True)
    qtbot.waitUntil(lambda: window.jobs.idle and window.views.intake.isVisible())
    window.views.intake.choice.setText("7")
    assert "planes 1 to 4" in window.views.intake.message.text()
    window.views.intake.choice.setText("2-3")
    window.views.intake.planes.setCurrentIndex(1)
    window.views.intake.planes.activated.emit(1)
    window.views.intake.accept()
    settle()
    assert [e.name for e in window.session.state.samples] == ["stack page 2", "stack page 3"]
    for entry, page in zip(window.session.state.samples, (1, 2), strict=True):
        np.testing.assert_array_equal(
            window.compute.store.samples[entry.id].first.pixels, stack[page]
        )


def test_one_plain_file_is_taken_at_once_and_escape_leaves(
    window: Window, write_tiff: Callable[..., Path], settle: Callable[[], None], qtbot: QtBot
) -> None:
    window.commands.images.open_any([write_tiff("one.tif", noise(9, 9))], ask=True)
    qtbot.waitUntil(lambda: bool(window.session.state.samples), timeout=WAIT)
    settle()
    window.commands.images.open_any(
        [write_tiff("two.tif", noise(9, 9)), write_tiff("three.tif", noise(9, 9))], ask=True
    )
    qtbot.waitUntil(lambda: window.jobs.idle and window.views.intake.isVisible())
    QTest.keyClick(window.views.intake, Qt.Key.Key_Escape)
    assert window.views.area.isVisible()
    assert len(window.session.state.samples) == 1


@pytest.mark.slow
def test_metadata_is_searched_and_copied(study: Window, settle: Callable[[], None]) -> None:
    study.menus.actions["read.metadata"].trigger()
    settle()
    assert study.views.metadata.isVisible()
    study.views.metadata.search.setText("PhysicalSizeX")
    study.views.metadata.copy()
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None and "PhysicalSizeX\t0.32" in clipboard.text()
    study.views.metadata.search.setText("no such thing")
    assert "Nothing in" in study.views.metadata.about.text()
    QTest.keyClick(study.views.metadata, Qt.Key.Key_Escape)
    assert study.views.area.isVisible()


def test_pixel_size_by_a_drawn_length_for_all(
    add: Callable[..., Window], write_tiff: Callable[..., Path], settle: Callable[[], None]
) -> None:
    window = add(write_tiff("a.tif", noise(50, 80)), write_tiff("b.tif", noise(50, 80)))
    card, picture = window.views.look.levels, window.views.area.picture
    card.set_folded(False)
    card.scope.setCurrentIndex(2)
    window.menus.actions["read.length"].trigger()
    start, end = picture.to_widget(10, 25).toPoint(), picture.to_widget(60, 25).toPoint()
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(picture, end)
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=end)
    card.unit.setCurrentText("mm")
    card.length.enter("25")
    settle()
    for sample in window.compute.store.samples.values():
        assert sample.first.calibration.pixel_size == pytest.approx(0.5, rel=0.02)
        assert sample.first.calibration.unit == "mm"
    window.session.undo_stack.undo()
    settle()
    assert window.compute.store.samples[1].first.calibration.pixel_size is None
    card.saturation.enter("2500")
    settle()
    for sample in window.compute.store.samples.values():
        mask = sample.first.saturated()
        assert mask is not None and mask.sum() == (sample.first.pixels >= 2500).sum()
    card.reset.click()
    settle()
    assert window.compute.store.samples[1].first.saturation == 65535


@pytest.mark.slow
def test_a_channel_is_derived_in_the_window(photo: Window, settle: Callable[[], None]) -> None:
    card = photo.views.look.channels
    card.set_folded(False)
    card.start.setCurrentIndex(card.start.findData("mix"))
    card.begin()
    card.weights["green"].enter("-0.5")
    card.weights["blue"].enter("-0.5")
    card.name.setText("red")
    card.finish()
    assert "already" in card.message.text()
    card.name.setText("madder")
    card.finish()
    settle()
    assert photo.session.state.method.reading.derived == (
        Derived(
            name="madder",
            terms=tuple(
                Term(channel=c, weight=w) for c, w in (("red", 1), ("green", -0.5), ("blue", -0.5))
            ),
        ),
    )
    sample = photo.compute.store.samples[1]
    red, green, blue = (sample.channels[c].pixels.astype(float) for c in ("red", "green", "blue"))
    np.testing.assert_allclose(sample.channels["madder"].pixels, red - green / 2 - blue / 2)
    assert photo.session.focus.channel == "madder"
    before = sample.channels["red"].pixels
    card.undo_srgb.setChecked(True)
    settle()
    lit = photo.compute.store.samples[1].channels["red"].pixels
    assert (lit[before < 250] < before[before < 250]).all()
    assert any("sRGB" in check.text for check in photo.compute.checks.all())
    card.remove("madder")
    settle()
    assert "madder" not in photo.compute.store.samples[1].channels
    assert photo.session.focus.channel == "red"


# -- see


def shown(window: Window) -> np.ndarray:
    image = window.views.area.picture.image
    assert image is not None
    bits = image.convertToFormat(QImage.Format.Format_RGB32).constBits()
    assert bits is not None
    flat = np.frombuffer(bits.asstring(image.sizeInBytes()), np.uint8)
    return flat.reshape(image.height(), image.width(), 4)[..., :3].copy()


@pytest.mark.slow
def test_no_view_changes_a_measurement(study: Window, settle: Callable[[], None]) -> None:
    study.commands.measure.measure_all()
    settle()
    study.session.go_to("look")
    settle()
    tables = dict(study.session.measurements.tables)
    card = study.views.look.display
    pictures = [shown(study)]
    for change in (
        lambda: card.use_preset("faint"),
        lambda: card.use_preset("background"),
        lambda: card.use_preset("bright"),
        lambda: card.stretch.activated.emit(
            card.stretch.setCurrentIndex(card.stretch.findData("equal")) or 0
        ),
        lambda: card.relief.setChecked(True),
        lambda: card.contours.setChecked(True),
        lambda: study.session.view.choose(overlay=True),
    ):
        change()
        settle()
        pictures.append(shown(study))
        assert not (pictures[-1] == pictures[-2]).all()
    assert study.session.measurements.tables == tables
    assert not study.session.measurements.is_stale


def test_percentiles_set_the_range(study: Window, settle: Callable[[], None]) -> None:
    card = study.views.look.display
    card.low_share.enter("5")
    card.high_share.enter("90")
    settle()
    pixels = study.compute.store.focused.first.pixels  # type: ignore[union-attr]
    low, high = study.compute.ranges.display_range(
        "chlorophyll", "native", study.session.focus.sample_id
    )
    assert low == pytest.approx(np.quantile(pixels, 0.05), abs=1)
    assert high == pytest.approx(np.quantile(pixels, 0.90), abs=1)
    card.type_range.click()
    assert study.compute.ranges.display_range("chlorophyll", "native") == (0, 4095)


def test_a_view_of_its_own_and_for_all(study: Window, settle: Callable[[], None]) -> None:
    first, second = (entry.id for entry in study.session.state.samples[:2])
    card = study.views.look.display
    common = study.compute.ranges.display_range("chlorophyll", "native", second)
    card.own.setChecked(True)
    card.set_range(300.0, 600.0)
    settle()
    assert study.compute.ranges.display_range("chlorophyll", "native", first) == (300, 600)
    assert study.compute.ranges.display_range("chlorophyll", "native", second) == common
    card.to_all.click()
    settle()
    assert study.compute.ranges.display_range("chlorophyll", "native", second) == (300, 600)


def test_a_view_is_copied_between_samples(study: Window, settle: Callable[[], None]) -> None:
    first, second, third = (entry.id for entry in study.session.state.samples[:3])
    common = study.compute.ranges.display_range("chlorophyll", "native", third)
    study.views.look.display.own.setChecked(True)
    study.views.look.display.set_range(300.0, 600.0)
    study.menus.actions["view.copy_view"].trigger()
    study.session.focus.set(sample_id=second)
    study.menus.actions["view.paste_view"].trigger()
    settle()
    for sample, expected in ((first, (300, 600)), (second, (300, 600)), (third, common)):
        assert study.compute.ranges.display_range("chlorophyll", "native", sample) == expected


def test_the_sheet_moves_and_reads_together(
    add: Callable[..., Window], write_tiff: Callable[..., Path], settle: Callable[[], None]
) -> None:
    planes = [noise(40, 50), noise(40, 50), noise(20, 50)]
    window = add(*(write_tiff(f"s-{i}.tif", p) for i, p in enumerate(planes)))
    window.menus.actions["view.sheet"].trigger()
    settle()
    sheet = window.views.area.sheet
    assert sheet.isVisible() and len(sheet.cells) == 3
    assert all(cell.image is not None for cell in sheet.cells)
    window.session.view.point_at((12, 33))
    texts = [sheet.value_text(cell).replace("\u202f", "") for cell in sheet.cells]
    assert texts == [str(planes[0][33, 12]), str(planes[1][33, 12]), "outside"]
    cell = sheet.cells[0]
    at = QPointF(cell.box.width() / 3, cell.box.height() / 2)
    before = sheet.geometry_of(cell).to_image(at)
    sheet.zoom_by(3.0, cell, at)
    after = sheet.geometry_of(cell).to_image(at)
    assert (after - before).manhattanLength() < 0.01
    scales = {round(sheet.geometry_of(c).view.zoom, 3) for c in sheet.cells[:2]}
    assert len(scales) == 1
    centres = [
        sheet.geometry_of(c).to_image(QPointF(c.box.width() / 2, c.box.height() / 2))
        for c in sheet.cells[:2]
    ]
    assert (centres[0] - centres[1]).manhattanLength() < 0.01
    QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, pos=sheet.cells[1].box.center().toPoint())
    assert window.session.focus.sample_id == sheet.cells[1].key[0]
    sheet.fit()
    window.menus.actions["view.one"].trigger()
    assert not sheet.isVisible()


def test_the_sheet_of_channels(study: Window, settle: Callable[[], None]) -> None:
    study.menus.actions["view.sheet_channels"].trigger()
    settle()
    assert [cell.name for cell in study.views.area.sheet.cells] == ["chlorophyll", "lipid dye"]


def test_a_split_line_shows_two_samples(study: Window, settle: Callable[[], None]) -> None:
    picture = study.views.area.picture
    study.menus.actions["view.split"].trigger()
    settle()
    assert picture.beside.is_shown
    second = study.session.state.samples[1]
    assert picture.beside.names() == (study.session.state.samples[0].name, second.name)
    middle = int(picture.beside.at * picture.width())
    height = picture.height() // 2
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=QPointF(middle, height).toPoint())
    QTest.mouseMove(picture, QPointF(middle - 100, height).toPoint())
    QTest.mouseRelease(
        picture, Qt.MouseButton.LeftButton, pos=QPointF(middle - 100, height).toPoint()
    )
    assert picture.beside.at * picture.width() == pytest.approx(middle - 100, abs=2)
    study.menus.actions["view.split_plain"].trigger()
    settle()
    assert picture.beside.names() == ("this view", "plain view")
    study.menus.actions["view.split_off"].trigger()
    settle()
    assert not picture.beside.is_shown


def test_navigator_and_zoom_to_a_box(study: Window, settle: Callable[[], None]) -> None:
    picture = study.views.area.picture
    geometry = picture.geometry_now
    assert geometry is not None and not picture.navigator.is_wanted(geometry)
    picture.zoom_to_box(QRectF(100, 200, 80, 60))
    settle()
    geometry = picture.geometry_now
    assert geometry is not None and picture.navigator.is_wanted(geometry)
    middle = geometry.to_image(QPointF(picture.width() / 2, picture.height() / 2))
    assert (middle.x(), middle.y()) == pytest.approx((140, 230), abs=1)
    box = picture.navigator.box(geometry, picture.margin)
    QTest.mouseClick(picture, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    middle = picture.geometry_now.to_image(QPointF(picture.width() / 2, picture.height() / 2))  # type: ignore[union-attr]
    assert (middle.x(), middle.y()) == pytest.approx((384, 384), abs=6)
    study.menus.actions["view.zoom_box"].trigger()
    start, end = QPointF(300, 200).toPoint(), QPointF(400, 260).toPoint()
    zoom = picture.zoom
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(picture, end)
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=end)
    assert picture.zoom > 3 * zoom
    assert study.session.view.tool == "point"


@pytest.mark.slow
@pytest.mark.parametrize("suffix", [".png", ".tif", ".svg"])
def test_a_saved_picture_says_what_it_is_for(
    study: Window, settle: Callable[[], None], tmp_path: Path, suffix: str
) -> None:
    study.session.go_to("outline")
    settle()
    path = tmp_path / f"seen{suffix}"
    study.commands.readings.save_picture(path)
    settle()
    if suffix == ".png":
        image = QImage(str(path))
        text = image.text("Description")
        assert image.width() > study.views.area.picture.width()
    elif suffix == ".tif":
        with tifffile.TiffFile(path) as file:
            text = file.pages[0].description  # type: ignore[union-attr]
            assert file.pages[0].shape[2] == 3  # type: ignore[union-attr]
    else:
        text = path.read_text()
        facts = study.compute.queue.focused
        assert facts is not None and facts.regions
        # Halo and line of each outline are shapes of their own.
        assert text.count("<poly") >= 2 * facts.regions[0].count
    assert "For illustration, not for measurement" in text
    assert "Display range" in text


def test_the_ridges_in_every_kind(study: Window, settle: Callable[[], None]) -> None:
    seen = []
    for _ in range(3):
        study.views.ridges.kind_button.click()
        settle()
        seen.append(study.views.ridges.kind_button.text())
        top = max(float(np.nanmax(curve.getData()[1])) for curve in study.views.ridges.curves)
        assert np.isfinite(top)
    assert seen == ["counts", "cumulative", "share"]


@pytest.mark.slow
def test_looking_is_remembered(study: Window, qtbot: QtBot) -> None:
    study.session.view.choose(scale="8-bit", rulers=False, form="disc")
    again = Window()
    qtbot.addWidget(again)
    again.commands.study.asks_before_leaving = False
    assert again.session.view.scale == "8-bit"
    assert again.session.view.form == "disc"
    assert not again.session.view.rulers
    again.close()
