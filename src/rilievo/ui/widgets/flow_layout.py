"""A layout that goes on in the next line where there is no room left, like words of a text."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Widgets in lines, each as wide as it asks for."""

    def __init__(self, parent: QWidget | None = None, spacing: int = 6) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self.setSpacing(spacing)
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem | None) -> None:
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._place(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect, move=True)

    def sizeHint(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        width = sum(size.width() for size in shown) + self.spacing() * max(len(shown) - 1, 0)
        return self._with_margins(QSize(width, max((s.height() for s in shown), default=0)))

    def minimumSize(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        widest = max((size.width() for size in shown), default=0)
        return self._with_margins(QSize(widest, max((s.height() for s in shown), default=0)))

    def _with_margins(self, size: QSize) -> QSize:
        left, top, right, bottom = self._margins()
        return QSize(size.width() + left + right, size.height() + top + bottom)

    def _margins(self) -> tuple[int, int, int, int]:
        margins = self.contentsMargins()
        return margins.left(), margins.top(), margins.right(), margins.bottom()

    def _place(self, rect: QRect, *, move: bool) -> int:
        """Put the widgets into a rectangle, or only find out how high they are together."""
        left, top, right, bottom = self._margins()
        room = rect.adjusted(left, top, -right, -bottom)
        x, y, line = room.x(), room.y(), 0
        for item in self._items:
            if item.isEmpty():
                continue
            size = item.sizeHint()
            if line and x + size.width() > room.right() + 1:
                x, y, line = room.x(), y + line + self.spacing(), 0
            if move:
                item.setGeometry(QRect(QPoint(x, y), size))
            x += size.width() + self.spacing()
            line = max(line, size.height())
        return y + line - rect.y() + bottom
