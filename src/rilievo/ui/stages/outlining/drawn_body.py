"""Tools to draw regions with, and the numbers of the selected one."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QWidget,
)

from rilievo.core.regions.drawn import DrawnRegion
from rilievo.core.regions.shapes import GridShape, Shape
from rilievo.ui.model import StudyModel
from rilievo.ui.outlining import Outlining
from rilievo.ui.stages.card import NumberField, clear_rows, column, faint, named_row, side_by_side
from rilievo.ui.stages.correcting.form import ParameterForm
from rilievo.ui.stages.outlining.body import Body
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench

TOOLS = (
    ("rectangle", "Rectangle", "Drag from corner to corner; Shift makes it a square"),
    ("ellipse", "Ellipse", "Drag the box around it; Shift makes it a circle"),
    ("turned", "Turned", "Drag the middle line of a turned rectangle"),
    ("polygon", "Polygon", "Click corners; a click on the first one closes it"),
    ("freehand", "Freehand", "Draw the outline; it closes itself"),
    ("brush", "Brush", "Paint pixels; with Ctrl take them away"),
    ("band line", "Line", "Drag a line that has a width"),
    ("disc", "Point", "Click to set a disc of the radius below"),
    ("ring", "Ring", "Click or drag; handles change both radii"),
    ("flood", "Flood", "Click a pixel; what is like it becomes a region"),
    ("stamp", "Stamp", "Click to set the last shape down again"),
    ("grid", "Grid", "Click the first cell, the last of its row, the first of the last row"),
)
_COLUMNS = 4
# Which numbers a tool is set by before it draws.
_RADIUS, _WIDTH, _FLOOD, _GRID = ("disc", "ring", "brush"), ("band line",), ("flood",), ("grid",)


class DrawnBody(Body):
    """The tools, what they are set to, and the selected region."""

    def __init__(
        self, model: StudyModel, bench: Workbench, theme: Theme, outlining: Outlining
    ) -> None:
        super().__init__(model, bench, theme)
        self._outlining = outlining
        self.tools: dict[str, QPushButton] = {}
        box = QWidget()
        grid = QGridLayout(box)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        for k, (key, text, tip) in enumerate(TOOLS):
            button = QPushButton(text)
            button.setCheckable(True)
            button.setProperty("role", "choice")
            button.setToolTip(tip)
            button.clicked.connect(lambda _, key=key: model.viewing.use(key))
            self.tools[key] = button
            grid.addWidget(button, *divmod(k, _COLUMNS))
        self.rows.addWidget(box)
        self.hint = faint()
        self.rows.addWidget(self.hint)
        self._settings()
        self.everywhere = QCheckBox("Set down in all samples")
        self.everywhere.setToolTip("New regions belong to every sample, at the same place")
        self.everywhere.toggled.connect(lambda on: outlining.set(everywhere=on))
        self.rows.addWidget(self.everywhere)
        self._chosen = self._build_chosen()
        self.rows.addWidget(self._chosen)
        self._form: ParameterForm | None = None
        self._kind: type[Shape] | None = None
        outlining.changed.connect(self.refresh)

    def _settings(self) -> None:
        """What tools are set to before they draw."""
        out = self._outlining
        self.radius, self.line_width = NumberField(unit="px", step=0.5), NumberField(unit="px")
        self.radius.entered.connect(lambda v: out.set(radius=max(v or 0.6, 0.6)))
        self.line_width.entered.connect(lambda v: out.set(line_width=max(v or 1.0, 0.1)))
        self.tolerance = NumberField(may_be_empty="automatic", unit="signal")
        self.tolerance.entered.connect(lambda v: out.set(tolerance=v))
        self.connected = QComboBox()
        self.connected.addItem("connected", True)
        self.connected.addItem("whole picture", False)
        self.connected.activated.connect(lambda _: out.set(connected=self.connected.currentData()))
        self.grid_rows, self.grid_columns = NumberField(), NumberField()
        self.cell = QComboBox()
        self.cell.addItem("circles", "ellipse")
        self.cell.addItem("rectangles", "rectangle")
        self.cell_width, self.cell_height = NumberField(unit="px"), NumberField(unit="px")
        for field, name, whole in (
            (self.grid_rows, "rows", True),
            (self.grid_columns, "columns", True),
            (self.cell_width, "width", False),
            (self.cell_height, "height", False),
        ):
            field.entered.connect(lambda v, n=name, w=whole: self._set_grid(n, v, w))
            field.setFixedWidth(58)
            field.setAccessibleName(f"Grid {name}")
        self.cell.activated.connect(
            lambda _: out.set(grid=out.grid.model_copy(update={"cell": self.cell.currentData()}))
        )
        self.names = QPlainTextEdit()
        self.names.setPlaceholderText("Names, one a line or parted by tabs; else A1, A2 …")
        self.names.setAccessibleName("Names of the cells")
        self.names.setFixedHeight(56)
        self.names.textChanged.connect(self._take_names)
        self._setting_rows = {
            "radius": (named_row("Radius", self.radius), _RADIUS),
            "width": (named_row("Width", self.line_width), _WIDTH),
            "tolerance": (named_row("Tolerance", self.tolerance), _FLOOD),
            "connected": (named_row("Reaches", self.connected), _FLOOD),
            "grid": (
                named_row("Rows × columns", side_by_side(self.grid_rows, self.grid_columns), 0),
                _GRID,
            ),
            "cell": (named_row("Cells", self.cell), _GRID),
            "size": (
                named_row("Width × height", side_by_side(self.cell_width, self.cell_height), 0),
                _GRID,
            ),
            "names": (self.names, _GRID),
        }
        for row, _ in self._setting_rows.values():
            self.rows.addWidget(row)

    def _set_grid(self, name: str, value: float | None, whole: bool) -> None:
        least = 1 if whole else 0.5
        size = max(round(value) if whole and value else value or least, least)
        grid = self._outlining.grid
        self._outlining.set(grid=grid.model_copy(update={name: min(size, 500 if whole else 1e6)}))

    def _take_names(self) -> None:
        text = self.names.toPlainText().replace("\t", "\n")
        names = tuple(line.strip() for line in text.splitlines())
        self._outlining.grid = self._outlining.grid.model_copy(update={"names": names})

    def _build_chosen(self) -> QWidget:
        """Name, group, attributes and numbers of the selected region."""
        self.name, self.group = QLineEdit(), QLineEdit()
        self.attributes = QLineEdit()
        self.attributes.setPlaceholderText("dose = 5; side = left")
        self.name.editingFinished.connect(lambda: self._put("name", self.name.text().strip()))
        self.group.editingFinished.connect(lambda: self._put("group", self.group.text().strip()))
        self.group.setToolTip("A region with a group of its own is compared like a sample")
        self.attributes.editingFinished.connect(self._put_attributes)
        box, rows = column()
        for name, field in (
            ("Name", self.name),
            ("Group", self.group),
            ("Attributes", self.attributes),
        ):
            rows.addWidget(named_row(name, field, 172))
        form, self._form_rows = column()
        rows.addWidget(form)
        out = self._outlining
        self.acts: dict[str, QPushButton] = {}
        for row in (
            (("Duplicate", out.duplicate), ("Grow", lambda: out.transform("grow")),
             ("Shrink", lambda: out.transform("shrink")), ("Remove", out.delete_drawn)),
            (("Mirror ↔", lambda: out.transform("mirror x")),
             ("Mirror ↕", lambda: out.transform("mirror y")),
             ("To all samples", out.spread)),
        ):  # fmt: skip
            buttons = []
            for text, act in row:
                button = QPushButton(text)
                button.clicked.connect(lambda _, act=act: act())
                self.acts[text] = button
                buttons.append(button)
            rows.addWidget(side_by_side(*buttons, stretch=True))
        return box

    def _place(self) -> int | None:
        found = {place for place, _ in self._outlining.selected()}
        return found.pop() if len(found) == 1 else None

    def _put(self, name: str, value: Any) -> None:
        place = self._place()
        if place is not None and getattr(self.outline.drawn[place], name) != value:
            self._outlining.change_drawn(f"Set {name} of a region", place, **{name: value})

    def _put_attributes(self) -> None:
        pairs = [part.split("=", 1) for part in self.attributes.text().split(";") if "=" in part]
        self._put("attributes", {k.strip(): v.strip() for k, v in pairs if k.strip()})

    def _put_number(self, name: str, value: Any) -> None:
        place = self._place()
        if place is None or value is None:
            return
        shape = self.outline.drawn[place].shape
        changed = {**shape.model_dump(), name: value}
        self._outlining.change_drawn("Set a number of a region", place, shape=changed)

    def refresh(self) -> None:
        if self.outline.source != "drawn":
            return
        tool = self.model.viewing.tool
        for key, button in self.tools.items():
            button.setChecked(key == tool)
        tips = {key: tip for key, _, tip in TOOLS}
        count = len(self.outline.drawn)
        self.hint.setText(
            tips.get(tool)
            or (
                "Choose a tool, then draw on the picture."
                if not count
                else "Click a region to select it; drag it or its handles; arrow keys move it."
            )
        )
        self.tools["stamp"].setEnabled(self._outlining.stamp is not None)
        for row, tools in self._setting_rows.values():
            row.setVisible(tool in tools)
        out = self._outlining
        self.radius.set_value(out.radius)
        self.line_width.set_value(out.line_width)
        self.tolerance.set_value(out.tolerance)
        for field, value in (
            (self.grid_rows, out.grid.rows),
            (self.grid_columns, out.grid.columns),
            (self.cell_width, out.grid.width),
            (self.cell_height, out.grid.height),
        ):
            field.set_value(value)
        self.cell.setCurrentIndex(self.cell.findData(out.grid.cell))
        self.connected.setCurrentIndex(0 if out.connected else 1)
        place = self._place()
        self._chosen.setVisible(place is not None and place < count)
        if place is not None and place < count:
            self._show_chosen(self.outline.drawn[place])

    def _show_chosen(self, region: DrawnRegion) -> None:
        for field, text in (
            (self.name, region.name),
            (self.group, region.group),
            (self.attributes, "; ".join(f"{k} = {v}" for k, v in region.attributes.items())),
        ):
            if not field.hasFocus():
                field.setText(text)
        kind = type(region.shape)
        if kind is not self._kind:
            clear_rows(self._form_rows)
            self._kind = kind
            leave = [
                name
                for name, field in kind.model_fields.items()
                if not field.title or name in ("first", "across", "down", "names")
            ]
            self._form = ParameterForm(kind, leave)
            self._form.changed.connect(self._put_number)
            self._form_rows.addWidget(self._form)
        if self._form is not None:
            self._form.show_parameters(region.shape, self.known, {})
        self.acts["To all samples"].setEnabled(region.sample is not None)
        for text in ("Mirror ↔", "Mirror ↕"):
            self.acts[text].setEnabled(not isinstance(region.shape, GridShape))
