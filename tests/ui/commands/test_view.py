"""The actions of Look from keyboard and menu: each does what its tooltip says."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from rilievo.core.cache import BudgetCache
from rilievo.core.parameters import Rectangle
from rilievo.ui.shell.window import Window
from tests.ui.conftest import repairs


@pytest.fixture
def two(add: Callable[..., Window], write_tiff: Callable[..., Path], blobs: np.ndarray) -> Window:
    """Two samples of synthetic rectangles."""
    return add(write_tiff("a-1.tif", blobs), write_tiff("a-2.tif", blobs[::-1].copy()))


@pytest.mark.slow
@pytest.mark.parametrize(
    ("key", "name", "value"),
    [
        ("K", "tool", "pick"),
        ("L", "tool", "line"),
        ("R", "tool", "repair"),
        ("Z", "tool", "zoom"),
        ("2", "layout_kind", "samples"),
        ("3", "layout_kind", "channels"),
        ("S", "split", 2),
        ("D", "form", "disc"),
    ],
)
def test_a_key_does_what_its_action_says(
    two: Window, settle: Callable[[], None], key: str, name: str, value: object
) -> None:
    QTest.keyClick(two, getattr(Qt.Key, f"Key_{key}"))
    settle()
    assert getattr(two.session.view, name) == value


def test_menus_show_what_is_switched_on(two: Window, settle: Callable[[], None]) -> None:
    rulers = two.menus.actions["view.rulers"]
    assert rulers.isCheckable() and rulers.isChecked()
    rulers.trigger()
    settle()
    assert not two.session.view.rulers
    assert not rulers.isChecked()
    two.menus.actions["view.scale_unit"].trigger()
    settle()
    checked = [
        kind
        for kind in ("native", "unit", "8-bit")
        if two.menus.actions[f"view.scale_{kind}"].isChecked()
    ]
    assert checked == ["unit"]
    two.menus.actions["read.picture_key"].trigger()
    assert two.session.view.on_pictures == {"scale bar", "labels"}


def test_hiding_the_rulers_gives_the_picture_their_room(
    two: Window, settle: Callable[[], None]
) -> None:
    with_rulers = two.views.area.picture.zoom
    two.menus.actions["view.rulers"].trigger()
    settle()
    assert two.views.area.picture.zoom > with_rulers


def test_shift_k_pins_what_is_under_the_pointer(two: Window, settle: Callable[[], None]) -> None:
    two.session.view.point_at((41, 33))
    two.menus.actions["read.pick_here"].trigger()
    settle()
    (pick,) = two.session.state.method.picks
    assert (pick.x, pick.y, pick.sample) == (41, 33, "a-1")
    two.views.drawer.picks.keep_here()
    two.views.drawer.picks.table.cellDoubleClicked.emit(0, 0)
    settle()
    picture = two.views.area.picture
    at = picture.to_widget(41, 33).toPoint()
    assert (at - picture.rect().center()).manhattanLength() < 4


def test_a_line_is_moved_as_a_whole(two: Window, settle: Callable[[], None]) -> None:
    two.menus.actions["read.line"].trigger()
    two.views.drawer.profile.set_line(20, 20, 60, 20)
    picture = two.views.area.picture
    start = picture.to_widget(40, 20).toPoint()
    end = picture.to_widget(40, 30).toPoint()
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(picture, end)
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=end)
    settle()
    line = two.session.view.line
    assert line is not None
    assert (line.x0, line.x1) == pytest.approx((20, 60), abs=0.3)
    assert (line.y0, line.y1) == pytest.approx((30, 30), abs=0.3)
    assert line.length == pytest.approx(40)


def test_a_small_patch_is_repaired_by_dragging(two: Window, settle: Callable[[], None]) -> None:
    two.menus.actions["read.repair"].trigger()
    picture = two.views.area.picture
    corners = [picture.to_widget(*index).toPoint() for index in ((42, 35), (45, 37))]
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=corners[0])
    QTest.mouseMove(picture, corners[1])
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=corners[1])
    settle()
    (repair,) = repairs(two)
    assert Rectangle(**repair.model_dump(exclude={"value"})) == Rectangle(
        x=42, y=35, width=4, height=3
    )
    assert repair.value is None
    assert "12 pixels repaired" in two.views.notice.text
    two.session.go_to("correct")
    settle()
    two.views.correct.open_card("repair")
    assert "12 px" in two.views.correct.cards["repair"].report.text()
    two.views.correct.cards["repair"].own.click()
    assert repairs(two) == ()


def test_an_empty_study_has_no_line_of_split(window: Window) -> None:
    window.commands.view.split_with_next()
    assert "second sample" in window.views.notice.text
    assert window.session.view.split is None
    window.commands.view.paste_view()
    assert not window.session.undo_stack.canUndo()


def test_the_sheet_is_dragged_as_one(two: Window, settle: Callable[[], None]) -> None:
    two.menus.actions["view.sheet"].trigger()
    settle()
    sheet = two.views.area.sheet
    whole = sheet.zoom
    sheet.zoom_by(4.0)
    settle()
    before = [sheet.geometry_of(cell).view.left for cell in sheet.cells]
    start = sheet.cells[0].box.center().toPoint()
    QTest.mousePress(sheet, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(sheet, start + QPoint(-24, 0))
    QTest.mouseRelease(sheet, Qt.MouseButton.LeftButton, pos=start + QPoint(-24, 0))
    moved = [sheet.geometry_of(cell).view.left for cell in sheet.cells]
    steps = np.subtract(moved, before)
    assert steps[0] == pytest.approx(24 / sheet.zoom, rel=0.02)
    assert steps[1] == pytest.approx(steps[0])
    QTest.mouseDClick(sheet, Qt.MouseButton.LeftButton, pos=start)
    assert sheet.zoom == pytest.approx(whole)


def test_what_is_seen_is_kept_within_the_budget() -> None:
    """Checks and derived planes share the cache of all results, and leave it as others do."""
    cache = BudgetCache(100)
    for k in range(5):
        cache.get(k, lambda k=k: k, lambda _: 40)
    assert [k for k in range(5) if cache.peek(k) is not None] == [3, 4]
