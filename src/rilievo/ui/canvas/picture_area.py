"""The picture with what lies over its edges: sample and channel chips, the key."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QBoxLayout,
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.view.relief import contour_levels
from rilievo.ui.canvas.key import Key
from rilievo.ui.canvas.picture import Picture
from rilievo.ui.canvas.rulers import THICK
from rilievo.ui.canvas.sheet import Sheet
from rilievo.ui.canvas.stack_bar import StackBar
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.compute.scene import scene_of
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import chain_by_eye


class _Chips(QWidget):
    """Name of the sample, and its channels to choose from."""

    resized = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self._names: list[str] = []
        self._group = QButtonGroup(self)
        self._sample = QLabel("")
        self._sample.setObjectName("sampleChip")
        self._sample.setFixedHeight(24)
        self._row = QBoxLayout(QBoxLayout.Direction.LeftToRight, self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        self._row.setSizeConstraint(QLayout.SizeConstraint.SetFixedSize)
        self._row.addWidget(self._sample)
        self._buttons: dict[str, QPushButton] = {}
        self._row.addStretch(1)
        session.focus.changed.connect(self.refresh)
        compute.store.loaded.connect(
            lambda i: self.refresh() if i == session.focus.sample_id else None
        )
        session.changed.connect(lambda *_: self.refresh())
        self.refresh()

    @property
    def widest(self) -> int:
        """How wide the widest chip is."""
        chips = (self._sample, *self._buttons.values())
        return max(chip.sizeHint().width() for chip in chips)

    def stand(self, upright: bool) -> None:
        """Lie below each other, or beside each other."""
        way = QBoxLayout.Direction.TopToBottom if upright else QBoxLayout.Direction.LeftToRight
        if self._row.direction() != way:
            self._row.setDirection(way)
            self.adjustSize()

    def refresh(self) -> None:
        entry, sample = self._session.focus.entry, self._compute.store.focused
        self.setVisible(entry is not None)
        self._sample.setText(entry.name if entry else "")
        names = list(sample.channel_names) if sample else []
        if names != self._names:
            for button in self._buttons.values():
                self._group.removeButton(button)
                self._row.removeWidget(button)
                button.hide()
                button.deleteLater()
            self._buttons = {}
            for i, name in enumerate(names):
                button = QPushButton(name)
                button.setObjectName("chip")
                button.setCheckable(True)
                button.setToolTip(f"Show channel “{name}” (C for the next one)")
                button.clicked.connect(lambda _, name=name: self._session.focus.set(channel=name))
                self._group.addButton(button)
                self._row.insertWidget(1 + i, button)
                self._buttons[name] = button
            self._names = names
        if sample is not None:
            shown = self._buttons.get(self._compute.store.channel_for(sample))
            if shown is not None:
                shown.setChecked(True)
        self.resized.emit()


class PictureArea(QWidget):
    """Lays the chips and the key over the picture."""

    def __init__(
        self, session: StudySession, compute: Compute, theme: Theme, editor: RegionEditor
    ) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self.picture = Picture(session, compute, theme, editor)
        self.sheet = Sheet(session, compute, theme)
        self.key = Key(theme)
        self.chips = _Chips(session, compute)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self._stack = QStackedWidget()
        self._stack.addWidget(self.picture)
        self._stack.addWidget(self.sheet)
        layout.setSpacing(0)
        layout.addWidget(self._stack, 1)
        self.stack_bar = StackBar(session, compute)
        layout.addWidget(self.stack_bar)
        self._over = QHBoxLayout(self.picture)
        self._over.setContentsMargins(26, 60, 116, 40)
        # They lie over the picture as over the Sheet.
        self.chips.setParent(self)
        self.key.setParent(self)
        self.chips.resized.connect(self._place_over)
        self.chips.resized.connect(lambda: chain_by_eye(self.picture, self.chips))
        for signal in (session.focus.changed, session.stage_changed, compute.queue.changed):
            signal.connect(lambda *_: self.refresh_key())
        session.changed.connect(lambda *_: self.refresh_key())
        self.picture.viewed.connect(self._place_over)
        self.picture.before_shown.connect(lambda _: self.refresh_key())
        session.view.changed.connect(self._on_viewing)
        self.refresh_key()

    @property
    def shows_sheet(self) -> bool:
        """Whether several pictures are shown side by side."""
        return self._stack.currentWidget() is self.sheet

    def fit(self) -> None:
        """Show whole pictures."""
        (self.sheet if self.shows_sheet else self.picture).fit()

    def fill(self) -> None:
        """Fill the room with the picture; cells of a Sheet are shown whole."""
        if self.shows_sheet:
            self.sheet.fit()
        else:
            self.picture.fit(fill=True)

    def zoom_by(self, factor: float) -> None:
        """Zoom about the middle."""
        if self.shows_sheet:
            self.sheet.zoom_by(factor)
        else:
            self.picture.zoom_by(factor)

    def _on_viewing(self) -> None:
        sheet = self._session.view.layout_kind != "one"
        self._stack.setCurrentIndex(1 if sheet else 0)
        self._place_over()
        self.refresh_key()

    def lay_over(self, widget: QWidget) -> None:
        """Put a widget in the middle of the picture."""
        self._over.addWidget(widget)

    def _place_over(self) -> None:
        margin = THICK + 8 if self._session.view.rulers and not self.shows_sheet else 10
        gray = self._gray_at_left()
        upright = gray >= self.chips.widest + margin + 4
        self.chips.stand(upright)
        # Where they do not fit beside the picture they lie on it, and on nothing else.
        self.chips.move(margin if upright or gray <= margin else round(gray) + 8, margin)
        self.chips.raise_()
        self.key.setGeometry(self.width() - 108, margin, 100, self._stack.height() - margin - 12)
        self.key.raise_()
        covered = [self.chips, *([self.key] if self.key.isVisible() else [])]
        self.picture.covered = tuple(QRectF(one.geometry()) for one in covered)

    def _gray_at_left(self) -> float:
        """How much room there is beside the picture, for chips that do not lie half on it."""
        geometry = None if self.shows_sheet else self.picture.geometry_now
        return 0.0 if geometry is None else geometry.image_box.left()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._place_over()

    def refresh_key(self) -> None:
        """Show the display range of what is shown."""
        sample = self._compute.store.focused
        self.key.setVisible(sample is not None)
        if sample is None:
            return
        scene = scene_of(
            self._compute, self._session.focus.sample_id or 0, before=self.picture.shows_before
        )
        self.key.set_range(*scene.display)
        self.key.set_style(scene.style, scene.equal, contour_levels(scene.style, scene.display))
        self.key.set_number_scale(self._compute.ranges.number_scale())
        self.key.setVisible(not scene.layers)
