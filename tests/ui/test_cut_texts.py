"""No text is cut at the smallest window, nor with the largest texts."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from rilievo.ui.session.study_session import STAGES
from rilievo.ui.shell.window import Window
from rilievo.ui.theme.choice import dress
from rilievo.ui.widgets.card import Card
from rilievo.ui.widgets.flow_layout import FlowLayout
from tests.ui.cut_texts import texts_without_room


@pytest.fixture
def dressed() -> bool:
    """Sizes are those that people see."""
    return True


@pytest.fixture
def restored() -> Iterator[None]:
    """Texts as large as before, for the other tests."""
    yield
    QSettings().clear()
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    dress(application)


def lay_out() -> None:
    """Have everything laid out that was asked for, also what follows from it."""
    for _ in range(4):
        QApplication.sendPostedEvents()
        QApplication.processEvents()


@pytest.mark.slow
@pytest.mark.usefixtures("restored")
@pytest.mark.parametrize(
    ("size", "percent"), [((1024, 700), 100), ((1280, 800), 100), ((1280, 800), 150)]
)
def test_no_text_is_cut(
    measured: Window, size: tuple[int, int], percent: int, settle: Callable[[], None], qtbot: QtBot
) -> None:
    if percent != 100:
        measured.menus.actions[f"window.text_{percent}"].trigger()
    measured.setMinimumSize(400, 300)
    measured.resize(*size)
    found: dict[str, None] = {}
    for stage in STAGES:
        measured.session.go_to(stage)
        settle()
        lay_out()
        panel = measured.pages.panel
        assert panel is not None
        for card in [None, *(c for c in panel.findChildren(Card) if c.can_fold)]:
            if card is not None and card.isVisible():
                card.open()
                lay_out()
            found |= {f"{stage}: {text}": None for text in texts_without_room(measured)}
        tabs = measured.views.drawer.tabs
        for k in range(tabs.count()):
            if tabs.isTabVisible(k):
                tabs.setCurrentIndex(k)
                settle()
                lay_out()
                texts = texts_without_room(measured)
                found |= {f"{stage}, {tabs.tabText(k)}: {text}": None for text in texts}
    assert list(found) == []


@pytest.mark.usefixtures("restored")
@pytest.mark.parametrize("size", [(1024, 700), (1280, 800)])
def test_no_text_of_the_empty_window_is_cut(window: Window, size: tuple[int, int]) -> None:
    window.setMinimumSize(400, 300)
    window.resize(*size)
    lay_out()
    assert texts_without_room(window) == []


def test_a_text_without_room_is_found(study: Window) -> None:
    assert texts_without_room(study) == []
    study.views.header.find_button.setFixedWidth(20)
    assert any("Find" in text for text in texts_without_room(study))


def test_widgets_flow_into_further_lines(window: Window) -> None:
    host = QWidget(window)
    layout = FlowLayout(host, spacing=4)
    host.show()
    for _ in range(6):
        part = QWidget()
        part.setFixedSize(50, 20)
        layout.addWidget(part)
        part.show()
    assert layout.heightForWidth(6 * 50 + 5 * 4) == 20
    assert layout.heightForWidth(6 * 50 + 5 * 4 - 1) == 44
    assert layout.heightForWidth(50) == 6 * 20 + 5 * 4
    assert layout.minimumSize().width() == 50
    assert layout.takeAt(9) is None and layout.itemAt(9) is None
    assert layout.takeAt(0) is not None and layout.count() == 5
