"""Pixel size, saturation and empty level: what is declared in place of what the file says."""

from __future__ import annotations

import math

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton

from rilievo.core.errors import MethodError
from rilievo.core.files.channel_preparation import MetadataOverrides
from rilievo.core.image.lengths import LENGTH_UNITS, is_metric
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, NumberField, faint, side_by_side


class LevelsCard(Card):
    """Scale and levels of the chosen samples, of a group or of all."""

    length_wanted = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Scale and levels", fold="levels", folded=True)
        self._session, self._compute = session, compute
        # How far the line that was drawn goes across and down, pixels.
        self._drawn: tuple[float, float] | None = None
        self._proposed = MetadataOverrides()
        self._proposed_for: object = None
        self.scope = QComboBox()
        for key, text in (
            ("sample", "this sample"),
            ("group", "its group"),
            ("all", "all samples"),
        ):
            self.scope.addItem(text, key)
        self.scope.setToolTip("For whom a size or level is set here")
        self.add_row("Set for", self.scope)
        self.pixel_size, self.unit = NumberField(may_be_empty="unknown"), QComboBox()
        self.unit.addItems([unit for unit in LENGTH_UNITS if unit != "px"])
        self.unit.setAccessibleName("Unit of length")
        self.pixel_size.setAccessibleName("Pixel size")
        self.pixel_height = NumberField(may_be_empty="square")
        self.pixel_height.setAccessibleName("Pixel height")
        self.pixel_height.setToolTip("Height of a pixel; empty where pixels are square")
        self.pixel_size.setFixedWidth(scaled(76))
        self.pixel_height.setFixedWidth(scaled(70))
        self.unit.setFixedWidth(scaled(72))
        sides = side_by_side(self.pixel_size, QLabel("×"), self.pixel_height, self.unit)
        self.add_row("Pixel size", sides, 0)
        self.length_button = QPushButton("Draw")
        self.length_button.setCheckable(True)
        self.length_button.setToolTip("Drag a line over something of known length")
        self.length_button.clicked.connect(self.length_wanted)
        self.length = NumberField(may_be_empty="length")
        self.length.setFixedWidth(scaled(124))
        self.length.setAccessibleName("Known length of the drawn line")
        self.add_row("Known length", side_by_side(self.length_button, self.length), 0)
        self._length_text = faint()
        self.add(self._length_text)
        self.saturation = NumberField(may_be_empty="none", unit="native units")
        self.empty = NumberField(may_be_empty="off", unit="native units")
        self.propose_saturation, self.propose_empty = QPushButton(""), QPushButton("")
        for button in (self.propose_saturation, self.propose_empty):
            button.setToolTip("What the pixels themselves suggest")
        for field in (self.saturation, self.empty):
            field.setFixedWidth(scaled(92))
        self.saturation.setAccessibleName("Saturated from")
        self.empty.setAccessibleName("Empty up to")
        self.add_row("Saturated from", side_by_side(self.propose_saturation, self.saturation), 0)
        self.add_row("Empty up to", side_by_side(self.propose_empty, self.empty), 0)
        self.reset = QPushButton("As in the file")
        self.reset.setProperty("role", "link")
        self.reset.setToolTip("Forget what was declared here")
        self.add(side_by_side(self.reset, stretch=True))
        self.pixel_size.entered.connect(self._set_size)
        self.pixel_height.entered.connect(lambda _: self._set_size(self.pixel_size.value))
        self.unit.activated.connect(lambda _: self._set_size(self.pixel_size.value))
        self.length.entered.connect(self._set_by_length)
        self.saturation.entered.connect(lambda v: self._declare("saturation level", saturation=v))
        self.empty.entered.connect(lambda v: self._declare("empty level", empty=v))
        self.propose_saturation.clicked.connect(
            lambda: self._declare("saturation level", saturation=self._proposed.saturation)
        )
        self.propose_empty.clicked.connect(
            lambda: self._declare("empty level", empty=self._proposed.empty)
        )
        self.reset.clicked.connect(
            lambda: self._declare(
                "nothing",
                pixel_size=None,
                pixel_height=None,
                unit=None,
                saturation=None,
                empty=None,
            )
        )

    # -- what is declared

    def _targets(self) -> list[int]:
        entry, scope = self._session.focus.entry, self.scope.currentData()
        samples = self._session.state.samples
        if entry is None:
            return []
        if scope == "all":
            return [one.id for one in samples]
        if scope == "group":
            return [one.id for one in samples if one.group == entry.group]
        return [one.id for one in self._session.focus.chosen]

    def _declare(self, what: str, **fields: object) -> None:
        targets = self._targets()
        try:
            state = self._session.state.with_overrides(targets, **fields)
        except MethodError:
            self.refresh()
            return
        unit = fields.get("unit")
        if isinstance(unit, str) and is_metric(unit):
            # One study has one unit of length; all lengths follow the one that is typed.
            state = state.with_length_unit(unit)
        whom = "a sample" if len(targets) == 1 else f"{len(targets)} samples"
        self._session.change(f"Declare {what} of {whom}", state)

    def _set_size(self, value: float | None) -> None:
        unit = self.unit.currentText()
        if value is None:
            self._declare("pixel size", pixel_size=None, pixel_height=None, unit=None)
        elif value > 0:
            height = self.pixel_height.value
            if height is not None and height <= 0:
                height = None
            self._declare("pixel size", pixel_size=value, pixel_height=height, unit=unit)
        else:
            self.refresh()

    def take_length(self, dx: float, dy: float) -> None:
        """Ask for the length of a line that was drawn so many pixels across and down."""
        self._drawn = (dx, dy)
        self.set_folded(False)
        long = shown(math.hypot(dx, dy), 5)
        self._length_text.setText(f"The line is {long} px long: type its length.")
        self._length_text.setVisible(True)
        self.length.setFocus()

    def _set_by_length(self, value: float | None) -> None:
        if value is None or value <= 0 or self._drawn is None:
            return
        dx, dy = self._drawn
        # Pixels that are not square keep their proportion.
        size, height = self.pixel_size.value, self.pixel_height.value
        ratio = height / size if height and size else 1.0
        side = value / math.hypot(dx, dy * ratio)
        self._drawn = None
        self.pixel_height.set_value(side * ratio if height else None)
        self._set_size(side)

    # -- what is shown

    def refresh(self) -> None:
        """Show what holds for the focused sample."""
        sample, entry = self._compute.store.focused, self._session.focus.entry
        self._length_text.setVisible(self._drawn is not None)
        self.length.setEnabled(self._drawn is not None)
        self.length_button.setChecked(self._session.view.tool == "length")
        if sample is None or entry is None:
            return
        plane = sample.channels[self._compute.store.channel_for(sample)]
        calibration = plane.calibration
        self.pixel_size.set_value(
            None if calibration.pixel_size is None else float(f"{calibration.pixel_size:.8g}")
        )
        if calibration.pixel_size is not None:
            if self.unit.findText(calibration.unit) < 0:
                self.unit.addItem(calibration.unit)
            self.unit.setCurrentText(calibration.unit)
        height = calibration.pixel_height
        self.pixel_height.set_value(None if height is None else float(f"{height:.8g}"))
        known = calibration.pixel_size is not None
        self.set_about(f"{calibration.text}/px" if known else "no pixel size")
        self.saturation.set_value(plane.saturation)
        self.empty.set_value(plane.empty)
        self.reset.setVisible(entry.overrides != MetadataOverrides())
        self._show_proposals()
        if self._proposed_for is not sample and not self.folded:
            self._proposed_for = sample
            self._compute.jobs.run(
                "proposed levels",
                Analysis(sample, Method(), self._compute.cache).proposed_levels,
                self._take,
            )

    def _take(self, proposed: MetadataOverrides) -> None:
        self._proposed = proposed
        self._show_proposals()

    def _show_proposals(self) -> None:
        for button, value, field in (
            (self.propose_saturation, self._proposed.saturation, self.saturation),
            (self.propose_empty, self._proposed.empty, self.empty),
        ):
            button.setVisible(value is not None and value != field.value)
            button.setText(f"Use {value:g}" if value is not None else "")
