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

from rilievo.core.regions.drawn_shapes import DrawnRegion
from rilievo.core.regions.shape import Shape
from rilievo.core.regions.shapes import GridShape
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.outline.class_body import ClassBody
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import NumberField, clear_rows, column, faint, named_row, side_by_side
from rilievo.ui.widgets.form import ParameterForm

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


class DrawnBody(ClassBody):
    """The tools, what they are set to, and the selected region."""

    def __init__(
        self, session: StudySession, compute: Compute, theme: Theme, editor: RegionEditor
    ) -> None:
        super().__init__(session, compute, theme)
        self._editor = editor
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
            button.clicked.connect(lambda _, key=key: session.view.use(key))
            self.tools[key] = button
            grid.addWidget(button, *divmod(k, _COLUMNS))
        self.rows.addWidget(box)
        self.hint = faint()
        self.rows.addWidget(self.hint)
        self._settings()
        self.everywhere = QCheckBox("Set down in all samples")
        self.everywhere.setToolTip("New regions belong to every sample, at the same position")
        self.everywhere.toggled.connect(lambda on: editor.drawn.set(everywhere=on))
        self.rows.addWidget(self.everywhere)
        self._chosen = self._build_chosen()
        self.rows.addWidget(self._chosen)
        self.form: ParameterForm | None = None
        self._kind: type[Shape] | None = None
        editor.changed.connect(self.refresh)

    def _settings(self) -> None:
        """What tools are set to before they draw."""
        out = self._editor.drawn
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
            field.setFixedWidth(scaled(58))
            field.setAccessibleName(f"Grid {name}")
        self.cell.activated.connect(
            lambda _: out.set(grid=out.grid.model_copy(update={"cell": self.cell.currentData()}))
        )
        self.names = QPlainTextEdit()
        self.names.setPlaceholderText("Names, one a line or parted by tabs; else A1, A2 …")
        self.names.setAccessibleName("Names of the cells")
        self.names.setFixedHeight(scaled(56))
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
        grid = self._editor.drawn.grid
        self._editor.drawn.set(
            grid=grid.model_copy(update={name: min(size, 500 if whole else 1e6)})
        )

    def _take_names(self) -> None:
        text = self.names.toPlainText().replace("\t", "\n")
        names = tuple(line.strip() for line in text.splitlines())
        self._editor.drawn.grid = self._editor.drawn.grid.model_copy(update={"names": names})

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
            rows.addWidget(named_row(name, field))
        form, self._form_rows = column()
        rows.addWidget(form)
        out = self._editor.drawn
        self.acts: dict[str, QPushButton] = {}
        for row in (
            (("Duplicate", out.duplicate), ("Grow", lambda: out.transform("grow")),
             ("Shrink", lambda: out.transform("shrink")), ("Remove", out.delete_selected)),
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

    def _index(self) -> int | None:
        found = {index for index, _ in self._editor.drawn.selected()}
        return found.pop() if len(found) == 1 else None

    def _put(self, name: str, value: Any) -> None:
        index = self._index()
        if index is not None and getattr(self.outline.drawn[index], name) != value:
            self._editor.drawn.change_drawn(f"Set {name} of a region", index, **{name: value})

    def _put_attributes(self) -> None:
        pairs = [part.split("=", 1) for part in self.attributes.text().split(";") if "=" in part]
        self._put("attributes", {k.strip(): v.strip() for k, v in pairs if k.strip()})

    def _put_number(self, name: str, value: Any) -> None:
        index = self._index()
        if index is None or value is None:
            return
        shape = self.outline.drawn[index].shape
        changed = {**shape.model_dump(), name: value}
        self._editor.drawn.change_drawn("Set a number of a region", index, shape=changed)

    def refresh(self) -> None:
        if self.outline.source != "drawn":
            return
        tool = self.session.view.tool
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
        self.tools["stamp"].setEnabled(self._editor.drawn.stamp is not None)
        for row, tools in self._setting_rows.values():
            row.setVisible(tool in tools)
        out = self._editor.drawn
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
        index = self._index()
        self._chosen.setVisible(index is not None and index < count)
        if index is not None and index < count:
            self._show_chosen(self.outline.drawn[index])

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
            self.form = ParameterForm(kind, leave)
            self.form.changed.connect(self._put_number)
            self._form_rows.addWidget(self.form)
        if self.form is not None:
            self.form.show_parameters(region.shape, self.known, {})
        self.acts["To all samples"].setEnabled(region.sample is not None)
        for text in ("Mirror ↔", "Mirror ↕"):
            self.acts[text].setEnabled(not isinstance(region.shape, GridShape))
