"""The guide in a window of its own: pages and headings at the left, the text at the right."""

from __future__ import annotations

from pathlib import PurePosixPath
from typing import Any

from PyQt6.QtCore import Qt, QTimer, QUrl
from PyQt6.QtGui import (
    QDesktopServices,
    QImage,
    QKeySequence,
    QShortcut,
    QTextCursor,
    QTextDocument,
)
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QSplitter,
    QTextBrowser,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.ui.help.pages import PAGES, anchor_of, folder, headings_of, text_of, title_of
from rilievo.ui.theme.style import text_font

_PAGE, _HEADING = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
_DEEPEST_LISTED = 3
# Margins of the page and a scroll bar.
_BESIDE_PICTURES = 64


class _Page(QTextBrowser):
    """A page whose pictures are no wider than it."""

    def loadResource(self, kind: int, url: QUrl) -> Any:
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return super().loadResource(kind, url)
        base = self.document()
        whole = url if base is None else base.baseUrl().resolved(url)
        image, room = QImage(whole.toLocalFile()), self.viewport()
        most = 0 if room is None else room.width() - _BESIDE_PICTURES
        if image.width() > most > 0:
            return image.scaledToWidth(most, Qt.TransformationMode.SmoothTransformation)
        return image


class GuideWindow(QWidget):
    """All pages; nothing in it needs a network. Links that lead out ask the desktop."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setWindowTitle("Guide – Rilievo")
        self.resize(900, 700)
        self.page = ""
        self.contents = QTreeWidget()
        self.contents.setHeaderHidden(True)
        self.contents.setAccessibleName("Pages and headings")
        self.contents.setIndentation(14)
        self.text = _Page()
        self.text.setOpenLinks(False)
        self.text.setAccessibleName("Page")
        self.text.document().setDocumentMargin(20)  # type: ignore[union-attr]
        self.field = QLineEdit()
        self.field.setPlaceholderText("Find in all pages; Enter goes to the next")
        self.field.setAccessibleName("Find in all pages")
        self.found = QLabel("")
        self.found.setProperty("role", "faint")
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 8)
        top.addWidget(self.field, 1)
        top.addWidget(self.found)
        halves = QSplitter(Qt.Orientation.Horizontal)
        halves.addWidget(self.contents)
        halves.addWidget(self.text)
        halves.setSizes([250, 650])
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(top)
        layout.addWidget(halves, 1)
        self._wanted = ""
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._scroll)
        self._fill()
        self.contents.itemClicked.connect(lambda item, _: self._go(item))
        self.contents.itemActivated.connect(lambda item, _: self._go(item))
        self.text.anchorClicked.connect(self._follow)
        self.field.returnPressed.connect(self.find_next)
        QShortcut(QKeySequence("Esc"), self, self.close)
        QShortcut(QKeySequence("Ctrl+F"), self, self.field.setFocus)

    def _fill(self) -> None:
        for page in PAGES:
            top = QTreeWidgetItem([title_of(page)])
            top.setData(0, _PAGE, page)
            self.contents.addTopLevelItem(top)
            parents = {1: top}
            for heading in headings_of(page):
                if not 1 < heading.depth <= _DEEPEST_LISTED:
                    continue
                above = max(depth for depth in parents if depth < heading.depth)
                item = QTreeWidgetItem([heading.text])
                item.setData(0, _PAGE, page)
                item.setData(0, _HEADING, heading.text)
                parents[above].addChild(item)
                parents = {d: one for d, one in parents.items() if d < heading.depth}
                parents[heading.depth] = item

    def open_at(self, page: str, heading: str = "") -> None:
        """Show a page, at a heading or at its beginning."""
        self.show()
        self.raise_()
        self.activateWindow()
        self.show_page(page)
        self._wanted = heading
        self._scroll()
        # Once more when the page is laid out in its width.
        self._later.start(0)

    def _scroll(self) -> None:
        if self._wanted:
            self._scroll_to(self._wanted)

    def show_page(self, page: str) -> None:
        """Show a page from its beginning."""
        if page != self.page:
            self.page = page
            document = self.text.document()
            if document is not None:
                document.setDefaultFont(text_font(13))
                document.setBaseUrl(QUrl.fromLocalFile(f"{folder()}/"))
            self.text.setMarkdown(text_of(page))
        self.text.moveCursor(QTextCursor.MoveOperation.Start)

    def find_next(self) -> bool:
        """Go to the next place with the words of the field, through all pages."""
        words = self.field.text().strip()
        self.found.setText("")
        if not words or self.text.find(words):
            return bool(words)
        first = PAGES.index(self.page) if self.page in PAGES else -1
        for k in range(1, len(PAGES) + 1):
            page = PAGES[(first + k) % len(PAGES)]
            if words.lower() in text_of(page).lower():
                self.show_page(page)
                if self.text.find(words):
                    return True
        self.found.setText("not found")
        return False

    def _go(self, item: QTreeWidgetItem) -> None:
        self.open_at(str(item.data(0, _PAGE)), str(item.data(0, _HEADING) or ""))

    def _scroll_to(self, heading: str) -> None:
        """Go to a heading, or to the cell of a table that holds it."""
        document = self.text.document()
        if document is None:
            return
        wanted, row = anchor_of(heading), None
        block = document.begin()
        while block.isValid():
            if block.blockFormat().headingLevel() and anchor_of(block.text()) == wanted:
                self._show_at(QTextCursor(block))
                return
            if row is None and block.text() == heading:
                row = QTextCursor(block)
            block = block.next()
        if row is not None:
            self._show_at(row)

    def _show_at(self, cursor: QTextCursor) -> None:
        self.text.setTextCursor(cursor)
        bar, rect = self.text.verticalScrollBar(), self.text.cursorRect()
        if bar is not None:
            bar.setValue(bar.value() + rect.top() - 12)

    def _follow(self, url: QUrl) -> None:
        """Follow a link: to a heading, to another page, or out of the guide."""
        path = PurePosixPath(url.path())
        if url.scheme() in ("http", "https"):
            QDesktopServices.openUrl(url)
        elif path.suffix == ".md" and path.stem in PAGES:
            self.show_page(path.stem)
            if url.fragment():
                self._scroll_to(url.fragment())
        elif not url.path() and url.fragment():
            self._scroll_to(url.fragment())
