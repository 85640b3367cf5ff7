"""Messages shown in place, above the picture: errors stay, news goes by itself."""

from __future__ import annotations

import logging
from collections.abc import Callable

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton

from rilievo.ui.theme.style import icon

_NEWS_MS = 5000
LOG = logging.getLogger("rilievo")


class Notice(QFrame):
    """One message with an optional thing to do."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        self._label = QLabel("")
        self._label.setWordWrap(True)
        self._label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.do_button = QPushButton("")
        self.do_button.setProperty("role", "link")
        self.do_button.clicked.connect(self._act)
        self._action: Callable[[], None] | None = None
        close = QPushButton(icon("close"), "")
        close.setProperty("role", "link")
        close.setAccessibleName("Close this message")
        close.clicked.connect(self.hide)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 6, 10, 6)
        layout.setSpacing(12)
        layout.addWidget(self._label, 1)
        layout.addWidget(self.do_button)
        layout.addWidget(close)
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.timeout.connect(self.hide)
        self.hide()

    @property
    def text(self) -> str:
        """The message, empty when none is shown."""
        return "" if self.isHidden() else self._label.text()

    def tell(self, text: str) -> None:
        """Show news for a few seconds."""
        self._show(text, "", None)
        self.timer.start(_NEWS_MS)

    def warn(self, text: str, do: str = "", action: Callable[[], None] | None = None) -> None:
        """Show a message until it is closed."""
        self.timer.stop()
        LOG.warning(text)
        self._show(text, do, action)

    def _show(self, text: str, do: str, action: Callable[[], None] | None) -> None:
        self._label.setText(text)
        self.do_button.setText(do)
        self.do_button.setVisible(bool(do))
        self._action = action
        self.show()

    def _act(self) -> None:
        self.hide()
        if self._action is not None:
            self._action()
