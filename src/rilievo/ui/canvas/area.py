"""The picture with what lies over its edges: sample and channel chips, the key."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.ui.canvas.key import Key
from rilievo.ui.canvas.picture import Picture
from rilievo.ui.model import StudyModel
from rilievo.ui.scene import scene_of
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench


class _Chips(QWidget):
    """Name of the sample, and its channels to choose from."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self._names: list[str] = []
        self._group = QButtonGroup(self)
        self._sample = QLabel("")
        self._sample.setObjectName("sampleChip")
        self._sample.setFixedHeight(24)
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        self._row.addWidget(self._sample)
        self._buttons: dict[str, QPushButton] = {}
        self._row.addStretch(1)
        for signal in (model.focus_changed, bench.loaded):
            signal.connect(lambda *_: self.refresh())
        model.changed.connect(lambda *_: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        entry, sample = self._model.entry, self._bench.focused_sample
        self.setVisible(entry is not None)
        self._sample.setText(entry.name if entry else "")
        names = list(sample.channel_names) if sample else []
        if names != self._names:
            for button in self._buttons.values():
                self._group.removeButton(button)
                self._row.removeWidget(button)
                button.deleteLater()
            self._buttons = {}
            for i, name in enumerate(names):
                button = QPushButton(name)
                button.setObjectName("chip")
                button.setCheckable(True)
                button.setToolTip(f"Show channel “{name}” (C for the next one)")
                button.clicked.connect(lambda _, name=name: self._model.focus(channel=name))
                self._group.addButton(button)
                self._row.insertWidget(1 + i, button)
                self._buttons[name] = button
            self._names = names
        if sample is not None:
            shown = self._buttons.get(self._bench.channel_for(sample))
            if shown is not None:
                shown.setChecked(True)
        self.adjustSize()


class PictureArea(QWidget):
    """Lays the chips and the key over the picture."""

    def __init__(self, model: StudyModel, bench: Workbench, theme: Theme) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self.picture = Picture(model, bench, theme)
        self.key = Key(theme)
        self.chips = _Chips(model, bench)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.picture)
        over = QHBoxLayout(self.picture)
        over.setContentsMargins(12, 12, 8, 12)
        over.addWidget(self.chips, 0, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
        over.addStretch(1)
        over.addWidget(self.key)
        self._over = over
        for signal in (model.focus_changed, model.stage_changed, bench.facts_changed):
            signal.connect(lambda *_: self.refresh_key())
        model.changed.connect(lambda *_: self.refresh_key())
        self.picture.before_shown.connect(lambda _: self.refresh_key())
        self.refresh_key()

    def lay_over(self, widget: QWidget) -> None:
        """Put a widget in the middle of the picture."""
        self._over.insertWidget(1, widget, 100)

    def refresh_key(self) -> None:
        """Show the display range of what is shown."""
        sample = self._bench.focused_sample
        self.key.setVisible(sample is not None)
        if sample is None:
            return
        scene = scene_of(self._bench, self._model.sample_id or 0, before=self.picture.shows_before)
        self.key.set_range(*scene.display)
        self.key.set_style(scene.style)
