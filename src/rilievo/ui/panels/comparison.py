"""The middle of Compare: the plot, drawn in a thread, and what it says in words."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QPushButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.compare import Comparison
from rilievo.core.report.figures import Dot, picture, use_fonts
from rilievo.ui.jobs import Jobs
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import shown
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

_NEAR = 9.0


class ComparisonPlot(QWidget):
    """The figure; a click on a dot focuses its sample and region."""

    dot_chosen = pyqtSignal(object)

    def __init__(self, model: StudyModel, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self._model, self._jobs, self._theme = model, jobs, theme
        self._comparison: Comparison | None = None
        self._image: QImage | None = None
        self.dots: list[Dot] = []
        self._places: NDArray[np.float64] = np.zeros((0, 2))
        self.message = ""
        self.setMouseTracking(True)
        self.setMinimumSize(360, 240)
        self.setAccessibleName("Plot of the comparison")
        model.selection_changed.connect(self.update)
        model.focus_changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(620, 520)

    @property
    def is_drawn(self) -> bool:
        """Whether the figure is there."""
        return self._image is not None

    def show_comparison(self, comparison: Comparison | None, message: str = "") -> None:
        """Draw a comparison, or say why there is none."""
        self._comparison, self.message = comparison, message
        if comparison is None:
            self._image, self.dots = None, []
            self._places = np.zeros((0, 2))
            self.update()
            return
        self._draw_soon()

    def _draw_soon(self) -> None:
        comparison = self._comparison
        if comparison is None or self.width() < 50:
            return
        ratio = self.devicePixelRatioF()
        width, height = round(self.width() * ratio), round(self.height() * ratio)
        look = self._theme.figure_look()

        def work() -> tuple[QImage, list[Dot]]:
            use_fonts()
            pixels, dots = picture([comparison], width, height, ratio, look)
            image = QImage(
                pixels.tobytes(), width, height, 4 * width, QImage.Format.Format_RGBA8888
            ).copy()
            image.setDevicePixelRatio(ratio)
            return image, dots

        self._jobs.run("comparison plot", work, self._show)

    def _show(self, result: tuple[QImage, list[Dot]]) -> None:
        if self._comparison is None:
            return
        self._image, self.dots = result
        ratio = self.devicePixelRatioF()
        self._places = np.array([(dot.x / ratio, dot.y / ratio) for dot in self.dots])
        self._places = self._places.reshape(-1, 2)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._image is None:
            painter.setPen(self._theme.colour("faint"))
            painter.setFont(text_font(13))
            text = self.message if self._comparison is None else "Drawing …"
            painter.drawText(
                self.rect().adjusted(40, 0, -40, 0),
                int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap),
                text,
            )
            return
        painter.drawImage(0, 0, self._image)
        entry = self._model.entry
        if entry is None:
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for dot, (x, y) in zip(self.dots, self._places, strict=True):
            if dot.sample != entry.name:
                continue
            if dot.region == 0 or dot.region in self._model.regions:
                radius = 7.5 if dot.region == 0 else 5.0
                painter.setPen(QPen(self._theme.colour("accent"), 1.8))
                painter.drawEllipse(QPointF(x, y), radius, radius)

    def _nearest(self, at: QPointF) -> Dot | None:
        if not len(self._places):
            return None
        away = np.hypot(self._places[:, 0] - at.x(), self._places[:, 1] - at.y())
        # A sample's own dot lies over those of its regions and wins where both are near.
        large = np.array([dot.region == 0 for dot in self.dots])
        away = np.where(large & (away < _NEAR), away - _NEAR, away)
        k = int(away.argmin())
        return self.dots[k] if away[k] < _NEAR else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        dot = self._nearest(event.position())
        self.setCursor(
            Qt.CursorShape.ArrowCursor if dot is None else Qt.CursorShape.PointingHandCursor
        )
        if dot is None:
            QToolTip.hideText()
            return
        what = "mean of its regions" if dot.region == 0 else f"region {dot.region}"
        QToolTip.showText(
            event.globalPosition().toPoint(), f"{dot.sample}, {what}: {shown(dot.value)}", self
        )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        dot = self._nearest(event.position()) if event is not None else None
        if dot is not None:
            self.dot_chosen.emit(dot)

    def resizeEvent(self, event: object) -> None:
        self._draw_soon()


class ComparisonView(QWidget):
    """Plot left, its meaning in words right."""

    def __init__(self, model: StudyModel, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("compareView")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.plot = ComparisonPlot(model, jobs, theme)
        self._heading = QLabel("")
        self._heading.setProperty("role", "heading")
        self._heading.setWordWrap(True)
        self._text = QLabel("")
        self._text.setWordWrap(True)
        self._note = QLabel("")
        self._note.setProperty("role", "check")
        self._note.setWordWrap(True)
        self._copy = QPushButton("Copy sentence")
        self._copy.clicked.connect(self._copy_sentence)
        self._sentence = ""
        words = QVBoxLayout()
        words.setContentsMargins(0, 40, 24, 16)
        words.setSpacing(12)
        words.addWidget(self._heading)
        words.addWidget(self._text)
        words.addWidget(self._copy, 0, Qt.AlignmentFlag.AlignLeft)
        words.addWidget(self._note)
        words.addStretch(1)
        side = QWidget()
        side.setFixedWidth(250)
        side.setLayout(words)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 12, 0, 0)
        layout.setSpacing(16)
        layout.addWidget(self.plot, 1)
        layout.addWidget(side)
        self.show_comparison(None, "")

    def show_comparison(self, comparison: Comparison | None, message: str) -> None:
        """Show a comparison with its plot and words, or why there is none."""
        self.plot.show_comparison(comparison, message)
        self._heading.setText(comparison.heading() if comparison else "")
        self._sentence = comparison.sentence() if comparison else ""
        self._text.setText(self._sentence)
        self._copy.setVisible(bool(self._sentence))
        note = ""
        if comparison is not None and comparison.without_value:
            note = f"Left out, without a value: {', '.join(comparison.without_value)}."
        elif comparison is not None and any(s.samples < 2 for s in comparison.statistics):
            note = "A group of one sample has no spread: its interval is not known."
        self._note.setText(note)

    def _copy_sentence(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self._sentence)
