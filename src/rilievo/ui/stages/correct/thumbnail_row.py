"""The small pictures of a step: before, after, background. A click shows one large."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QIcon, QImage, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QToolButton, QWidget

from rilievo.core.pipeline.thumbnails import ASPECTS, Aspect, Thumbnail
from rilievo.ui.compute.scene import to_image

WIDTH, HEIGHT = 92, 62
# What is there sooner is not announced.
_PATIENCE_MS = 250


class ThumbnailRow(QWidget):
    """One button a picture; the one that is shown large is pressed."""

    wanted = pyqtSignal(object)  # aspect, or None for the stage's own picture

    def __init__(self, *, has_background: bool) -> None:
        super().__init__()
        self.buttons: dict[Aspect, QToolButton] = {}
        self._patience = QTimer(self)
        self._patience.setSingleShot(True)
        self._patience.timeout.connect(self._say_busy)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 2, 0, 2)
        layout.setSpacing(2)
        for aspect, title in ASPECTS.items():
            if aspect == "background" and not has_background:
                continue
            button = QToolButton()
            button.setProperty("role", "thumbnail")
            button.setCheckable(True)
            button.setText(title)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setIconSize(QSize(WIDTH, HEIGHT))
            button.setToolTip(f"{title}: click to see it large, again to see the whole method")
            button.setAccessibleName(f"{title} this step")
            button.clicked.connect(
                lambda on, aspect=aspect: self.wanted.emit(aspect if on else None)
            )
            self.buttons[aspect] = button
            layout.addWidget(button)
        layout.addStretch(1)

    def show_thumbnails(self, found: Mapping[Aspect, Thumbnail]) -> None:
        """Show pictures; those that are missing stay empty."""
        self._patience.stop()
        ratio = self.devicePixelRatioF()
        for aspect, button in self.buttons.items():
            button.setText(ASPECTS[aspect])
            thumbnail = found.get(aspect)
            image = QImage() if thumbnail is None else to_image(thumbnail.colours)
            image.setDevicePixelRatio(ratio)
            button.setIcon(QIcon(QPixmap.fromImage(image)))

    def wait_for(self) -> None:
        """Say that pictures are being computed, where that takes a while."""
        if not self._patience.isActive():
            self._patience.start(_PATIENCE_MS)

    def _say_busy(self) -> None:
        for button in self.buttons.values():
            button.setText("computing …")

    def mark(self, aspect: Aspect | None) -> None:
        """Press the one that is shown large."""
        for key, button in self.buttons.items():
            button.setChecked(key == aspect)
