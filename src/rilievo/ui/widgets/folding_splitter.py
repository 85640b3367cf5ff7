"""A splitter whose outer parts fold away to a thin edge, and come back as they were."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPalette, QPen, QPolygonF
from PyQt6.QtWidgets import QSplitter, QSplitterHandle, QWidget

# The edge that stays of a folded part, and where it is dragged.
EDGE = 9
_GRIP = 14


class _Edge(QSplitterHandle):
    """The line between two parts; a double click folds the outer one, or brings it back."""

    def __init__(self, orientation: Qt.Orientation, splitter: FoldingSplitter) -> None:
        super().__init__(orientation, splitter)
        self._splitter = splitter

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        part = self._splitter.part_at(self)
        if part is not None:
            self._splitter.fold(part, not self._splitter.is_folded(part))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        super().mouseReleaseEvent(event)
        self._splitter.note_sizes()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        part = self._splitter.part_at(self)
        if part is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = QRectF(self.rect()).center()
        palette = self.palette()
        painter.setPen(QPen(palette.color(QPalette.ColorRole.Mid), 1.4))
        along = QPointF(_GRIP, 0) if self.orientation() == Qt.Orientation.Vertical else QPointF(
            0, _GRIP
        )  # fmt: skip
        if not self._splitter.is_folded(part):
            painter.drawLine(middle - along, middle + along)
            return
        # It opens from the outside in.
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(palette.color(QPalette.ColorRole.PlaceholderText))
        inwards = QPointF(0, -2.5) if along.x() else QPointF(-2.5, 0)
        if self._splitter.indexOf(part) == 0:
            inwards = -inwards
        side = along * (4 / _GRIP)
        tip = QPolygonF([middle - side - inwards, middle + side - inwards, middle + inwards])
        painter.drawPolygon(tip)


class FoldingSplitter(QSplitter):
    """Parts in a row; those given to `make_foldable` fold.

    folded : a part was folded, or brought back, by whatever way.
    """

    folded = pyqtSignal(object, bool)

    def __init__(self, orientation: Qt.Orientation) -> None:
        super().__init__(orientation)
        self.setHandleWidth(EDGE)
        self._titles: dict[QWidget, str] = {}
        self._sizes: dict[QWidget, int] = {}
        self._folded: set[QWidget] = set()
        self.splitterMoved.connect(lambda *_: self.note_sizes())

    def createHandle(self) -> QSplitterHandle:
        return _Edge(self.orientation(), self)

    def make_foldable(self, part: QWidget, title: str, size: int) -> None:
        """Have a part fold. title : what it is called. size : it comes back with."""
        self._titles[part] = title
        self._sizes.setdefault(part, size)
        index = self.indexOf(part)
        self.setCollapsible(index, True)
        edge = self.handle(max(index, 1))
        if edge is not None:
            edge.setToolTip(f"{title}: drag, or double click to fold it away and bring it back")
            edge.setAccessibleName(f"Edge of {title}")

    def part_at(self, edge: QSplitterHandle) -> QWidget | None:
        """Return the part that an edge folds: the foldable one beside it, the outer first."""
        for k in range(1, self.count()):
            if self.handle(k) is edge:
                beside = [self.widget(j) for j in (k, k - 1)]
                return next((one for one in beside if one in self._titles), None)
        return None

    def is_folded(self, part: QWidget) -> bool:
        """Whether only the edge of a part is there."""
        return part in self._folded

    def fold(self, part: QWidget, folded: bool) -> None:
        """Fold a part away, or bring it back with the size that it had."""
        if folded == self.is_folded(part):
            return
        if folded:
            self._sizes[part] = max(self.size_of(part), self._least(part))
            self._folded.add(part)
            self._divide(part, 0)
        else:
            self._folded.discard(part)
            self._divide(part, self._sizes[part])
        self.folded.emit(part, folded)

    def size_of(self, part: QWidget) -> int:
        """Return how long a part is."""
        return self.sizes()[self.indexOf(part)]

    def set_size(self, part: QWidget, size: int) -> None:
        """Make a part so long, at the cost of the first that does not fold; once it is unfolded."""
        self._sizes[part] = size
        if not self.is_folded(part):
            self._divide(part, size)

    def remembered_size(self, part: QWidget) -> int:
        """Return how long a part is, or was before it was folded."""
        return self._sizes[part] if self.is_folded(part) else self.size_of(part)

    def note_sizes(self) -> None:
        """Take over what was dragged: a part without length is folded."""
        for part in list(self._titles):
            size = self.size_of(part)
            if size:
                self._sizes[part] = size
            if self.isVisible() and (size == 0) != self.is_folded(part):
                (self._folded.add if size == 0 else self._folded.discard)(part)
                self.folded.emit(part, size == 0)

    def _least(self, part: QWidget) -> int:
        hint = part.minimumSizeHint()
        return hint.height() if self.orientation() == Qt.Orientation.Vertical else hint.width()

    def _divide(self, part: QWidget, size: int) -> None:
        sizes = self.sizes()
        index = self.indexOf(part)
        rest = next(
            k for k in range(self.count()) if k != index and self.widget(k) not in self._titles
        )
        given = sizes[index] - size
        sizes[index] = size
        sizes[rest] = max(sizes[rest] + given, 0)
        self.setSizes(sizes)
