"""Opening, seeing, reading."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
from astropy.io import fits
from PyQt6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from rilievo.ui.canvas.picture import Picture
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT
from tests.ui.stages.outline.test_level_body import frame


def awkward_images(folder: Path, write_tiff: Callable[..., Path]) -> dict[str, Path]:
    rng = np.random.default_rng(0)
    rgba = rng.integers(0, 255, (20, 30, 4), dtype=np.uint8)
    (folder / "rgba.png").write_bytes(imagecodecs.png_encode(rgba))
    fits.PrimaryHDU(rng.normal(0, 1, (12, 9))).writeto(folder / "sky.fits")
    return {
        "one pixel": write_tiff("one.tif", np.array([[7]], np.uint8)),
        "zeros": write_tiff("zeros.tif", np.zeros((9, 9), np.uint16)),
        "undefined": write_tiff("nan.tif", np.full((9, 9), np.nan, np.float32)),
        "negative": write_tiff("neg.tif", rng.normal(0, 5, (30, 40)).astype(np.float64)),
        "rgb": write_tiff("rgb.tif", rgba[..., :3].copy(), photometric="rgb"),
        "rgba": folder / "rgba.png",
        "fits": folder / "sky.fits",
        "thin": write_tiff("thin.tif", np.arange(3000, dtype=np.uint16).reshape(1, 3000)),
        "pages": write_tiff("pages.tif", np.ones((3, 8, 8), np.uint32), photometric="minisblack"),
    }


KINDS = ["one pixel", "zeros", "undefined", "negative", "rgb", "rgba", "fits", "thin", "pages"]


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
def test_awkward_images_go_through_every_stage(
    kind: str,
    add: Callable[..., Window],
    settle: Callable[[], None],
    tmp_path: Path,
    write_tiff: Callable[..., Path],
    qtbot: QtBot,
) -> None:
    window = add(awkward_images(tmp_path, write_tiff)[kind])
    assert len(window.session.state.samples) == 1
    for stage in ("look", "correct", "outline", "measure"):
        window.session.go_to(stage)
        settle()
        window.views.area.picture.zoom_by(3.0)
        window.commands.selection.show_next_channel()
        qtbot.mouseMove(window.views.area.picture, QPoint(400, 200))
        window.views.area.picture.fit()
        settle()
        assert not window.views.area.picture.grab().isNull()
    window.session.go_to("correct")
    window.views.correct.add_step("background.level")
    settle()
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        window.commands.measure.measure_all()
    window.session.go_to("compare")
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    assert window.session.undo_stack.canUndo()


def test_files_that_cannot_be_read_are_named_and_the_others_open(
    add: Callable[..., Window], write_tiff: Callable[..., Path], blobs: np.ndarray, tmp_path: Path
) -> None:
    good = [write_tiff("a-1.tif", blobs), write_tiff("a-2.tif", blobs)]
    text = tmp_path / "text.tif"
    text.write_text("no image")
    cut = write_tiff("cut.tif", blobs)
    cut.write_bytes(cut.read_bytes()[:3000])
    window = add(good[0], text, tmp_path / "gone.tif", cut, good[1])
    assert [entry.name for entry in window.session.state.samples] == ["a-1", "a-2"]
    for name in ("text.tif", "gone.tif", "cut.tif"):
        assert name in window.views.notice.text
    window.session.undo_stack.undo()
    assert window.session.state.samples == ()


def test_dropping_a_folder(
    window: Window, write_tiff: Callable[..., Path], blobs: np.ndarray, qtbot: QtBot
) -> None:
    path = write_tiff("folder/x.tif", blobs)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path.parent))])
    event = QDropEvent(
        QPointF(10, 10),
        Qt.DropAction.CopyAction,
        data,
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
    )
    window.dropEvent(event)
    qtbot.waitUntil(lambda: len(window.session.state.samples) == 1, timeout=WAIT)


@pytest.mark.slow
def test_the_read_out_gives_the_files_own_numbers(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    settle()
    facts, sample = study.compute.queue.focused, study.compute.store.focused
    assert facts is not None
    assert facts.regions
    assert sample is not None
    region = int(facts.regions[0].ids[0])
    x, y = (round(float(v)) for v in facts.regions[0].centres[0])
    qtbot.mouseMove(study.views.area.picture, study.views.area.picture.to_widget(x, y).toPoint())
    study.views.area.picture.pointed.emit((x, y))
    native = int(sample.channels["chlorophyll"].pixels[y, x])
    level = facts.reports["background"]["chlorophyll"]["level"]
    texts = study.views.status.texts()
    assert f"x {x}  y {y}" in texts["position"]
    assert "µm" in texts["position"]
    assert texts["native"].replace("\u202f", "") == f"native {native}"
    assert float(texts["signal"].split()[1].replace("\u202f", "")) == pytest.approx(
        native - level, abs=0.06
    )
    assert float(texts["0–1"].split()[1]) == pytest.approx(native / 65535, abs=1e-3) or float(
        texts["0–1"].split()[1]
    ) == pytest.approx(native / 4095, abs=1e-3)
    assert texts["region"] == f"region {region}"
    study.views.area.picture.pointed.emit(None)
    assert set(study.views.status.texts().values()) == {""}


@pytest.mark.parametrize("name", ["thin.tif", "sky.fits"])
def test_the_pointer_finds_the_pixel_it_is_over(
    name: str, add: Callable[..., Window], tmp_path: Path, write_tiff: Callable[..., Path]
) -> None:
    awkward_images(tmp_path, write_tiff)
    picture = add(tmp_path / name).views.area.picture
    shape = picture.frame.shape
    assert shape is not None
    for pixel in ((0, 0), (shape[1] - 1, shape[0] - 1), (shape[1] // 2, shape[0] // 2)):
        picture.fit()
        assert picture.to_pixel(picture.to_widget(*pixel)) == pixel
        picture.zoom_by(5.0, picture.to_widget(*pixel))
        assert picture.to_pixel(picture.to_widget(*pixel)) == pixel
    assert picture.to_pixel(picture.to_widget(-3, 0)) is None


def test_fits_is_shown_with_its_first_row_below(
    add: Callable[..., Window], tmp_path: Path, write_tiff: Callable[..., Path]
) -> None:
    awkward_images(tmp_path, write_tiff)
    picture = add(tmp_path / "sky.fits").views.area.picture
    assert picture.to_widget(0, 0).y() > picture.to_widget(0, 5).y()
    tiff = add(tmp_path / "neg.tif")
    tiff.session.focus.set(sample_id=tiff.session.state.samples[-1].id)
    assert picture.to_widget(0, 0).y() < picture.to_widget(0, 5).y()


def test_zoom_keeps_the_place_under_the_pointer(study: Window) -> None:
    picture = study.views.area.picture
    at = QPointF(300, 222)
    before = picture.to_pixel(at)
    for factor in (1.25, 4.0, 0.5):
        picture.zoom_by(factor, at)
        assert picture.to_pixel(at) == before
    picture.zoom_to(1.0)
    assert picture.zoom == pytest.approx(1.0)


@pytest.mark.slow
def test_display_range_by_key_ridges_and_number_changes_no_measurement(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    with qtbot.waitSignal(study.compute.batch.measured, timeout=WAIT):
        study.commands.measure.measure_all()
    before = [table.table for table in study.session.measurements.ordered_tables()]
    study.session.go_to("look")
    settle()
    key = study.views.area.key
    top = QPoint(key.width() - 20, round(key.position(key.range[1])))
    qtbot.mousePress(key, Qt.MouseButton.LeftButton, pos=top)
    qtbot.mouseMove(key, top + QPoint(0, 60))
    qtbot.mouseRelease(key, Qt.MouseButton.LeftButton, pos=top + QPoint(0, 60))
    after_key = study.compute.ranges.display_range("chlorophyll", "native")
    study.views.ridges.drag_marker("display low", to=300.0)
    after_ridges = study.compute.ranges.display_range("chlorophyll", "native")
    assert after_ridges == (300.0, after_key[1])
    study.views.look.display.high.enter("2000")
    assert study.compute.ranges.display_range("chlorophyll", "native") == (300.0, 2000.0)
    study.views.look.display.automatic.click()
    settle()
    assert not study.session.state.ranges
    study.session.undo_stack.undo()
    assert study.compute.ranges.display_range("chlorophyll", "native") == (300.0, 2000.0)
    assert all(
        a.table.equals(b)
        for a, b in zip(study.session.measurements.ordered_tables(), before, strict=True)
    )
    assert not study.session.measurements.is_stale


def test_stretch_palette_and_invert_change_the_picture_alone(
    study: Window, settle: Callable[[], None]
) -> None:
    study.session.go_to("look")
    settle()
    panel, seen = study.views.look, [frame(study)]
    panel.display.stretch.setCurrentIndex(panel.display.stretch.findData("asinh"))
    panel.display.stretch.activated.emit(0)
    settle()
    seen.append(frame(study))
    assert panel.display.strength.isVisible()
    panel.display.strength.enter("200")
    settle()
    seen.append(frame(study))
    panel.display.colours.setCurrentIndex(panel.display.colours.findData("elevation"))
    panel.display.colours.activated.emit(0)
    settle()
    seen.append(frame(study))
    panel.display.invert.setChecked(True)
    settle()
    seen.append(frame(study))
    for before, after in pairwise(seen):
        assert (before != after).any()
    style = study.compute.ranges.style("chlorophyll")
    assert (style.stretch, style.strength, style.palette) == ("asinh", 200.0, "elevation")
    assert study.compute.ranges.style("lipid dye").stretch == "linear"
    panel.display.strength.enter("-5")
    assert study.compute.ranges.style("chlorophyll").strength == 200.0
    for _ in range(4):
        study.session.undo_stack.undo()
    settle()
    np.testing.assert_array_equal(frame(study), seen[0])


def test_groups_by_hand_name_and_folder(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("look")
    first = study.session.state.samples[0]
    study.views.look.sample.group.setCurrentText("Mine")
    study.views.look.sample.group.activated.emit(0)
    assert study.session.state.entry(first.id).group == "Mine"
    study.commands.selection.group_by("folder")
    assert {entry.group for entry in study.session.state.samples} == {"lipid"}
    study.commands.selection.group_by("name")
    assert len(study.session.state.groups) == 3
    for _ in range(3):
        study.session.undo_stack.undo()
    assert study.session.state.entry(first.id).group == "replete"
    settle()


def test_samples_can_be_taken_out_and_come_back(study: Window, settle: Callable[[], None]) -> None:
    study.commands.selection.remove_samples()
    settle()
    assert len(study.session.state.samples) == 11
    assert len(study.views.drawer.tiles) == 11
    study.session.undo_stack.undo()
    settle()
    assert len(study.views.drawer.tiles) == 12
    assert all(tile.image is not None for tile in study.views.drawer.tiles)


def hover(picture: Picture, x: int, y: int) -> None:
    """Move the pointer to the centre of a pixel, which may lie between those of the screen."""
    at, no = picture.to_widget(x, y), Qt.MouseButton.NoButton
    event = QMouseEvent(
        QEvent.Type.MouseMove, at, picture.mapToGlobal(at), no, no, Qt.KeyboardModifier.NoModifier
    )
    QApplication.sendEvent(picture, event)


def test_the_neighbourhood_of_the_pointer_is_read_and_outlined(
    study: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    study.session.go_to("look")
    settle()
    picture, sample = study.views.area.picture, study.compute.store.focused
    assert sample is not None
    native = sample.channels["chlorophyll"].pixels.astype(float)
    hover(picture, 300, 200)
    assert study.views.status.texts()["around"] == ""
    alone = picture.grab().toImage()
    for _ in range(3):
        study.menus.actions["view.reach_more"].trigger()
    assert study.session.focus.reach == 7
    inside = native[197:204, 297:304]
    text = study.views.status.texts()["around"].replace("\u202f", "")
    assert text.startswith("7×7 mean ")
    mean, sd = (float(part) for part in text.removeprefix("7×7 mean ").split(" ± "))
    assert mean == pytest.approx(inside.mean(), abs=0.01)
    assert sd == pytest.approx(inside.std(ddof=1), rel=0.01)
    assert picture.grab().toImage() != alone
    # At the corner only what is there is read; the size never leaves its range.
    hover(picture, 0, 0)
    corner = study.views.status.texts()["around"].removeprefix("7×7 mean ").split(" ± ")[0]
    assert float(corner) == pytest.approx(native[:4, :4].mean(), abs=0.01)
    study.session.focus.set_reach(9999)
    assert study.session.focus.reach == 501
    study.session.focus.set_reach(-4)
    assert study.session.focus.reach == 1
    QApplication.sendEvent(picture, QEvent(QEvent.Type.Leave))
    assert study.views.status.texts()["around"] == ""


def test_leaving_the_group_field_takes_what_was_typed(
    study: Window, settle: Callable[[], None]
) -> None:
    """The field's own line must be asked anew: Qt replaces it while the window is dressed."""
    study.edit_group()
    settle()
    study.views.area.picture.setFocus()
    assert study.session.focus.entry is not None and study.session.focus.entry.group == "replete"
    study.edit_group()
    line = study.views.look.sample.group.lineEdit()
    assert line is not None
    line.selectAll()
    QTest.keyClicks(line, "Another")
    study.views.area.picture.setFocus()
    settle()
    assert study.session.focus.entry is not None and study.session.focus.entry.group == "Another"
