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
from rilievo.ui.actions import ACTIONS
from rilievo.ui.window import Window
from tests.ui.conftest import repairs


@pytest.fixture
def two(add: Callable[..., Window], write_tiff: Callable[..., Path], blobs: np.ndarray) -> Window:
    """Two samples of made-up rectangles."""
    return add(write_tiff("a-1.tif", blobs), write_tiff("a-2.tif", blobs[::-1].copy()))


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
    assert getattr(two.model.viewing, name) == value


def test_no_shortcut_means_two_things() -> None:
    shortcuts = [action.shortcut for action in ACTIONS if action.shortcut]
    assert len(set(shortcuts)) == len(shortcuts)
    assert all(action.tip for action in ACTIONS)


def test_menus_show_what_is_switched_on(two: Window, settle: Callable[[], None]) -> None:
    rulers = two.actions_by_id["view.rulers"]
    assert rulers.isCheckable() and rulers.isChecked()
    rulers.trigger()
    settle()
    assert not two.model.viewing.rulers
    assert not rulers.isChecked()
    two.actions_by_id["view.scale_unit"].trigger()
    settle()
    checked = [
        kind
        for kind in ("native", "unit", "8-bit")
        if two.actions_by_id[f"view.scale_{kind}"].isChecked()
    ]
    assert checked == ["unit"]
    two.actions_by_id["read.picture_key"].trigger()
    assert two.model.viewing.on_pictures == {"scale bar", "labels"}


def test_hiding_the_rulers_gives_the_picture_their_room(
    two: Window, settle: Callable[[], None]
) -> None:
    with_rulers = two.area.picture.zoom
    two.actions_by_id["view.rulers"].trigger()
    settle()
    assert two.area.picture.zoom > with_rulers


def test_shift_k_pins_what_is_under_the_pointer(two: Window, settle: Callable[[], None]) -> None:
    two.model.viewing.point_at((41, 33))
    two.actions_by_id["read.pick_here"].trigger()
    settle()
    (pick,) = two.model.state.method.picks
    assert (pick.x, pick.y, pick.sample) == (41, 33, "a-1")
    two.drawer.picks.keep_here()
    two.drawer.picks._go(0, 0)
    settle()
    picture = two.area.picture
    at = picture.to_widget(41, 33).toPoint()
    assert (at - picture.rect().center()).manhattanLength() < 4


def test_a_line_is_moved_as_a_whole(two: Window, settle: Callable[[], None]) -> None:
    two.actions_by_id["read.line"].trigger()
    two.drawer.profile.set_line(20, 20, 60, 20)
    picture = two.area.picture
    start = picture.to_widget(40, 20).toPoint()
    end = picture.to_widget(40, 30).toPoint()
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(picture, end)
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=end)
    settle()
    line = two.model.viewing.line
    assert line is not None
    assert (line.x0, line.x1) == pytest.approx((20, 60), abs=0.3)
    assert (line.y0, line.y1) == pytest.approx((30, 30), abs=0.3)
    assert line.length == pytest.approx(40)


def test_a_small_patch_is_repaired_by_dragging(two: Window, settle: Callable[[], None]) -> None:
    two.actions_by_id["read.repair"].trigger()
    picture = two.area.picture
    corners = [picture.to_widget(*place).toPoint() for place in ((42, 35), (45, 37))]
    QTest.mousePress(picture, Qt.MouseButton.LeftButton, pos=corners[0])
    QTest.mouseMove(picture, corners[1])
    QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=corners[1])
    settle()
    (repair,) = repairs(two)
    assert Rectangle(**repair.model_dump(exclude={"value"})) == Rectangle(
        x=42, y=35, width=4, height=3
    )
    assert repair.value is None
    assert "12 pixels repaired" in two.notice.text
    two.go_to("correct")
    settle()
    two.correct_panel.open_card("repair")
    assert "12 px" in two.correct_panel.cards["repair"].told.text()
    two.correct_panel.cards["repair"].own.click()
    assert repairs(two) == ()


def test_an_empty_study_has_no_line_of_split(window: Window) -> None:
    window.looking.split_with_next()
    assert "second sample" in window.notice.text
    assert window.model.viewing.split is None
    window.looking.paste_view()
    assert not window.model.undo_stack.canUndo()


def test_the_sheet_is_dragged_as_one(two: Window, settle: Callable[[], None]) -> None:
    two.actions_by_id["view.sheet"].trigger()
    settle()
    sheet = two.area.sheet
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
    assert sheet._factor == 1


def test_what_is_seen_is_kept_within_the_budget() -> None:
    """Checks and derived planes share the cache of all results, and leave it as others do."""
    cache = BudgetCache(100)
    for k in range(5):
        cache.get(k, lambda k=k: k, lambda _: 40)
    assert [k for k in range(5) if cache.peek(k) is not None] == [3, 4]
