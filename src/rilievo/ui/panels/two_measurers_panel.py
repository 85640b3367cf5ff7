"""The same samples measured twice: differences against means, and how the regions match."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from rilievo.core.report.figures import figure_pixels
from rilievo.core.report.two_measurers import TwoMeasurements, agreement_figure, sentences
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import side_by_side

_ABOUT = (
    "Choose the study of another person with the same samples, or another method: every sample is "
    "measured by both, and their regions are matched."
)


class TwoMeasurersView(QWidget):
    """A plot left, its meaning in words right."""

    wanted = pyqtSignal()
    save_wanted = pyqtSignal()

    def __init__(self, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self.found: TwoMeasurements | None = None
        self.choose = QPushButton("Choose the other …")
        self.choose.setToolTip("A study with the same samples, or a method")
        self.choose.clicked.connect(self.wanted)
        self.save = QPushButton("Save tables and plot …")
        self.save.clicked.connect(self.save_wanted)
        self.plot = _Plot(jobs, theme)
        self.said = QLabel(_ABOUT)
        self.said.setWordWrap(True)
        self.said.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.said.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        words = QScrollArea()
        words.setWidget(self.said)
        words.setWidgetResizable(True)
        words.setFixedWidth(scaled(280))
        words.setAccessibleName("The agreement in words")
        halves = QHBoxLayout()
        halves.addWidget(self.plot, 1)
        halves.addWidget(words)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 16, 8)
        layout.setSpacing(8)
        layout.addWidget(side_by_side(self.choose, self.save, stretch=True))
        layout.addLayout(halves, 1)
        self.show_found(None)

    def show_found(self, found: TwoMeasurements | None) -> None:
        """Show what two measurers found; None for nothing yet."""
        self.found = found
        self.save.setVisible(found is not None)
        self.said.setText(_ABOUT if found is None else "\n\n".join(sentences(found)))
        self.plot.show_found(found)

    def say(self, text: str) -> None:
        """Say why there is nothing."""
        self.show_found(None)
        self.said.setText(text)


class _Plot(QWidget):
    """The figure, drawn in a thread."""

    def __init__(self, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self._jobs, self._theme = jobs, theme
        self._found: TwoMeasurements | None = None
        self._image: QImage | None = None
        self.setMinimumSize(scaled(300), scaled(200))
        self.setAccessibleName("Differences of two measurers against their means")

    @property
    def is_drawn(self) -> bool:
        """Whether the figure is there."""
        return self._image is not None

    def sizeHint(self) -> QSize:
        return QSize(600, 420)

    def show_found(self, found: TwoMeasurements | None) -> None:
        """Draw what two measurers found, or nothing."""
        self._found, self._image = found, None
        self._draw()
        self.update()

    def _draw(self) -> None:
        found, look = self._found, self._theme.figure_look()
        if found is None or self.width() < 50:
            return
        ratio = self.devicePixelRatioF()
        width, height = round(self.width() * ratio), round(self.height() * ratio)

        def work() -> QImage:
            pixels = figure_pixels(
                lambda size, dpi: agreement_figure(found, size, dpi, look),
                width, height, ratio, look,
            )  # fmt: skip
            kind = QImage.Format.Format_RGBA8888
            image = QImage(pixels.tobytes(), width, height, 4 * width, kind).copy()
            image.setDevicePixelRatio(ratio)
            return image

        def done(image: QImage) -> None:
            if self._found is found:
                self._image = image
                self.update()

        self._jobs.run("agreement plot", work, done)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._draw()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._image is not None:
            QPainter(self).drawImage(0, 0, self._image)
