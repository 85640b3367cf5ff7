"""Derived channels, light instead of codes, and channels laid over each other in colours."""

from __future__ import annotations

import html

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.errors import MethodError
from rilievo.core.files.channel_preparation import LUMA_WEIGHTS, Derived, Reading, Term
from rilievo.core.method.method import checked_copy
from rilievo.core.view.palettes import overlay_colours
from rilievo.core.wording.lists import counted
from rilievo.core.wording.numbers import typed
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.look.projection_fields import ProjectionFields
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import (
    Card,
    NumberField,
    choice_box,
    clear_rows,
    faint,
    side_by_side,
)

# What a new channel can start from: name, way, and the weight of each channel by its name.
_STARTS = (
    ("mean", "Plain mean"),
    ("luma", "Brightness (luma)"),
    ("largest", "Largest of all"),
    ("mix", "Weighted mix"),
    ("difference", "Difference of two"),
    ("ratio", "Ratio of two"),
    ("projection", "Over planes"),
)


class ChannelsCard(Card):
    """The derived channels of the method, an editor for a new one, and the overlay."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Channels", fold="channels", folded=True)
        self._session, self._compute, self._viewing = session, compute, session.view
        self.overlay = QCheckBox("Overlay in colours")
        self.overlay.setToolTip("Add the channels up in their colours; view only")
        self.overlay.toggled.connect(lambda on: self._viewing.choose(overlay=on))
        self.add(self.overlay)
        self._visible = _Column()
        self.add(self._visible)
        self._boxes: dict[str, QCheckBox] = {}
        self.undo_srgb = QCheckBox("Undo the sRGB curve of photographs")
        self.undo_srgb.setToolTip(
            "Makes the numbers proportional to light; the sample's notes say so"
        )
        self.undo_srgb.toggled.connect(self._set_srgb)
        self.add(self.undo_srgb)
        self._list = _Column()
        self.add(self._list)
        self.start = choice_box("Kind of derived channel", _STARTS, 136)
        self.new_button = QPushButton("New …")
        self.new_button.setProperty("role", "tight")
        self.new_button.setToolTip("Derive a channel from those of the file, in floats")
        self.new_button.clicked.connect(self.begin)
        self.add_row("Derive", side_by_side(self.start, self.new_button), 0)
        self._editor = QWidget()
        self._editor_rows = QVBoxLayout(self._editor)
        self._editor_rows.setContentsMargins(12, 0, 0, 0)
        self._editor_rows.setSpacing(4)
        self.add(self._editor)
        self._editor.setVisible(False)
        self.name = QLineEdit()
        self.weights: dict[str, NumberField] = {}
        self.first, self.second = QComboBox(), QComboBox()
        self.over = ProjectionFields()
        self.message = faint()
        self._viewing.changed.connect(self.refresh)

    # -- the reading of the method

    @property
    def _reading(self) -> Reading:
        return self._session.state.method.reading

    def _change(self, text: str, **fields: object) -> None:
        reading = checked_copy(self._reading, **fields)
        self._session.change_method(text, self._session.state.method.changed(reading=reading))

    def _set_srgb(self, on: bool) -> None:
        self._change("Undo the sRGB curve" if on else "Keep the sRGB curve", undo_srgb=on)

    def remove(self, name: str) -> None:
        """Remove a derived channel."""
        kept = tuple(one for one in self._reading.derived if one.name != name)
        if self._session.focus.channel == name:
            sample = self._compute.store.focused
            if sample is not None:
                self._session.focus.set(channel=sample.channel_names[0])
        self._change(f"Remove channel {name}", derived=kept)

    # -- the editor

    def begin(self) -> None:
        """Open the editor for the chosen kind."""
        sample = self._compute.store.focused
        if sample is None:
            return
        derived = {one.name for one in self._reading.derived}
        names = [name for name in sample.channel_names if name not in derived]
        kind = self.start.currentData()
        clear_rows(self._editor_rows)
        stack = sample.stack
        if kind == "projection" and stack is None:
            self._refuse(
                f"“{sample.name}” is no plane of a stack; bring its file in as planes in depth or "
                "time to make a channel of many of them."
            )
            return
        self.name, self.weights = QLineEdit(), {}
        self.name.setPlaceholderText("name of the channel")
        self.name.setAccessibleName("Name of the derived channel")
        self.name.setText(_free_name(self.start.currentText().split(" ")[-1], sample.channel_names))
        self._editor_rows.addWidget(self.name)
        if kind in ("difference", "ratio"):
            self.first, self.second = QComboBox(), QComboBox()
            for box, index in ((self.first, 0), (self.second, 1)):
                box.addItems(names)
                box.setCurrentIndex(min(index, len(names) - 1))
            sign = QLabel("minus" if kind == "difference" else "divided by")
            self._editor_rows.addWidget(side_by_side(self.first, sign, self.second, stretch=True))
        elif stack is not None and kind == "projection":
            self.over = ProjectionFields()
            self.over.show_choices(names, stack.axes)
            self._editor_rows.addWidget(self.over)
        else:
            for name in names:
                self._add_weight(name, _start_weight(kind, name, names))
        self.message = faint()
        self._editor_rows.addWidget(self.message)
        make, leave = QPushButton("Add channel"), QPushButton("Cancel")
        make.clicked.connect(self.finish)
        leave.clicked.connect(lambda: self._editor.setVisible(False))
        self.name.returnPressed.connect(self.finish)
        self._editor_rows.addWidget(side_by_side(make, leave, stretch=True))
        self._editor.setVisible(True)
        self.name.setFocus()
        self.name.selectAll()

    def _refuse(self, text: str) -> None:
        """Say why there is nothing to edit."""
        self.message = faint(text)
        self._editor_rows.addWidget(self.message)
        self._editor.setVisible(True)

    def _add_weight(self, channel: str, weight: float) -> None:
        field = NumberField()
        field.set_value(weight)
        field.entered.connect(field.set_value)
        field.setFixedWidth(scaled(72))
        field.setAccessibleName(f"Weight of {channel}")
        self.weights[channel] = field
        self._editor_rows.addWidget(side_by_side(field, QLabel(f"× {channel}"), stretch=True))

    def _terms(self) -> tuple[str, tuple[Term, ...]]:
        kind = self.start.currentData()
        if kind == "projection":
            return "projection", (Term(channel=self.over.channel.currentText()),)
        if kind in ("difference", "ratio"):
            first, second = self.first.currentText(), self.second.currentText()
            weight = -1.0 if kind == "difference" else 1.0
            return (
                "ratio" if kind == "ratio" else "mix",
                (Term(channel=first), Term(channel=second, weight=weight)),
            )
        weighted = [(name, field.value or 0.0) for name, field in self.weights.items()]
        terms = tuple(Term(channel=name, weight=w) for name, w in weighted if w)
        return "largest" if kind == "largest" else "mix", terms

    def finish(self) -> None:
        """Add the channel that the editor describes, and show it."""
        name = self.name.text().strip()
        sample = self._compute.store.focused
        if sample is None or name in sample.channels:
            self.message.setText(f"There is a channel “{name}” already; type another name.")
            return
        try:
            way, terms = self._terms()
            over = self.over.chosen() if way == "projection" else None
            new = checked_copy(
                Derived(name="x", terms=(Term(channel="x"),)),
                name=name,
                way=way,
                terms=terms,
                over=over,
            )
            self._change(f"Derive channel {name}", derived=(*self._reading.derived, new))
        except MethodError as exc:
            self.message.setText(str(exc))
            return
        self._editor.setVisible(False)
        self._session.focus.set(channel=name)

    # -- what is shown

    def refresh(self) -> None:
        """Show derived channels and what is overlaid."""
        sample = self._compute.store.focused
        for box, on in (
            (self.overlay, self._viewing.overlay),
            (self.undo_srgb, self._reading.undo_srgb),
        ):
            box.blockSignals(True)
            box.setChecked(on)
            box.blockSignals(False)
        names = list(overlay_colours(sample.channel_names)) if sample is not None else []
        count = len(sample.channels) if sample is not None else 0
        self.set_about(counted(count, "channel"))
        self.overlay.setEnabled(len(names) > 1)
        self._show_visible(names)
        self._show_list()

    def _show_visible(self, names: list[str]) -> None:
        wanted = names if self._viewing.overlay else []
        if list(self._boxes) != wanted:
            self._visible.clear()
            self._boxes = {}
            for name in wanted:
                box = QCheckBox(name)
                red, green, blue = overlay_colours(names)[name]
                box.setToolTip(f"Show “{name}” in rgb({red}, {green}, {blue})")
                box.toggled.connect(lambda on, name=name: self._set_visible(name, on))
                self._boxes[name] = box
            if self._boxes:
                self._visible.add(side_by_side(*self._boxes.values(), stretch=True))
        for name, box in self._boxes.items():
            box.blockSignals(True)
            box.setChecked(name not in self._viewing.hidden)
            box.blockSignals(False)

    def _set_visible(self, name: str, on: bool) -> None:
        hidden = self._viewing.hidden
        self._viewing.choose(hidden=hidden - {name} if on else hidden | {name})

    def _show_list(self) -> None:
        self._list.clear()
        for one in self._reading.derived:
            text = QLabel(f"<b>{html.escape(one.name)}</b> = {html.escape(one.formula)}")
            text.setWordWrap(True)
            text.setTextFormat(Qt.TextFormat.RichText)
            button = QPushButton("Remove")
            button.setProperty("role", "link")
            button.setToolTip(f"Remove the derived channel {one.name}; the file's channels stay")
            button.clicked.connect(lambda _, name=one.name: self.remove(name))
            row = side_by_side(text, button)
            layout = row.layout()
            if layout is not None:
                layout.setStretch(0, 1)  # type: ignore[attr-defined]
            self._list.add(row)


class _Column(QWidget):
    """Rows that are made anew."""

    def __init__(self) -> None:
        super().__init__()
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(2)
        self.setVisible(False)

    def add(self, widget: QWidget) -> None:
        """Add a row."""
        self._rows.addWidget(widget)
        self.setVisible(True)

    def clear(self) -> None:
        """Remove all rows."""
        clear_rows(self._rows)
        self.setVisible(False)


def _start_weight(kind: str, name: str, names: list[str]) -> float:
    if kind == "luma":
        return LUMA_WEIGHTS.get(name, 0.0)
    if kind == "mean":
        colours = [known for known in names if known in LUMA_WEIGHTS] or names
        return float(typed(round(1 / len(colours), 9))) if name in colours else 0.0
    return 0.0 if name == "brightness" else 1.0


def _free_name(name: str, taken: tuple[str, ...]) -> str:
    plain = name.strip("()").lower()
    number = 1
    while (plain if number == 1 else f"{plain} {number}") in taken:
        number += 1
    return plain if number == 1 else f"{plain} {number}"
