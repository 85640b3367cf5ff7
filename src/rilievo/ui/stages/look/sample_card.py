"""What the focused sample is: size, depth, attributes, group; and the way to its metadata."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLabel, QLineEdit, QPushButton

from rilievo.core.image.image import Plane
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.widgets.card import Card, faint, side_by_side


def depth_text(plane: Plane) -> str:
    """Return the number type in words."""
    dtype = plane.file_dtype
    kind = {"u": "whole numbers", "i": "signed whole numbers", "f": "floating point"}[dtype.kind]
    text = f"{8 * dtype.itemsize}-bit {kind}"
    if plane.saturation is not None and plane.type_range is not None:
        bits = int(plane.saturation + 1).bit_length() - 1
        if 0 < bits < 8 * dtype.itemsize and plane.saturation == 2**bits - 1 and dtype.kind == "u":
            text = f"{bits} bits in {8 * dtype.itemsize}-bit numbers"
    return text


class SampleCard(Card):
    """Rows of facts; group and replicate can be typed."""

    metadata_wanted = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Sample", fold="sample", folded=True)
        self._session, self._compute = session, compute
        self.size_label, self.depth_label, self.pixel = QLabel(""), QLabel(""), QLabel("")
        self.add_row("Size", self.size_label, 0)
        self.add_row("Depth", self.depth_label, 0)
        self.add_row("Pixel size", self.pixel, 0)
        self.attributes = faint()
        self.add(self.attributes)
        self.group, self.replicate = QComboBox(), QLineEdit()
        self.group.setEditable(True)
        self.group.setToolTip("Type a new group or choose one; Enter takes it")
        self.add_row("Group", self.group)
        self.add_row("Replicate", self.replicate)
        line = self.group.lineEdit()
        if line is not None:
            line.setAccessibleName("Group")
            line.editingFinished.connect(self._leave_group)
        self.group.activated.connect(lambda _: self._set_group())
        self.replicate.editingFinished.connect(
            lambda: self._set_group() if self.replicate.isModified() else None
        )
        self.metadata_button = QPushButton("Everything in the file …")
        self.metadata_button.setToolTip("Headers, tags and metadata, searched and copied (I)")
        self.metadata_button.clicked.connect(self.metadata_wanted)
        self.add(side_by_side(self.metadata_button, stretch=True))

    def _leave_group(self) -> None:
        line = self.group.lineEdit()
        if line is not None and line.isModified():
            self._set_group()

    def _set_group(self) -> None:
        entry = self._session.focus.entry
        if entry is None:
            return
        group = self.group.currentText().strip()
        groups = {one.id: (group, one.replicate) for one in self._session.focus.chosen}
        groups[entry.id] = (group, self.replicate.text().strip())
        self.replicate.setModified(False)
        self._session.change("Set group", self._session.state.with_groups(groups))

    def refresh(self) -> None:
        """Show the focused sample."""
        entry, sample = self._session.focus.entry, self._compute.store.focused
        self.setEnabled(entry is not None)
        self.set_title(entry.name if entry else "Sample")
        others = len(self._session.focus.chosen) - 1
        self.set_about(f"and {others} more chosen" if others > 0 else "")
        words = [] if entry is None else [entry.group, entry.replicate]
        if sample is not None:
            height, width = sample.first.shape
            words = [f"{width} × {height} px", *words]
        self.set_summary(" · ".join(word for word in words if word))
        groups = [group for group in self._session.state.groups if group]
        line = self.group.lineEdit()
        if line is None or not line.isModified() or not line.hasFocus():
            self.group.blockSignals(True)
            self.group.clear()
            self.group.addItems(groups)
            self.group.setCurrentText(entry.group if entry else "")
            self.group.blockSignals(False)
            self.replicate.setText(entry.replicate if entry else "")
        attributes = {} if entry is None else dict(entry.attributes)
        if sample is None:
            for label in (self.size_label, self.depth_label, self.pixel):
                label.setText("–")
        else:
            attributes = {**sample.attributes, **attributes}
            plane = sample.first
            height, width = plane.shape
            count = len(sample.channels)
            channels = f" · {count} channels" if count > 1 else ""
            self.size_label.setText(f"{width} × {height} px{channels}")
            self.depth_label.setText(depth_text(plane))
            calibration = plane.calibration
            self.pixel.setText(calibration.text)
        self.attributes.setText(" · ".join(f"{key} {value}" for key, value in attributes.items()))
        self.attributes.setVisible(bool(attributes))
