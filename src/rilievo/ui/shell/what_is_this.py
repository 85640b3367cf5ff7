"""Pointing at a part of the window to have it explained; Escape leaves it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt
from PyQt6.QtGui import QCursor, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QApplication, QWidget

from rilievo.ui.help.topics import topic_of


class WhatIsThis(QObject):
    """While it is on, a click explains instead of doing."""

    def __init__(
        self, window: QWidget, explain: Callable[[str], None], nothing: Callable[[], None]
    ) -> None:
        """explain : is given the topic. nothing : called where there is none."""
        super().__init__(window)
        self._window, self._explain, self._nothing = window, explain, nothing
        self.is_on = False

    def begin(self) -> None:
        """Have the next click explain what is under it."""
        application = QApplication.instance()
        if not self.is_on and application is not None:
            self.is_on = True
            QApplication.setOverrideCursor(Qt.CursorShape.WhatsThisCursor)
            application.installEventFilter(self)

    def end(self) -> None:
        """Let clicks do what they do again."""
        application = QApplication.instance()
        if self.is_on and application is not None:
            self.is_on = False
            application.removeEventFilter(self)
            QApplication.restoreOverrideCursor()

    def explain_focused(self) -> bool:
        """Explain what has the keys, or is under the pointer; False for nothing known of it."""
        at = QCursor.pos()
        under = QApplication.widgetAt(at)
        for widget, position in ((QApplication.focusWidget(), None), (under, at)):
            topic = topic_of(widget, position) if widget is not None else ""
            if topic:
                self._explain(topic)
                return True
        return False

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is None:
            return False
        if isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Escape:
            self.end()
            return True
        if not isinstance(event, QMouseEvent):
            return False
        if event.type() == QEvent.Type.MouseButtonPress and isinstance(watched, QWidget):
            self.end()
            self._tell(watched, event.globalPosition().toPoint())
        return True

    def _tell(self, widget: QWidget, position: QPoint) -> None:
        topic = topic_of(widget, position)
        if topic:
            self._explain(topic)
        else:
            self._nothing()
