"""The card of one step: its switch, name, small pictures, settings and what it did."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPixmap
from PyQt6.QtWidgets import (
    QCheckBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.method.method import StepUse
from rilievo.core.method.signal_flags import MARKS, marks_of_step
from rilievo.core.pipeline.thumbnails import Thumbnail
from rilievo.core.signal.steps import STEPS, StepParameters
from rilievo.ui.compute.scene import to_image
from rilievo.ui.help.topics import set_topic
from rilievo.ui.stages.correct.thumbnail_row import ThumbnailRow
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import CONTROL_WIDTH, Choice, chevron, faint
from rilievo.ui.widgets.form import ParameterForm
from rilievo.ui.widgets.parameter_fields import Known, SeveralChannels, Words

# The picture of a closed card.
SMALL_WIDTH, SMALL_HEIGHT = 48, 32


@dataclass(frozen=True)
class Shown:
    """What a card shows beside its step.

    sample : the focused one. parameters : those that count for it. apart : those that differ.
    elsewhere : how many other samples differ. report : what the step did. doubt : why not to
    trust it. error : why it did not.
    """

    sample: str
    parameters: StepParameters
    apart: Mapping[str, Any]
    elsewhere: int
    summary: str
    report: str
    doubt: str
    error: str
    known: Known


class _Handle(QLabel):
    """What a card is dragged by."""

    dragged = pyqtSignal(QPoint)
    dropped = pyqtSignal(QPoint)
    stepped = pyqtSignal(str)  # “up” or “down”

    def __init__(self, name: str) -> None:
        super().__init__("⠿")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"{name}: move with Up and Down")
        self.setProperty("role", "faint")
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setToolTip("Drag to another place; Alt+Up and Alt+Down move the step too")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        words = {Qt.Key.Key_Up: "up", Qt.Key.Key_Down: "down"}
        word = None if event is None else words.get(Qt.Key(event.key()))
        if word is None:
            super().keyPressEvent(event)
        else:
            self.stepped.emit(word)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self.dragged.emit(event.globalPosition().toPoint())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            event.accept()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self.dropped.emit(event.globalPosition().toPoint())


class StepCard(QFrame):
    """Says what is wanted; the panel does it."""

    opened = pyqtSignal(str)
    switched = pyqtSignal(str, bool)
    renamed = pyqtSignal(str, str)
    channels_chosen = pyqtSignal(str, object)
    changed = pyqtSignal(str, str, object)
    wanted = pyqtSignal(str, str)  # id, one of the words of the menu
    aspect_wanted = pyqtSignal(str, object)
    draw_wanted = pyqtSignal(str)
    own_wanted = pyqtSignal(str)
    dragged = pyqtSignal(str, QPoint)
    dropped = pyqtSignal(str, QPoint)

    def __init__(self, use: StepUse) -> None:
        super().__init__()
        self.setObjectName("card")
        self.step_id, self.key = use.id, use.step
        step = STEPS[use.step]
        set_topic(self, "steps", f"{use.step} – {step.title}")
        self.box = QCheckBox()
        self.box.setToolTip("Apply this step, or leave it out")
        self.box.clicked.connect(lambda on: self.switched.emit(self.step_id, bool(on)))
        self.title = QPushButton()
        self.title.setProperty("role", "title")
        self.title.clicked.connect(lambda: self.opened.emit(self.step_id))
        self.name = QLineEdit()
        self.name.hide()
        self.name.editingFinished.connect(self._rename)
        self.mark = QLabel()
        self.mark.setProperty("role", "check")
        self.handle = handle = _Handle(step.title)
        handle.stepped.connect(lambda word: self.wanted.emit(self.step_id, word))
        handle.dragged.connect(lambda at: self.dragged.emit(self.step_id, at))
        handle.dropped.connect(lambda at: self.dropped.emit(self.step_id, at))
        self.menu_button = QToolButton()
        self.menu_button.setText("⋯")
        self.menu_button.setProperty("role", "bare")
        self.menu_button.setToolTip("Duplicate, rename, reset, move or remove this step")
        self.menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu_button.setMenu(self._menu())
        head = QHBoxLayout()
        head.setSpacing(6)
        for widget in (handle, self.box, self.title, self.name):
            head.addWidget(widget)
        head.addStretch(1)
        head.addWidget(self.menu_button)
        self.summary = faint()
        self.doubt, self.error = QLabel(), QLabel()
        for label in (self.doubt, self.error):
            label.setProperty("role", "check")
            label.setWordWrap(True)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(10, 6, 12, 8)
        rows.setSpacing(3)
        rows.addLayout(head)
        self.mark.setContentsMargins(40, 0, 0, 0)
        self.mark.setWordWrap(True)
        rows.addWidget(self.mark)
        self.doubt.setContentsMargins(6, 2, 0, 2)
        rows.addWidget(self.doubt)
        self.summary.setContentsMargins(40, 0, 0, 0)
        self.small = QLabel()
        self.small.setFixedSize(SMALL_WIDTH, SMALL_HEIGHT)
        self.small.setToolTip("What the step leaves, or takes off, of the focused sample")
        line = QHBoxLayout()
        line.setSpacing(8)
        line.addWidget(self.summary, 1)
        line.addWidget(self.small)
        rows.addLayout(line)
        self.body = QWidget()
        rows.addWidget(self.body)
        rows.addWidget(self.error)
        self._fill_body(step.parameters, has_background=step.estimate is not None)
        self.body.hide()
        self._mark_title(use)

    def _fill_body(self, kind: type[StepParameters], *, has_background: bool) -> None:
        inner = QVBoxLayout(self.body)
        inner.setContentsMargins(6, 0, 4, 0)
        inner.setSpacing(4)
        self.explanation = faint(STEPS[self.key].explanation)
        self.thumbnails = ThumbnailRow(has_background=has_background)
        self.thumbnails.wanted.connect(lambda aspect: self.aspect_wanted.emit(self.step_id, aspect))
        self.report = faint()
        self.form = ParameterForm(kind)
        self.form.changed.connect(lambda name, value: self.changed.emit(self.step_id, name, value))
        self.form.draw_wanted.connect(lambda _: self.draw_wanted.emit(self.step_id))
        self.channels = SeveralChannels("Channels", "all channels")
        self.channels.entered.connect(
            lambda names: self.channels_chosen.emit(self.step_id, names or None)
        )
        self.channels.setFixedWidth(scaled(CONTROL_WIDTH))
        row = QHBoxLayout()
        self._channels_label = QLabel("On")
        row.addWidget(self._channels_label)
        row.addStretch(1)
        row.addWidget(self.channels)
        self.scope = Choice(
            [
                ("all", "All samples", "Changes here count for every sample"),
                ("one", "This sample only", "Changes here count for the focused sample alone"),
            ]
        )
        self.scope.chosen.connect(self._on_scope)
        self.own = QPushButton()
        self.own.setProperty("role", "link")
        self.own.clicked.connect(lambda: self.own_wanted.emit(self.step_id))
        inner.addWidget(self.explanation)
        inner.addWidget(self.thumbnails)
        inner.addWidget(self.report)
        inner.addWidget(self.form)
        inner.addLayout(row)
        inner.addWidget(self.scope)
        inner.addWidget(self.own)
        self.only_here = False
        self._sample = ""
        self.scope.set_chosen("all")

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        for word, text, keys in (
            ("rename", "Rename", "F2"),
            ("duplicate", "Duplicate", ""),
            ("reset", "Reset to how it was added", ""),
            ("up", "Move up", "Alt+Up"),
            ("down", "Move down", "Alt+Down"),
            ("remove", "Remove", ""),
        ):
            action = menu.addAction(text)
            if action is not None:
                if keys:
                    action.setShortcut(keys)
                    action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
                    self.addAction(action)
                action.triggered.connect(lambda _, word=word: self._on_menu(word))
        return menu

    def _on_menu(self, word: str) -> None:
        if word == "rename":
            self.title.hide()
            self.name.setText(self.title.text())
            self.name.show()
            self.name.setFocus()
            self.name.selectAll()
            return
        self.wanted.emit(self.step_id, word)

    def _rename(self) -> None:
        if self.name.isHidden():
            return
        self.name.hide()
        self.title.show()
        text = self.name.text().strip()
        if text != self.title.text():
            self.renamed.emit(self.step_id, "" if text == STEPS[self.key].title else text)

    def _on_scope(self, key: str) -> None:
        self.only_here = key == "one"

    @property
    def is_open(self) -> bool:
        """Whether the settings show."""
        return not self.body.isHidden()

    def set_open(self, is_open: bool) -> None:
        """Show or hide the settings."""
        self.body.setVisible(is_open)
        self.summary.setVisible(not is_open)
        self.small.setVisible(not is_open)
        self.title.setIcon(chevron("down" if is_open else "right"))

    def _mark_title(self, use: StepUse) -> None:
        if self.title.text() != use.title:
            self.title.setText(use.title)
            self.title.setAccessibleName(f"{use.title}: show or hide its settings")
            self.box.setAccessibleName(f"Apply {use.title}")

    def show_step(self, use: StepUse, shown: Shown, aspect: Any) -> None:
        """Show a step as it is now."""
        self._mark_title(use)
        self.box.setChecked(use.on)
        marks = list(marks_of_step(use)) if use.on else []
        badges = [*marks, *(["differs here"] if shown.apart else [])]
        if shown.elsewhere and not shown.apart:
            badges.append(f"differs in {shown.elsewhere}")
        self.mark.setText(" · ".join(badges))
        self.mark.setVisible(bool(badges))
        self.mark.setToolTip(" ".join(f"{m}: {MARKS[m]}." for m in marks))
        self.summary.setText(shown.summary)
        self.doubt.setText(shown.doubt)
        self.doubt.setVisible(bool(shown.doubt))
        self.error.setText(shown.error)
        self.error.setVisible(bool(shown.error))
        if shown.sample != self._sample:
            # Where a sample differs, what is changed next is meant for it.
            self._sample, self.only_here = shown.sample, bool(shown.apart)
            self.scope.set_chosen("one" if self.only_here else "all")
        if not self.is_open:
            return
        self.report.setText(shown.report)
        self.report.setVisible(bool(shown.report))
        self.form.show_parameters(shown.parameters, shown.known, shown.apart)
        resizes = STEPS[self.key].resizes
        self.channels.setVisible(not resizes)
        self._channels_label.setVisible(not resizes)
        self.channels.show_value(use.channels, shown.known)
        self.thumbnails.mark(aspect)
        self.own.setVisible(bool(shown.apart))
        self.own.setText("Use the common setting in this sample")

    def show_small(self, thumbnail: Thumbnail | None) -> None:
        """Show the picture of a closed card."""
        image = QImage() if thumbnail is None else to_image(thumbnail.colours)
        image.setDevicePixelRatio(self.devicePixelRatioF())
        self.small.setPixmap(QPixmap.fromImage(image))

    def refuse(self, name: str, sentence: str) -> None:
        """Say why a value was not taken, beside it."""
        field = self.form.fields.get(name)
        number = getattr(field, "field", None)
        if number is not None:
            number.refuse()
        index = re.search(r"at character (\d+)", sentence)
        if isinstance(field, Words) and index is not None:
            field.point_at(int(index.group(1)) - 1)
        self.error.setText(sentence)
        self.error.show()
