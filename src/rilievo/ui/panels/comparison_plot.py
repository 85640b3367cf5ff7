"""The plot of a comparison, drawn in a thread: dots are clicked, or lassoed together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QFocusEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)
from PyQt6.QtWidgets import QToolTip, QWidget

from rilievo.core.compare import Comparison
from rilievo.core.compare.plots.panel import NO_PLOT_INPUTS, PlotInputs
from rilievo.core.regions.region_set import number_in_class
from rilievo.core.report.figures import Dot, picture, use_fonts
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import text_font

_NEAR = 9.0
# A press that moves less than this is a click.
_MOVED = 4.0

# How far to go, and whether only from sample to sample.
_STEPS = {
    Qt.Key.Key_Left: (-1, True), Qt.Key.Key_Right: (1, True), Qt.Key.Key_Up: (-1, False),
    Qt.Key.Key_Down: (1, False),
}  # fmt: skip


class ComparisonPlot(QWidget):
    """The figure; a click on a dot focuses its sample and region."""

    dot_chosen = pyqtSignal(object)

    def __init__(self, session: StudySession, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self._session, self._jobs, self._theme = session, jobs, theme
        self._comparisons: Sequence[Comparison] = ()
        self._material = NO_PLOT_INPUTS
        self._image: QImage | None = None
        self.dots: list[Dot] = []
        self.positions: NDArray[np.float64] = np.zeros((0, 2))
        self._lasso: list[QPointF] = []
        self.message = ""
        self.setMouseTracking(True)
        self.setMinimumSize(360, 240)
        self.setAccessibleName("Plot of the comparison")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        # The dot that the keys are at.
        self._at = -1
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._draw)
        session.focus.regions_changed.connect(self.update)
        session.focus.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(620, 520)

    @property
    def is_drawn(self) -> bool:
        """Whether the figure is there."""
        return self._image is not None

    def show_comparisons(
        self, comparisons: Sequence[Comparison], inputs: PlotInputs, message: str = ""
    ) -> None:
        """Draw comparisons, or say why there is none."""
        self._comparisons, self._material, self.message = comparisons, inputs, message
        if not comparisons:
            self._jobs.forget("comparison plot")
            self._image, self.dots = None, []
            self.positions = np.zeros((0, 2))
            self.update()
            return
        self._draw()

    def _draw(self) -> None:
        comparisons, inputs = self._comparisons, self._material
        if not comparisons or self.width() < 50:
            return
        ratio = self.devicePixelRatioF()
        width, height = round(self.width() * ratio), round(self.height() * ratio)
        look = self._theme.figure_look()

        def work() -> tuple[QImage, list[Dot]]:
            use_fonts()
            pixels, dots = picture(comparisons, width, height, ratio, look, inputs)
            image = QImage(
                pixels.tobytes(), width, height, 4 * width, QImage.Format.Format_RGBA8888
            ).copy()
            image.setDevicePixelRatio(ratio)
            return image, dots

        self._jobs.run("comparison plot", work, self._show)

    def _show(self, result: tuple[QImage, list[Dot]]) -> None:
        if not self._comparisons:
            return
        self._image, self.dots = result
        self._at = min(self._at, len(self.dots) - 1)
        ratio = self.devicePixelRatioF()
        self.positions = np.array([(dot.x / ratio, dot.y / ratio) for dot in self.dots])
        self.positions = self.positions.reshape(-1, 2)
        self.update()

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._image is None:
            painter.setPen(self._theme.colour("faint"))
            painter.setFont(text_font(13))
            painter.drawText(
                self.rect().adjusted(40, 0, -40, 0),
                int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap),
                "Drawing …" if self._comparisons else self.message,
            )
            return
        painter.drawImage(0, 0, self._image)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self._theme.colour("accent"), 1.8))
        for position in self._chosen():
            radius = 7.5 if self.dots[position].region == 0 else 5.0
            painter.drawEllipse(QPointF(*self.positions[position]), radius, radius)
        if self.hasFocus() and 0 <= self._at < len(self.positions):
            painter.setPen(QPen(self._theme.colour("ink"), 2))
            painter.drawEllipse(QPointF(*self.positions[self._at]), 9.5, 9.5)
        if len(self._lasso) > 1:
            painter.setPen(QPen(self._theme.colour("accent"), 1.2, Qt.PenStyle.DashLine))
            painter.drawPolygon(QPolygonF(self._lasso))

    def _chosen(self) -> list[int]:
        """The positions of dots of the samples and regions that are chosen."""
        names = {entry.name for entry in self._session.focus.chosen}
        regions = self._session.focus.chosen_by_name()
        return [
            position
            for position, dot in enumerate(self.dots)
            if (
                dot.sample in names
                if dot.region == 0
                else dot.region in regions.get(dot.sample, ())
            )
        ]

    # -- pointing

    def _nearest(self, at: QPointF) -> Dot | None:
        if not len(self.positions):
            return None
        away = np.hypot(self.positions[:, 0] - at.x(), self.positions[:, 1] - at.y())
        # A sample's own dot lies over those of its regions and wins where both are near.
        large = np.array([dot.region == 0 for dot in self.dots])
        away = np.where(large & (away < _NEAR), away - _NEAR, away)
        k = int(away.argmin())
        return self.dots[k] if away[k] < _NEAR else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._lasso:
            self._lasso.append(event.position())
            self.update()
            return
        dot = self._nearest(event.position())
        self.setCursor(
            Qt.CursorShape.ArrowCursor if dot is None else Qt.CursorShape.PointingHandCursor
        )
        if dot is None:
            QToolTip.hideText()
            return
        QToolTip.showText(event.globalPosition().toPoint(), self._said(dot), self)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        dot = self._nearest(event.position())
        if dot is not None:
            self.dot_chosen.emit(dot)
        elif self.dots:
            self._lasso = [event.position()]

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and Right go from sample to sample, Up and Down from dot to dot, Enter looks."""
        key = None if event is None else Qt.Key(event.key())
        if not self.dots or key not in (*_STEPS, Qt.Key.Key_Return, Qt.Key.Key_Space):
            super().keyPressEvent(event)
            return
        if key not in _STEPS:
            if 0 <= self._at < len(self.dots):
                self.dot_chosen.emit(self.dots[self._at])
            return
        by, samples_only = _STEPS[key]
        places = [k for k, dot in enumerate(self.dots) if dot.region == 0 or not samples_only]
        later = [k for k in places if (k > self._at if by > 0 else k < self._at)]
        self._at = (later[0] if by > 0 else later[-1]) if later else self._at
        if 0 <= self._at < len(self.dots):
            self.setAccessibleDescription(self._said(self.dots[self._at]))
            QToolTip.showText(
                self.mapToGlobal(QPointF(*self.positions[self._at]).toPoint()),
                self._said(self.dots[self._at]),
                self,
            )
        self.update()

    @staticmethod
    def _said(dot: Dot) -> str:
        region = f", region {number_in_class(dot.region)}" if dot.region else ""
        value = f": {shown(dot.value)}" if np.isfinite(dot.value) else ""
        return f"{dot.sample}{region}{value}"

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        super().focusOutEvent(event)
        self._at = -1
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        lasso, self._lasso = self._lasso, []
        if not lasso:
            return
        ends = QPolygonF(lasso).boundingRect()
        if max(ends.width(), ends.height()) > _MOVED:
            self.choose_inside(lasso)
        else:
            self._session.focus.set(regions=())
        self.update()

    def choose_inside(self, lasso: Sequence[QPointF]) -> None:
        """Choose the regions within a line that was drawn around them; samples where none are."""
        polygon = QPolygonF(list(lasso))
        inside = [
            dot
            for dot, (x, y) in zip(self.dots, self.positions, strict=True)
            if polygon.containsPoint(QPointF(x, y), Qt.FillRule.OddEvenFill)
        ]
        regions: dict[str, set[int]] = {}
        for dot in inside:
            if dot.region:
                regions.setdefault(dot.sample, set()).add(dot.region)
        if regions:
            self._session.focus.choose_by_name(regions)
            return
        entries = [
            self._session.named(name) for name in dict.fromkeys(dot.sample for dot in inside)
        ]
        ids = [entry.id for entry in entries if entry is not None]
        if ids:
            self._session.focus.set(sample_id=ids[0], regions=())
            self._session.focus.choose_also(ids)

    def resizeEvent(self, event: object) -> None:
        # A drag of the window's edge asks many times; the last one counts.
        self._timer.start(60)
