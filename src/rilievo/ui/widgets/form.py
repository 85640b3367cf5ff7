"""A form for parameters, made from their declaration."""

from __future__ import annotations

import types
from collections.abc import Collection, Mapping
from typing import Any, Literal, Union, get_args, get_origin

from pydantic.fields import FieldInfo
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.core.image.calibration_frames import Frames, ImageFile
from rilievo.core.parameters import Parameters, Rectangle
from rilievo.core.signal.intensity_curves import CalibrationPoint
from rilievo.core.signal.steps.curve_card import Corner
from rilievo.core.signal.steps.repair_pixels import Repair
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.calibration_field import CalibrationField
from rilievo.ui.widgets.card import CONTROL_WIDTH, ROW_GAP, side_by_side
from rilievo.ui.widgets.card_field import CardField
from rilievo.ui.widgets.file_fields import FileField, FramesField
from rilievo.ui.widgets.parameter_fields import (
    Drawn,
    Field,
    Known,
    Number,
    OneChannel,
    OneClass,
    OneOf,
    OneQuantity,
    Positions,
    SeveralChannels,
    Tick,
    Words,
)


def _kind(annotation: Any) -> tuple[Any, bool]:
    """The type without None, and whether None is allowed."""
    if get_origin(annotation) in (Union, types.UnionType):
        parts = [part for part in get_args(annotation) if part is not type(None)]
        return parts[0], len(parts) < len(get_args(annotation))
    return annotation, False


def field_for(name: str, field: FieldInfo) -> Field:  # noqa: PLR0911 (one line a kind)
    """Return a control for a parameter."""
    kind, optional = _kind(field.annotation)
    title = field.title or name
    extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    if kind is bool:
        return Tick()
    if kind in (int, float):
        return Number(field, whole=kind is int, optional=optional)
    if get_origin(kind) is Literal:
        return OneOf(title, get_args(kind))
    if kind is Frames:
        return FramesField(title)
    if kind is ImageFile:
        return FileField(title)
    if kind is Rectangle:
        return Drawn(title, several=False)
    if get_origin(kind) is tuple:
        return _field_of_several(title, get_args(kind)[0])
    if extra.get("channel"):
        return OneChannel(title)
    if extra.get("region_class"):
        return OneClass(title)
    if extra.get("quantity"):
        return OneQuantity(title)
    lines = extra.get("lines", 1)
    return Words(lines if isinstance(lines, int) else 1)


def _field_of_several(title: str, kind: Any) -> Field:
    """A control for several of a kind."""
    if kind is CalibrationPoint:
        return CalibrationField(title)
    if kind is Rectangle:
        return Drawn(title, several=True)
    if kind is Corner:
        return CardField(title)
    return Positions(title) if kind is Repair else SeveralChannels(title, "none")


class ParameterForm(QWidget):
    """All parameters of a step, threshold or clean-up; what is seldom changed folds away."""

    changed = pyqtSignal(str, object)  # name, value
    draw_wanted = pyqtSignal(str)

    def __init__(self, kind: type[Parameters], leave: Collection[str] = ()) -> None:
        """leave : names of parameters that are shown elsewhere."""
        super().__init__()
        self.fields: dict[str, Field] = {}
        self.labels: dict[str, QWidget] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(ROW_GAP)
        self._further = QWidget()
        further = QVBoxLayout(self._further)
        further.setContentsMargins(0, 0, 0, 0)
        further.setSpacing(ROW_GAP)
        self.more = QPushButton("Alter the background by hand …")
        self.more.setProperty("role", "link")
        self.more.clicked.connect(lambda: self._further.setVisible(self._further.isHidden()))
        some = False
        for name, field in kind.model_fields.items():
            if name in leave:
                continue
            extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
            control = self._row(name, field, further if extra.get("further") else layout)
            some |= bool(extra.get("further"))
            control.entered.connect(lambda value, name=name: self.changed.emit(name, value))
            control.draw_wanted.connect(lambda name=name: self.draw_wanted.emit(name))
        if some:
            layout.addWidget(side_by_side(self.more, stretch=True))
            layout.addWidget(self._further)
            self._further.hide()

    def _row(self, name: str, field: FieldInfo, layout: QVBoxLayout) -> Field:
        control = field_for(name, field)
        title = field.title or name
        control.setAccessibleName(title)
        proxy = control.focusProxy()
        if proxy is not None and not proxy.accessibleName():
            proxy.setAccessibleName(title)
        tip = (field.description or "").capitalize()
        if tip:
            control.setToolTip(tip)
        self.fields[name] = control
        if control.wide:
            layout.addWidget(control)
            self.labels[name] = control
            return control
        label = QLabel(title)
        label.setToolTip(tip)
        label.setBuddy(control)
        control.setFixedWidth(scaled(CONTROL_WIDTH))
        row = QWidget()
        inner = QHBoxLayout(row)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(12)
        inner.addWidget(label)
        inner.addStretch(1)
        inner.addWidget(control)
        layout.addWidget(row)
        self.labels[name] = label
        return control

    def show_parameters(
        self, parameters: Parameters, known: Known, apart: Mapping[str, Any]
    ) -> None:
        """Show values; `apart` are those that differ for the focused sample."""
        for name, control in self.fields.items():
            control.show_value(getattr(parameters, name), known)
            control.show_rest(parameters)
            label = self.labels[name]
            if label.property("apart") != (name in apart):
                label.setProperty("apart", name in apart)
                style = label.style()
                if style is not None:
                    style.polish(label)
        altered = getattr(parameters, "altered", False)
        result = getattr(parameters, "result", "subtracted") != "subtracted"
        if (altered or result) and self._further.isHidden():
            self._further.show()
