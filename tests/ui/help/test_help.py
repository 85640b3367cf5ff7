"""Help inside: the guide, the first measurement, keys, versions, reporting, what is this."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt, QUrl
from PyQt6.QtGui import QGuiApplication, QTextDocument
from PyQt6.QtWidgets import QApplication, QLabel
from pytestqt.qtbot import QtBot

from rilievo.ui.help import log
from rilievo.ui.help.guide_window import GuideWindow
from rilievo.ui.help.help_dialogs import AboutDialog, ProblemDialog, ShortcutSheet
from rilievo.ui.help.pages import PAGES, anchor_of, folder, headings_of, text_of, title_of
from rilievo.ui.help.topics import set_topic, topic_of
from rilievo.ui.shell.window import Window


@pytest.fixture
def guide(window: Window) -> GuideWindow:
    return window.commands.help.guide


def seen(guide: GuideWindow) -> str:
    """The text of the block at the top of what is seen."""
    return guide.text.cursorForPosition(QPoint(30, 20)).block().text()


def test_every_page_is_there_with_a_title() -> None:
    # The start of the site and the names of the Python surface are of the site alone.
    assert {path.stem for path in folder().glob("*.md")} - {"index", "api"} == set(PAGES)
    assert all(title_of(page) and headings_of(page)[0].depth == 1 for page in PAGES)
    assert "not installed" in text_of("none")


@pytest.mark.parametrize("stage", ["look", "correct", "outline", "measure", "compare"])
def test_the_guide_opens_at_the_stage(study: Window, stage: str, qtbot: QtBot) -> None:
    study.session.go_to(stage)
    study.menus.actions["help.guide"].trigger()
    guide = study.commands.help.guide
    qtbot.waitExposed(guide)
    assert guide.page == "guide"
    assert guide.text.textCursor().block().text() == stage.capitalize()
    qtbot.waitUntil(lambda: seen(guide) == stage.capitalize())
    assert seen(guide) == stage.capitalize()


def test_every_link_inside_leads_somewhere(guide: GuideWindow) -> None:
    for page in PAGES:
        guide.show_page(page)
        block = guide.text.document().begin()
        while block.isValid():
            pieces = block.begin()
            while not pieces.atEnd():
                href = pieces.fragment().charFormat().anchorHref()
                pieces += 1
                url = QUrl(href)
                if not href or url.scheme() in ("http", "https"):
                    continue
                target = Path(url.path()).stem if url.path().endswith(".md") else page
                if url.path() and not url.path().endswith(".md"):
                    assert (folder() / url.path()).exists(), (page, href)
                    continue
                if target == "README":
                    continue
                assert target in PAGES, (page, href)
                if url.fragment():
                    anchors = {anchor_of(one.text) for one in headings_of(target)}
                    assert url.fragment() in anchors, (page, href)
            block = block.next()


def test_links_and_headings_are_followed(guide: GuideWindow) -> None:
    guide.open_at("guide")
    guide._follow(QUrl("quantities.md#stars"))
    assert guide.page == "quantities"
    assert guide.text.textCursor().block().text() == "Stars"
    item = guide.contents.topLevelItem(PAGES.index("guide"))
    assert item is not None
    guide._go(item.child(1))
    assert guide.page == "guide"
    assert guide.text.textCursor().block().text() == item.child(1).text(0)  # type: ignore[union-attr]


def test_pictures_are_no_wider_than_the_page(guide: GuideWindow) -> None:
    guide.show()
    guide.open_at("designs")
    bar, view = guide.text.horizontalScrollBar(), guide.text.viewport()
    assert bar is not None
    assert view is not None
    assert bar.maximum() == 0
    url = QUrl("screenshots/designs.png")
    picture = guide.text.loadResource(QTextDocument.ResourceType.ImageResource.value, url)
    assert view.width() - 80 < picture.width() <= view.width()


def test_words_are_found_through_all_pages(guide: GuideWindow, qtbot: QtBot) -> None:
    guide.open_at("guide")
    guide.field.setText("Sternberg")
    pages = set()
    for _ in range(3):
        assert guide.find_next()
        assert guide.text.textCursor().selectedText() == "Sternberg"
        pages.add(guide.page)
    assert "steps" in pages
    guide.field.setText("xyzzy plugh")
    assert not guide.find_next()
    assert guide.found.text() == "not found"


def test_all_keys_are_listed_and_found(study: Window) -> None:
    study.menus.actions["help.keys"].trigger()
    sheet = study.commands.help.dialog
    assert isinstance(sheet, ShortcutSheet)

    def rows() -> list[tuple[str, str]]:
        groups = [sheet.list.topLevelItem(k) for k in range(sheet.list.topLevelItemCount())]
        return [
            (g.child(k).text(0), g.child(k).text(1)) for g in groups for k in range(g.childCount())
        ]  # type: ignore[union-attr]

    with_keys = [e for e in study.menus.entries if e.shortcut]
    assert {e.text for e in with_keys} <= {what for what, _ in rows()}
    sheet.field.setText("measure all")
    assert rows() == [("Measure all samples", "Ctrl+M")]


def test_about_names_packages_with_their_licences(study: Window) -> None:
    study.menus.actions["help.about"].trigger()
    dialog = study.commands.help.dialog
    assert isinstance(dialog, AboutDialog)
    text = dialog.text.toPlainText()
    for wanted in ("Apache 2.0", "numpy", "BSD", "PyQt6", "rilievo.log"):
        assert wanted in text
    assert "not stated" not in text


@pytest.fixture
def logging_to(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    monkeypatch.setattr(log, "log_file", lambda: tmp_path / "logs" / "rilievo.log")
    monkeypatch.setattr("rilievo.ui.help.versions.log_file", lambda: tmp_path / "x.log")
    log.begin_log()
    yield tmp_path / "logs" / "rilievo.log"
    log.end_log()


def test_warnings_are_logged_and_reported(study: Window, logging_to: Path) -> None:
    study.views.notice.warn("“a.tif” ends before its data do.")
    assert "“a.tif” ends before its data do." in logging_to.read_text()
    study.menus.actions["help.problem"].trigger()
    dialog = study.commands.help.dialog
    assert isinstance(dialog, ProblemDialog)
    dialog.what.setPlainText("It did not open.")
    dialog.copy.click()
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    text = clipboard.text()
    for wanted in ("It did not open.", "a.tif", "Python: 3.", "numpy"):
        assert wanted in text


def test_the_log_is_begun_anew_before_it_grows_large(
    logging_to: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (handler,) = log._own
    monkeypatch.setattr(handler, "maxBytes", 2000)
    for k in range(200):
        log.LOG.info("line %d of many", k)
    files = sorted(logging_to.parent.iterdir())
    assert len(files) == 4 and all(file.stat().st_size <= 2000 for file in files)
    assert "line 199" in log.last_lines(1)


def test_a_folder_that_cannot_be_written_does_not_stop_the_start(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "file").write_text("")
    monkeypatch.setattr(log, "log_file", lambda: tmp_path / "file" / "rilievo.log")
    log.begin_log()
    log.LOG.warning("nowhere")
    assert [type(handler) for handler in log._own] == [logging.NullHandler]
    log.end_log()


def test_the_walk_goes_through_the_stages(study: Window, qtbot: QtBot) -> None:
    study.menus.actions["help.walk"].trigger()
    walk, stages = study.walk, []
    assert walk.isVisible()
    for _ in range(len(walk._steps)):
        stages.append(study.session.stage)
        assert study.rect().contains(walk.geometry())
        assert walk.text.text()
        walk.next.click()
    assert list(dict.fromkeys(stages)) == ["look", "correct", "outline", "measure", "compare"]
    assert not walk.isVisible() and not walk._ring.isVisible()


def test_a_topic_is_that_of_the_nearest_around(window: Window) -> None:
    outer, inner = window.views.look, window.views.look.display
    set_topic(outer, "guide", "Look")
    assert topic_of(inner) == "guide#Look"
    set_topic(inner, "guide", "See")
    assert topic_of(inner.findChild(QLabel)) == "guide#See"
    inner.setProperty("topic", None)


def test_a_quantity_of_the_list_is_explained_by_its_definition(study: Window) -> None:
    study.session.go_to("measure")
    card = study.views.measure.quantities
    card.open()
    item = next(i for i in card._items() if i.data(Qt.ItemDataRole.UserRole) == "median")
    viewport = card.list.viewport()
    at = viewport.mapToGlobal(card.list.visualItemRect(item).center())
    assert topic_of(viewport, at) == "quantities#median"


def test_a_click_explains_instead_of_doing(study: Window, qtbot: QtBot) -> None:
    study.session.go_to("outline")
    study.menus.actions["help.what"].trigger()
    assert study.what_is_this.is_on
    button = study.views.outline.classes.findChildren(QLabel)[0]
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert not study.what_is_this.is_on
    assert QApplication.overrideCursor() is None
    guide = study.commands.help.guide
    assert guide.isVisible() and guide.text.textCursor().block().text() == "Outline"
    # Escape leaves it.
    study.what_is_this.begin()
    qtbot.keyClick(study, Qt.Key.Key_Escape)
    assert not study.what_is_this.is_on


def test_a_column_is_explained_by_its_quantity(measured: Window) -> None:
    table = measured.views.drawer.measurements
    measured.views.drawer.show_tab("Measurements")
    header = table.table.header
    position = table.rows.keys.index("mean")
    from rilievo.ui.panels.table.rows_model import IDENTITY  # noqa: PLC0415

    section = position + len(IDENTITY)
    at = QPoint(header.sectionViewportPosition(section) + 5, 5)
    assert header.topic_at(at) == "quantities#mean"
    measured.commands.help.open_topic("quantities#mean")
    assert measured.commands.help.guide.text.textCursor().block().text() == "mean"
