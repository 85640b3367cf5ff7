"""Folding parts of the window away, by keys and by dragging, and finding them as they were."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, QRect, QSettings, Qt
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.ui.shell.layout import PARTS
from rilievo.ui.shell.window import Window
from tests.ui.opening import open_study


@pytest.fixture
def dressed() -> bool:
    """Sizes are those that people see."""
    return True


def shown(window: Window, part: str) -> int:
    """How many pixels of a part are seen along the way in which it folds."""
    views = window.views
    widget: QWidget = {
        "cards": views.look.parentWidget(), "ridges": views.ridges, "drawer": views.drawer,
    }[part]  # fmt: skip
    seen = widget.visibleRegion().boundingRect()
    return seen.width() if part == "cards" else seen.height()


@pytest.mark.parametrize(("part", "key"), [("cards", "F7"), ("ridges", "F8"), ("drawer", "F9")])
def test_a_part_folds_by_a_key_and_comes_back_as_it_was(
    study: Window, part: str, key: str, qtbot: QtBot
) -> None:
    before = shown(study, part)
    picture = study.views.area.width() * study.views.area.height()
    assert study.menus.actions[f"window.{part}"].shortcut().toString() == key
    qtbot.keyClick(study, getattr(Qt.Key, f"Key_{key}"))
    assert study.pages.is_folded(part)
    assert shown(study, part) == 0
    if part != "ridges":
        assert study.views.area.width() * study.views.area.height() > 1.2 * picture
    # Another stage does not bring it back.
    study.session.go_to("outline")
    assert shown(study, part) == 0
    study.session.go_to("look")
    qtbot.keyClick(study, getattr(Qt.Key, f"Key_{key}"))
    assert shown(study, part) == pytest.approx(before, abs=2)


def test_an_edge_is_dragged_to_fold_and_double_clicked_to_unfold(
    study: Window, qtbot: QtBot
) -> None:
    left = study.views.drawer.parentWidget()
    before = shown(study, "drawer")
    edge = left.handle(1)  # type: ignore[union-attr]
    assert "Drawer" in edge.toolTip()
    start = edge.rect().center()
    qtbot.mousePress(edge, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(edge, start + QPoint(0, 150))
    qtbot.mouseRelease(edge, Qt.MouseButton.LeftButton, pos=start + QPoint(0, 150))
    assert study.pages.is_folded("drawer")
    assert shown(study, "drawer") == 0
    # The edge stays, to be seen and to be taken.
    assert edge.visibleRegion().boundingRect().height() >= 6
    qtbot.mouseDClick(edge, Qt.MouseButton.LeftButton, pos=edge.rect().center())
    assert shown(study, "drawer") == pytest.approx(before, abs=2)


def test_the_picture_alone_and_everything_again(study: Window, qtbot: QtBot) -> None:
    study.pages.fold("ridges", True)
    sizes = {part: shown(study, part) for part in PARTS}
    qtbot.keyClick(study, Qt.Key.Key_F11)
    assert [shown(study, part) for part in PARTS] == [0, 0, 0]
    assert study.pages.picture_alone
    qtbot.keyClick(study, Qt.Key.Key_F11)
    # What was folded before stays folded.
    assert study.pages.is_folded("ridges")
    assert {part: shown(study, part) for part in PARTS} == pytest.approx(sizes, abs=2)


def test_ridges_lie_below_the_picture_and_go_back(
    study: Window, settle: Callable[[], None]
) -> None:
    narrow = study.views.ridges.width()
    study.menus.actions["window.ridges_below"].trigger()
    settle()
    assert study.views.ridges.width() > 2 * narrow
    drawer, ridges = study.views.drawer, study.views.ridges
    assert ridges.mapTo(study, QPoint(0, 0)).y() < drawer.mapTo(study, QPoint(0, 0)).y()
    assert len(ridges.rows) == 12
    study.pages.fold("ridges", True)
    assert shown(study, "ridges") == 0 and shown(study, "drawer") > 100
    study.menus.actions["window.ridges_below"].trigger()
    assert study.pages.is_folded("ridges")
    study.pages.fold("ridges", False)
    assert study.views.ridges.width() == pytest.approx(narrow, abs=2)


def test_folds_heights_and_tab_are_found_again(
    study: Window, cache: AnalysisCache, qtbot: QtBot
) -> None:
    study.menus.actions["window.ridges_below"].trigger()
    study.pages.fold("cards", True)
    study.session.go_to("outline")
    study.pages.drawer_height = 231
    height = study.pages.drawer_height
    study.session.go_to("look")
    study.views.drawer.show_tab("Profile")
    study.close()
    again = Window(cache=cache)
    again.resize(1280, 800)
    again.show()
    qtbot.waitExposed(again)
    assert again.pages.ridges_below
    assert [again.pages.is_folded(part) for part in PARTS] == [True, False, False]
    assert again.views.drawer.tab == "Profile"
    again.session.go_to("outline")
    assert again.pages.drawer_height == pytest.approx(height, abs=3)
    again.close()


def test_a_first_window_and_its_frame_fit_the_screen(window: Window, qtbot: QtBot) -> None:
    # The screen of the tests has 800 × 800 pixels.
    screen = window.screen()
    assert screen is not None
    free = screen.availableGeometry()
    assert free.width() < 1024
    new = Window()
    assert new.width() <= free.width() and new.height() <= free.height() - 32
    assert new.minimumWidth() <= free.width()
    new.show()
    qtbot.waitExposed(new)
    assert QRect(0, 0, free.width(), free.height()).contains(
        QRect(QPoint(0, 0), new.frameGeometry().size())
    )
    new.close()


def test_what_settings_hold_is_checked(window: Window) -> None:
    name = window._screen_name
    for key, value in (("size drawer", "many"), ("fold cards", "[]"), ("drawer tab", "Nothing")):
        QSettings().setValue(f"layout {name}/{key}", value)
    window.pages.restore(name)
    assert not window.pages.is_folded("cards")
    assert window.views.drawer.tab == "Samples"


def test_the_stage_is_taken_up_with_a_study_and_not_before(
    study: Window, lipid: Path, cache: AnalysisCache, qtbot: QtBot
) -> None:
    study.session.go_to("outline")
    study.close()
    again = Window(cache=cache)
    again.commands.study.asks_before_leaving = False
    again.show()
    qtbot.waitExposed(again)
    assert again.session.stage == "look"
    open_study(again, lipid)
    assert again.session.stage == "outline"
    # Only once: the next study is looked at where one is.
    again.session.go_to("correct")
    open_study(again, lipid)
    assert again.session.stage == "correct"
    again.close()


def test_the_picture_fills_the_room(study: Window, settle: Callable[[], None]) -> None:
    settle()
    picture = study.views.area.picture
    geometry = picture.geometry_now
    assert geometry is not None and geometry.image_box.width() < 0.8 * picture.width()
    study.menus.actions["view.fill"].trigger()
    geometry = picture.geometry_now
    assert geometry is not None
    assert geometry.image_box.width() > picture.width() - 30
    # It goes on to do so in another size, until something else is asked for.
    study.pages.fold("cards", True)
    settle()
    geometry = picture.geometry_now
    assert geometry is not None and geometry.image_box.width() > picture.width() - 30
    study.menus.actions["view.fit"].trigger()
    geometry = picture.geometry_now
    assert geometry is not None and geometry.image_box.width() < 0.8 * picture.width()
