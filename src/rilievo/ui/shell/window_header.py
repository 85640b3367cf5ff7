"""The top of the window: the study, the stage rail, search, undo, Measure all."""

from __future__ import annotations

from itertools import pairwise

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFont,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
)
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QToolTip, QVBoxLayout, QWidget

from rilievo.core.wording.lists import counted
from rilievo.ui.session.study_session import STAGES, StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import icon, scaled, text_font

_TIPS = {
    "look": "Bring in samples, see them, read values",
    "correct": "Take the background off",
    "outline": "Find the regions",
    "measure": "Turn regions into numbers",
    "compare": "Set the groups side by side",
}
# The terrain: heights of the five waypoints, 0 low to 1 high.
_HEIGHTS = (0.1, 0.55, 0.35, 0.85, 0.45)


class StageRail(QWidget):
    """Five waypoints on a cross-section of terrain; click one, or use the arrow keys."""

    chosen = pyqtSignal(str)

    def __init__(self, session: StudySession, theme: Theme) -> None:
        super().__init__()
        self._session, self._theme = session, theme
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Stages")
        self.setFixedHeight(scaled(58))
        self.setMinimumWidth(420)
        session.stage_changed.connect(self._on_stage)
        self._on_stage(session.stage)

    def sizeHint(self) -> QSize:
        return QSize(540, 58)

    def _on_stage(self, stage: str) -> None:
        self.setAccessibleDescription(f"{stage}, {STAGES.index(stage) + 1} of {len(STAGES)}")
        self.update()

    def waypoint(self, stage: str) -> QPointF:
        """Return where a stage's waypoint stands."""
        i = STAGES.index(stage)
        x = self.width() * (i + 0.5) / len(STAGES)
        return QPointF(x, 30 - 20 * _HEIGHTS[i])

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        points = [self.waypoint(stage) for stage in STAGES]
        points = [QPointF(0, 31), *points, QPointF(self.width(), 20)]
        ridge = QPainterPath(points[0])
        for before, after in pairwise(points):
            middle = (before.x() + after.x()) / 2
            ridge.cubicTo(middle, before.y(), middle, after.y(), after.x(), after.y())
        ground = QPainterPath(ridge)
        ground.lineTo(self.width(), 36)
        ground.lineTo(0, 36)
        painter.fillPath(ground, self._theme.colour("accent", 26))
        painter.setPen(QPen(self._theme.colour("accent", 150), 1.2))
        painter.drawPath(ridge)
        now = STAGES.index(self._session.stage)
        for i, stage in enumerate(STAGES):
            at = self.waypoint(stage)
            current = i == now
            painter.setPen(QPen(self._theme.colour("accent"), 1.4))
            painter.setBrush(self._theme.colour("accent" if i <= now else "panel"))
            painter.drawEllipse(at, 6.0 if current else 4.0, 6.0 if current else 4.0)
            if current and self.hasFocus():
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawEllipse(at, 9.0, 9.0)
            weight = QFont.Weight.DemiBold if current else QFont.Weight.Normal
            painter.setFont(text_font(13, weight))
            painter.setPen(self._theme.colour("ink"))
            box = QRectF(at.x() - 50, 37, 100, 20)
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), stage.capitalize())

    def _stage_at(self, x: float) -> str:
        return STAGES[min(max(int(x * len(STAGES) / self.width()), 0), len(STAGES) - 1)]

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        if event is not None:
            stage = self._stage_at(event.position().x())
            tip = f"{_TIPS[stage]} (Ctrl+{STAGES.index(stage) + 1})"
            QToolTip.showText(event.globalPosition().toPoint(), tip, self)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self.chosen.emit(self._stage_at(event.position().x()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        i = STAGES.index(self._session.stage) + step
        self.chosen.emit(STAGES[min(max(i, 0), len(STAGES) - 1)])

    def focusInEvent(self, event: object) -> None:
        self.update()

    def focusOutEvent(self, event: object) -> None:
        self.update()


class Header(QFrame):
    """Title with menu, rail, buttons."""

    def __init__(self, session: StudySession, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("header")
        self._session = session
        self.title = QPushButton("")
        self.title.setObjectName("studyTitle")
        self.title.setFlat(True)
        self._about = QLabel("")
        self._about.setProperty("role", "faint")
        self._about.setContentsMargins(4, 0, 0, 0)
        self.rail = StageRail(session, theme)
        self.find_button = QPushButton(icon("find"), "Find")
        self.undo_button = QPushButton(icon("undo"), "")
        self.redo_button = QPushButton(icon("redo"), "")
        self.undo_button.setAccessibleName("Undo")
        self.redo_button.setAccessibleName("Redo")
        for button in (self.undo_button, self.redo_button):
            button.setFixedWidth(scaled(34))
            button.setStyleSheet("padding: 0;")
        self.run_button = QPushButton("Measure all")
        self.run_button.setProperty("role", "main")
        names = QVBoxLayout()
        names.setContentsMargins(0, 4, 0, 4)
        names.setSpacing(0)
        names.addWidget(self.title, 0, Qt.AlignmentFlag.AlignLeft)
        names.addWidget(self._about)
        left = QWidget()
        left.setLayout(names)
        left.setMinimumWidth(scaled(250))
        left.setMaximumWidth(scaled(330))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 0, 14, 0)
        layout.setSpacing(8)
        layout.addWidget(left, 3)
        layout.addStretch(1)
        layout.addWidget(self.rail, 8)
        layout.addStretch(1)
        for button in (self.find_button, self.undo_button, self.redo_button, self.run_button):
            layout.addWidget(button)
        session.changed.connect(lambda *_: self.refresh())
        session.file_changed.connect(self.refresh)
        session.measurements.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the study's name and what it holds."""
        state = self._session.state
        metrics = self.title.fontMetrics()
        self.title.setText(metrics.elidedText(state.name, Qt.TextElideMode.ElideRight, 260) + "  ")
        count = len(state.samples)
        groups = len([group for group in state.groups if group])
        parts = [counted(count, "sample")] if count else ["no samples yet"]
        if self._session.is_blind:
            parts.append("blinded")
        if groups:
            parts.append(counted(groups, "group"))
        if count:
            parts.append(
                "not saved" if self._session.has_unsaved or not self._session.path else "saved"
            )
        self._about.setText(" · ".join(parts))
