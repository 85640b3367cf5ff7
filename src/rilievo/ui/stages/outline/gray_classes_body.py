"""Gray classes: the tree with the cut to drag, and what each class is."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QCheckBox, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.core.image.histogram import Histogram
from rilievo.core.regions.gray_classes import (
    MOST_CLASSES,
    ClassSummary,
    Tree,
    class_cuts,
    class_summaries,
    ward_tree,
)
from rilievo.core.regions.gray_populations import suggested_classes
from rilievo.core.regions.thresholds.classes import GrayClasses
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.outline.class_body import ClassBody
from rilievo.ui.theme.roles import Theme, class_tints
from rilievo.ui.theme.style import text_font
from rilievo.ui.widgets.card import clear_rows, faint, side_by_side
from rilievo.ui.widgets.form import ParameterForm


@dataclass(frozen=True, eq=False)
class _Found:
    """Tree and classes of a histogram."""

    histogram: Histogram
    parameters: GrayClasses
    tree: Tree
    cuts: NDArray[np.float64]
    classes: list[ClassSummary]
    suggested: int


class TreeView(QWidget):
    """The top of the tree over the values; a drag up or down cuts it into 2 to 8 classes."""

    cut = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._tree: Tree | None = None
        self._range = (0.0, 1.0)
        self._k = 2
        self.setFixedHeight(120)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Tree of the classes: Up and Down change their number")
        self.setToolTip("Drag the line up for fewer classes, down for more")

    def sizeHint(self) -> QSize:
        return QSize(320, 120)

    def show_tree(self, tree: Tree, ends: tuple[float, float], k: int) -> None:
        """Show the branches from lowest to highest value, cut into k."""
        self._tree, self._range, self._k = tree, ends, k
        self.update()

    def _heights(self) -> NDArray[np.float64]:
        """Distances at which the last merges happen, highest first."""
        if self._tree is None:
            return np.zeros(0)
        return np.asarray(np.sqrt(self._tree.top[1]))

    def _down(self, distance: float) -> float:
        heights = self._heights()
        top = float(heights[0]) if heights.size else 1.0
        return 10 + (1 - distance / top) * (self.height() - 30)

    def _across(self, value: float) -> float:
        low, high = self._range
        return 6 + (value - low) / max(high - low, 1e-12) * (self.width() - 12)

    def _line(self) -> float:
        """Where the cut stands: half way between the merges that it parts."""
        heights = self._heights()
        above = heights[self._k - 2] if self._k - 2 < heights.size else 0.0
        below = heights[self._k - 1] if self._k - 1 < heights.size else 0.0
        return self._down(float(above + below) / 2)

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._tree is None or self._tree.borders.size == 0:
            painter.setPen(self._theme.colour("faint"))
            painter.drawText(
                self.rect(), int(Qt.AlignmentFlag.AlignCenter), "All pixels have the same value."
            )
            return
        painter.setPen(QPen(self._theme.colour("ink"), 1.3))
        self._paint_branches(painter)
        tints = class_tints(self._k)
        cuts = [self._range[0], *self._tree.cuts(self._k).tolist(), self._range[1]]
        for k, (low, high) in enumerate(itertools.pairwise(cuts)):
            box = QRectF(
                self._across(low), self.height() - 12,
                max(self._across(high) - self._across(low) - 1, 1), 9,
            )  # fmt: skip
            painter.fillRect(box, QColor(*tints[k]))
        y = self._line()
        painter.setPen(QPen(self._theme.colour("accent"), 2 if self.hasFocus() else 1.4))
        painter.drawLine(QPointF(4, y), QPointF(self.width() - 4, y))
        painter.setFont(text_font(10))
        painter.drawText(
            QRectF(4, y - 15, self.width() - 8, 14),
            int(Qt.AlignmentFlag.AlignRight), f"{self._k} classes",
        )  # fmt: skip

    def _paint_branches(self, painter: QPainter) -> None:
        """Join the last classes pair by pair, as they merge."""
        if self._tree is None:
            return
        height = dict(zip(*self._tree.top, strict=True))
        borders = np.sort(self._tree.top[0])
        ends = [self._range[0], *borders.tolist(), self._range[1]]
        # Each branch: where its stem stands, and how high it begins.
        stems = [((a + b) / 2, 0.0) for a, b in itertools.pairwise(ends)]
        left = borders.tolist()
        while left:
            k = min(range(len(left)), key=lambda i: height[left[i]])
            top = math.sqrt(float(height[left[k]]))
            (x0, y0), (x1, y1) = stems[k], stems[k + 1]
            up = self._down(top)
            painter.drawLine(
                QPointF(self._across(x0), self._down(y0)), QPointF(self._across(x0), up)
            )
            painter.drawLine(
                QPointF(self._across(x1), self._down(y1)), QPointF(self._across(x1), up)
            )
            painter.drawLine(QPointF(self._across(x0), up), QPointF(self._across(x1), up))
            stems[k : k + 2] = [((x0 + x1) / 2, top)]
            del left[k]

    def _cut_at(self, y: float) -> None:
        heights = self._heights()
        above = sum(1 for distance in heights if self._down(float(distance)) < y)
        k = min(max(above + 1, 2), MOST_CLASSES)
        if k != self._k:
            self._k = k
            self.update()
            self.cut.emit(k)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._cut_at(event.position().y())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self._cut_at(event.position().y())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        if event is not None and event.key() in steps:
            k = min(max(self._k + steps[Qt.Key(event.key())], 2), MOST_CLASSES)
            self.cut.emit(k)
        else:
            super().keyPressEvent(event)


class GrayClassesBody(ClassBody):
    """How many classes, which are kept, and what they are."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__(session, compute, theme)
        self.form = ParameterForm(GrayClasses, leave=("kept",))
        self.form.changed.connect(self._set)
        self.rows.addWidget(self.form)
        self.suggest = QPushButton("")
        self.suggest.setProperty("role", "link")
        self.suggest.clicked.connect(self._take_suggested)
        self.rows.addWidget(side_by_side(self.suggest, stretch=True))
        self.tree = TreeView(theme)
        self.tree.cut.connect(lambda k: self._set("k", k))
        self.rows.addWidget(self.tree)
        self._table = QWidget()
        self._lines = QVBoxLayout(self._table)
        self._lines.setContentsMargins(0, 0, 0, 0)
        self._lines.setSpacing(2)
        self.rows.addWidget(self._table)
        self.boxes: list[QCheckBox] = []
        self.flat = QCheckBox("Show the classes in flat tints")
        self.flat.toggled.connect(lambda on: session.view.choose(flat_classes=on))
        self.rows.addWidget(self.flat)
        self.rows.addWidget(faint("Ticked classes become regions; the others are washed over."))
        self._found: _Found | None = None

    @property
    def parameters(self) -> GrayClasses:
        """The parameters of the class in focus."""
        found = self.outline.threshold.parameters
        return found if isinstance(found, GrayClasses) else GrayClasses()

    def _set(self, name: str, value: object) -> None:
        changed = {**self.parameters.model_dump(), name: value}
        if name != "kept":
            changed["kept"] = ()
        self.choose_way("classes", **changed)

    def _take_suggested(self) -> None:
        if self._found is not None:
            self._set("k", self._found.suggested)

    def _take_kept(self) -> None:
        kept = tuple(k for k, box in enumerate(self.boxes, start=1) if box.isChecked())
        if kept:
            self._set("kept", kept)
        else:
            self.refused.emit("At least one class becomes regions.")
            self.refresh()

    def refresh(self) -> None:
        if self.outline.threshold.way != "classes":
            return
        parameters, known = self.parameters, self.histogram
        self.form.show_parameters(parameters, self.known, {})
        if known is None:
            return
        if (
            self._found is not None
            and self._found.histogram is known
            and self._found.parameters == parameters
        ):
            self._show(self._found)
            return

        def work() -> _Found:
            tree = ward_tree(known)
            cuts = class_cuts(known, parameters.k, parameters.by)
            rows = class_summaries(known, cuts)
            return _Found(known, parameters, tree, cuts, rows, suggested_classes(known))

        def done(found: _Found) -> None:
            self._found = found
            if self.isVisible():
                self._show(found)

        self.compute.jobs.run("classes", work, done)

    def _show(self, found: _Found) -> None:
        self.tree.setVisible(found.parameters.by == "ward")
        self.tree.show_tree(
            found.tree, (found.histogram.lowest, found.histogram.highest), found.parameters.k
        )
        best = found.suggested
        self.suggest.setText(f"Best separated: {best} classes")
        self.suggest.setVisible(best != found.parameters.k)
        clear_rows(self._lines)
        self.boxes = []
        tints = class_tints(len(found.classes))
        sample = self.compute.store.focused
        calibration = sample.first.calibration if sample is not None else None
        for one in found.classes:
            box = QCheckBox(f"Class {one.number}")
            box.setChecked(one.number in found.parameters.chosen)
            box.clicked.connect(lambda _: self._take_kept())
            self.boxes.append(box)
            swatch = QLabel()
            swatch.setFixedSize(12, 12)
            swatch.setStyleSheet("background: rgb({}, {}, {})".format(*tints[one.number - 1]))
            area = f"{shown(float(one.pixels))} px"
            if calibration is not None and calibration.area_factor is not None:
                area = f"{shown(one.pixels * calibration.area_factor)} {calibration.unit}²"
            text = QLabel(f"mean {self.printed(one.mean)}   {100 * one.share:.1f} %   {area}")
            text.setProperty("role", "faint")
            self._lines.addWidget(side_by_side(swatch, box, text, stretch=True))
