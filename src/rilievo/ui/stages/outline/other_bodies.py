"""Classes that are made from others, and those of label images."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import ValidationError
from PyQt6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QPushButton

from rilievo.core.regions.derived_classes import OF_TWO, OPERATIONS, Derivation
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.outline.class_body import ClassBody
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import NumberField, choice_box, faint, named_row, side_by_side


class DerivedBody(ClassBody):
    """A rule, the classes it takes, and its lengths."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__(session, compute, theme)
        self.operation = choice_box("Rule", list(OPERATIONS.items()))
        self.operation.activated.connect(
            lambda _: self.set("operation", self.operation.currentData())
        )
        self.rows.addWidget(named_row("Made as", self.operation))
        self.a, self.b = QComboBox(), QComboBox()
        self._rows = {}
        for name, box in (("a", self.a), ("b", self.b)):
            box.activated.connect(lambda _, n=name, box=box: self.set(n, box.currentData()))
            self._rows[name] = named_row(name.upper(), box)
            self.rows.addWidget(self._rows[name])
        self.gap, self.width_field = NumberField(), NumberField()
        self.unit = choice_box("Unit of lengths", (("px", "px"), ("unit", "calibrated units")), 72)
        for name, field, title in (
            ("gap", self.gap, "Gap"),
            ("width", self.width_field, "Width"),
        ):
            field.entered.connect(lambda v, n=name: self.set(n, v or 0.0))
            self._rows[name] = named_row(title, field)
            self.rows.addWidget(self._rows[name])
        self.unit.activated.connect(lambda _: self.set("lengths_in", self.unit.currentData()))
        self._rows["lengths_in"] = named_row("Lengths in", self.unit)
        self.rows.addWidget(self._rows["lengths_in"])
        self.rows.addWidget(
            faint("A rule holds for every sample and follows when the classes change.")
        )

    def set(self, name: str, value: Any) -> None:
        """Change the rule."""
        try:
            made = Derivation.model_validate({**dict(self.outline.derivation), name: value})
        except ValidationError as exc:
            self.refused.emit(str(exc.errors()[0]["msg"]))
            self.refresh()
            return
        self.change("Change the rule", derivation=made, source="derived")

    def refresh(self) -> None:
        made = self.outline.derivation
        self.operation.setCurrentIndex(self.operation.findData(made.operation))
        others = [
            n for n in self.session.state.method.class_names if n != self.outline.region_class
        ]
        for box, value in ((self.a, made.a), (self.b, made.b)):
            box.clear()
            for name in ("", *others):
                box.addItem(name or "choose a class", name)
            box.setCurrentIndex(max(box.findData(value), 0))
        self.gap.set_value(made.gap)
        self.width_field.set_value(made.width)
        self.unit.setCurrentIndex(self.unit.findData(made.lengths_in))
        lengths = made.operation in ("ring", "grown", "shrunk")
        self._rows["b"].setVisible(made.operation in OF_TWO)
        self._rows["gap"].setVisible(made.operation == "ring")
        self._rows["width"].setVisible(lengths)
        self._rows["lengths_in"].setVisible(lengths)


class LabelBody(ClassBody):
    """Which file holds the labels of a sample."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__(session, compute, theme)
        self.file = QLineEdit()
        self.file.setPlaceholderText("folder/{sample}.tif")
        self.file.setAccessibleName("Label image")
        self.file.editingFinished.connect(lambda: self.take(self.file.text().strip()))
        self.browse = QPushButton("Choose …")
        self.browse.clicked.connect(self._ask)
        self.rows.addWidget(side_by_side(self.file, self.browse))
        self.rows.addWidget(
            faint("TIFF whose pixels are region numbers; {sample} stands for the sample's name.")
        )

    def _ask(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(
            self, "Choose the label image of this sample", "", "Label images (*.tif *.tiff)"
        )
        if chosen:
            self.take_file(Path(chosen))

    def take_file(self, path: Path) -> None:
        """Take a file; the sample's name within its name stands for that of every sample."""
        entry = self.session.focus.entry
        name = path.name
        if entry is not None and entry.name in name:
            name = name.replace(entry.name, "{sample}")
        self.take(str(path.parent / name))

    def take(self, file: str) -> None:
        """Find the regions in these files."""
        if file != self.outline.label_image.get("file", ""):
            self.change("Choose label images", label_image={"file": file} if file else {})

    def refresh(self) -> None:
        if not self.file.hasFocus():
            self.file.setText(self.outline.label_image.get("file", ""))
