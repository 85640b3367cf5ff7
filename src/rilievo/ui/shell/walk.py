"""The first measurement: a few sentences, each beside the control that it is about."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QObject, QPoint, QRect, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import side_by_side

_WIDTH, _GAP = 320, 14


@dataclass(frozen=True)
class WalkStep:
    """One sentence. stage : that is visited for it; "" stays. control : what it is about."""

    title: str
    text: str
    stage: str
    control: Callable[[], QWidget]


class _Ring(QWidget):
    """A line around a control; the pointer goes through it."""

    def __init__(self, parent: QWidget, theme: Theme) -> None:
        super().__init__(parent)
        self._theme = theme
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._theme.colour("accent"), 3))
        painter.drawRoundedRect(self.rect().adjusted(2, 2, -2, -2), 8, 8)


class Walk(QFrame):
    """The balloon with the sentence; the window can be used while it is there."""

    def __init__(
        self,
        window: QWidget,
        theme: Theme,
        steps: Sequence[WalkStep],
        go_to: Callable[[str], None],
    ) -> None:
        super().__init__(window)
        self.setObjectName("search")
        self.setAccessibleName("First measurement")
        self._window, self._steps, self._go_to = window, steps, go_to
        self.position = 0
        self._ring = _Ring(window, theme)
        self.title, self.text = QLabel(""), QLabel("")
        self.title.setProperty("role", "title")
        self.text.setWordWrap(True)
        self.count = QLabel("")
        self.count.setProperty("role", "faint")
        self.back, self.next, self.leave = QPushButton("Back"), QPushButton(""), QPushButton("End")
        self.next.setProperty("role", "main")
        self.back.clicked.connect(lambda: self.show_step(self.position - 1))
        self.next.clicked.connect(lambda: self.show_step(self.position + 1))
        self.leave.clicked.connect(self.end)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        layout.setSpacing(8)
        for widget in (self.title, self.text):
            layout.addWidget(widget)
        layout.addWidget(side_by_side(self.count, self.leave, self.back, self.next))
        self.setFixedWidth(scaled(_WIDTH))
        window.installEventFilter(self)
        self.hide()
        self._ring.hide()

    def begin(self) -> None:
        """Begin with the first sentence."""
        self.show_step(0)

    def end(self) -> None:
        """Leave it."""
        self.hide()
        self._ring.hide()

    def show_step(self, position: int) -> None:
        """Show a sentence; beyond the last one it ends."""
        if position >= len(self._steps):
            self.end()
            return
        self.position = max(position, 0)
        step = self._steps[self.position]
        if step.stage:
            self._go_to(step.stage)
        self.title.setText(step.title)
        self.text.setText(step.text)
        self.count.setText(f"{self.position + 1} of {len(self._steps)}")
        self.back.setEnabled(self.position > 0)
        self.next.setText("Done" if self.position + 1 == len(self._steps) else "Next")
        self.show()
        self.place()
        self.next.setFocus()

    def place(self) -> None:
        """Lie beside the control, inside of the window."""
        control = self._steps[self.position].control()
        self.adjustSize()
        room = self._window.rect()
        seen = control.isVisible() and not control.visibleRegion().isEmpty()
        self._ring.setVisible(seen)
        if not seen:
            self.move(room.center() - QPoint(self.width() // 2, self.height() // 2))
            return
        at = QRect(control.mapTo(self._window, QPoint(0, 0)), control.size()) & room
        self._ring.setGeometry(at.adjusted(-4, -4, 4, 4))
        self._ring.raise_()
        places = (
            QPoint(at.left() - self.width() - _GAP, at.top()),
            QPoint(at.right() + _GAP, at.top()),
            QPoint(at.left(), at.bottom() + _GAP),
            QPoint(at.left(), at.top() - self.height() - _GAP),
        )
        inside = room.adjusted(8, 8, -8, -8)
        good = (p for p in places if inside.contains(QRect(p, self.size())))
        # A control as large as the window has the balloon in its middle.
        middle = at.center() - QPoint(self.width() // 2, self.height() // 2)
        self.move(next(good, middle))
        self.raise_()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize and self.isVisible():
            self.place()
        return False
