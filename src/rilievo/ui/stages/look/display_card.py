"""How a channel is shown: range, stretch, palette, relief, contours. Changes no number."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QCheckBox, QComboBox, QInputDialog, QLabel, QPushButton, QWidget

from rilievo.core.errors import MethodError
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import ValueSource
from rilievo.core.method.method import checked_copy
from rilievo.core.study.study import OwnView
from rilievo.core.view.palettes import PALETTES, ViewStyle
from rilievo.core.view.view_presets import PRESETS, preset_view
from rilievo.core.wording.numbers import parsed, rounded, shown, shown_within, typed
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.drag_gesture import DragGesture
from rilievo.ui.session.named_views import (
    NamedView,
    forget_view,
    keep_view,
    named_views,
)
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, NumberField, choice_box, clear_rows, side_by_side
from rilievo.ui.widgets.flow_layout import FlowLayout

_STRETCHES = (
    ("linear", "Linear"),
    ("root", "Square root"),
    ("log", "Logarithm"),
    ("asinh", "Asinh"),
    ("gamma", "Gamma"),
    ("equal", "Equalised"),
)


class DisplayCard(Card):
    """Rows from the coarse (presets) to the fine (contour levels)."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Display", "changes no number", fold="display")
        self._session, self._compute = session, compute
        self._gesture = DragGesture("display range")
        self.presets: dict[str, QPushButton] = {}
        for key, preset in PRESETS.items():
            button = QPushButton(preset.title)
            button.setToolTip(f"{preset.title}: {preset.explanation}")
            button.setProperty("role", "tight")
            button.clicked.connect(lambda _, key=key: self.use_preset(key))
            self.presets[key] = button
        faint_one, full, bright, background = self.presets.values()
        self.add(side_by_side(faint_one, full, bright, stretch=True))
        self._add_range(background)
        self._add_style()
        self._add_terrain()
        self._add_scope()

    def _add_range(self, background: QPushButton) -> None:
        self.automatic, self.type_range = QPushButton("Automatic"), QPushButton("Type")
        self.automatic.setToolTip("From 0.2 to 99.8 % of the pixels, the same for all samples")
        self.type_range.setToolTip("The whole range of the file's number type")
        for button in (self.automatic, self.type_range):
            button.setProperty("role", "tight")
        self.automatic.clicked.connect(self._set_automatic)
        self.type_range.clicked.connect(self._set_type_range)
        self.add(side_by_side(background, self.automatic, self.type_range, stretch=True))
        self._add_own_views()
        self.whole = self.presets["full"]
        self.low, self.high = NumberField(), NumberField()
        for field, name in ((self.low, "Black at"), (self.high, "White at")):
            field.setAccessibleName(name)
            field.setFixedWidth(scaled(80))
        self.add_row("From", side_by_side(self.low, QLabel("to"), self.high), 0)
        self.low.entered.connect(lambda v: self._type_end(v, None))
        self.high.entered.connect(lambda v: self._type_end(None, v))
        self.low_share, self.high_share = NumberField(unit="%"), NumberField(unit="%")
        shares = QSettings()
        for field, name, key, default in (
            (self.low_share, "Percentile at black", "percentile low", 0.2),
            (self.high_share, "Percentile at white", "percentile high", 99.8),
        ):
            field.setAccessibleName(name)
            field.setFixedWidth(scaled(57))
            field.set_value(parsed(str(shares.value(key, default))) or default)
        self.by_share = QPushButton("Set")
        self.by_share.setProperty("role", "tight")
        self.by_share.setToolTip("Take the range from these percentiles of the focused sample")
        self.by_share.clicked.connect(self._set_by_share)
        for field in (self.low_share, self.high_share):
            field.entered.connect(lambda v, field=field: self._take_share(field, v))
        self.add_row(
            "Percentiles",
            side_by_side(self.low_share, QLabel("to"), self.high_share, self.by_share),
            0,
        )

    def _add_style(self) -> None:
        self.stretch = choice_box("Stretch", _STRETCHES, 116)
        titles = [(key, text) for key, (text, _) in PALETTES.items()]
        self.colours, self.invert = choice_box("Palette", titles, 116), QCheckBox("invert")
        self.strength, self.bands = NumberField(), NumberField()
        for control, name in (
            (self.strength, "Strength of the stretch"),
            (self.bands, "Number of bands"),
        ):
            control.setAccessibleName(name)
        self.strength.setFixedWidth(scaled(64))
        self.bands.setToolTip("Number of flat bands")
        self.add_row("Stretch", side_by_side(self.strength, self.stretch), 0)
        self.add_row("Palette", side_by_side(self.invert, self.colours), 0)
        self._bands_row = self.add_row("Bands", self.bands)
        self.stretch.activated.connect(lambda _: self._style(stretch=self.stretch.currentData()))
        self.colours.activated.connect(lambda _: self._style(palette=self.colours.currentData()))
        self.invert.toggled.connect(lambda on: self._style(invert=on))
        self.strength.entered.connect(self._set_strength)
        self.bands.entered.connect(lambda v: self._number(bands=v and round(v)))

    def _add_terrain(self) -> None:
        self.relief, self.contours = QCheckBox("Relief"), QCheckBox("Contours")
        self.relief.setToolTip("Shade intensity as terrain lit from one side")
        self.contours.setToolTip("Draw lines of equal intensity")
        self.relief_height, self.light, self.smooth = NumberField(), NumberField(), QComboBox()
        self.levels = NumberListField()
        for control, name, width in (
            (self.relief_height, "Height of the relief in %", 48),
            (self.light, "Direction of the light in degrees", 48),
            (self.smooth, "Smooth relief and contours over", 84),
            (self.levels, "Levels of the contours", 168),
        ):
            control.setAccessibleName(name)
            control.setToolTip(name)
            control.setFixedWidth(scaled(width))
        for power in range(8):
            self.smooth.addItem("exact" if not power else f"{2**power} px", power)
        self.add(side_by_side(self.relief, self.contours, stretch=True))
        self._relief_row = self.add_row(
            "Height %, light °", side_by_side(self.relief_height, self.light), 0
        )
        self._smooth_row = self.add_row("Smooth over", self.smooth)
        self._levels_row = self.add_row("Contours at", self.levels)
        self.relief.toggled.connect(lambda on: self._style(relief=15.0 if on else 0.0))
        self.contours.toggled.connect(lambda on: self._style(contours=on))
        self.relief_height.entered.connect(lambda v: self._number(relief=v))
        self.light.entered.connect(lambda v: self._number(light=None if v is None else v % 360))
        self.smooth.activated.connect(lambda _: self._style(smooth=self.smooth.currentData()))
        self.levels.entered.connect(lambda levels: self._style(contour_levels=tuple(levels)))

    def _add_scope(self) -> None:
        self.own = QCheckBox("This sample alone")
        self.own.setToolTip("Show this sample in its own way; the others stay as they are")
        self.to_all = QPushButton("Use for all")
        self.to_all.setToolTip("Show all samples as this one is shown")
        self.own.toggled.connect(self._set_own)
        self.to_all.clicked.connect(self._copy_to_all)
        self.add(side_by_side(self.own, self.to_all, stretch=True))

    # -- what the card, the key and the Ridges do

    @property
    def source(self) -> ValueSource:
        """Which range the stage shows."""
        return "signal" if self._compute.session.shows_signal else "native"

    def begin_drag(self) -> None:
        """Start a drag of the range: one entry of the undo list."""
        self._gesture.begin()

    def drag(self, key: str, value: float) -> None:
        """Follow a marker of the range on the Ridges; its key ends with "low" or "high"."""
        channel = self._session.focus.channel
        if channel is not None:
            low, high = self._compute.ranges.display_range(
                channel, "native", self._session.focus.sample_id
            )
            self.set_range(*((value, high) if key.endswith("low") else (low, value)))

    def set_range(self, low: float, high: float) -> None:
        """Set the display range of the focused channel in the lane that is shown."""
        channel = self._session.focus.channel
        if channel is None or not low < high:
            return
        if self._compute.displayed.aspect is not None:
            self._compute.displayed.set_ends(channel, (low, high))
            return
        state = self._session.state.with_view(
            self._session.focus.sample_id, channel, display=(self.source, (low, high))
        )
        self._session.change("Set display range", state, self._gesture.merge_id)

    # -- views of one's own

    def _add_own_views(self) -> None:
        holder = QWidget()
        self._own_row = FlowLayout(holder)
        self.add(holder)
        self.own_views: dict[str, QPushButton] = {}
        self.keep_button = QPushButton("Keep this view …")
        self.keep_button.setProperty("role", "link")
        self.keep_button.setToolTip("Keep range and style under a name, for all studies")
        self.keep_button.clicked.connect(self._ask_view_name)
        self._fill_own_views()

    def _fill_own_views(self) -> None:
        self._own_row.removeWidget(self.keep_button)
        clear_rows(self._own_row)
        self.own_views = {}
        for view in named_views():
            button = QPushButton(view.name)
            button.setProperty("role", "tight")
            low, high = view.ends
            button.setToolTip(
                f"{shown(low)} to {shown(high)}, {view.style.stretch}, {view.style.palette}; the "
                "right button forgets it"
            )
            button.clicked.connect(lambda _, view=view: self.use_view(view))
            button.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
            forget = QAction(f"Forget “{view.name}”", button)
            forget.triggered.connect(lambda _, name=view.name: self._forget_view(name))
            button.addAction(forget)
            self.own_views[view.name] = button
            self._own_row.addWidget(button)
        self._own_row.addWidget(self.keep_button)

    def _ask_view_name(self) -> None:
        name, good = QInputDialog.getText(self, "Keep this view", "Name")
        if good and name.strip():
            self.keep_view(name.strip())

    def keep_view(self, name: str) -> None:
        """Keep the present range and style of the focused channel under a name."""
        channel, sample_id = self._session.focus.channel, self._session.focus.sample_id
        if channel is None:
            return
        ends = self._compute.ranges.display_range(channel, self.source, sample_id)
        keep_view(NamedView(name, ends, self._compute.ranges.style(channel, sample_id)))
        self._fill_own_views()

    def _forget_view(self, name: str) -> None:
        forget_view(name)
        self._fill_own_views()

    def use_view(self, view: NamedView) -> None:
        """Show the focused channel as a kept view says."""
        channel = self._session.focus.channel
        if channel is not None:
            state = self._session.state.with_view(
                self._session.focus.sample_id,
                channel,
                display=(self.source, view.ends),
                style=view.style,
            )
            self._session.change(f"View: {view.name}", state)

    def use_preset(self, key: str) -> None:
        """Take a ready view."""
        histogram, channel = self._histogram(), self._session.focus.channel
        if histogram is None or channel is None or not histogram.total:
            return
        ends, style = preset_view(key, histogram)
        state = self._session.state.with_view(
            self._session.focus.sample_id, channel, display=(self.source, ends), style=style
        )
        self._session.change(f"View: {PRESETS[key].title.lower()}", state)

    def _histogram(self) -> Histogram | None:
        facts, channel = self._compute.queue.focused, self._session.focus.channel
        if facts is None or channel is None:
            return None
        return (facts.native if self.source == "native" else facts.signal).get(channel)

    def _type_end(self, low: float | None, high: float | None) -> None:
        if self._session.focus.channel is None:
            return
        scale = self._compute.ranges.number_scale()
        now = self._compute.ranges.display_range(
            self._session.focus.channel, self.source, self._session.focus.sample_id
        )
        new = (
            now[0] if low is None else scale.native(low),
            now[1] if high is None else scale.native(high),
        )
        if new[0] < new[1]:
            self.begin_drag()
            self.set_range(*new)
        self.refresh()

    def _take_share(self, field: NumberField, value: float | None) -> None:
        if value is not None and 0 <= value <= 100:
            field.set_value(value)
            key = "percentile low" if field is self.low_share else "percentile high"
            QSettings().setValue(key, value)
        self._set_by_share()

    def _set_by_share(self) -> None:
        histogram = self._histogram()
        low, high = self.low_share.value, self.high_share.value
        if histogram is None or low is None or high is None or not low < high:
            return
        ends = histogram.quantile(low / 100), histogram.quantile(high / 100)
        self.begin_drag()
        self.set_range(ends[0], max(ends[1], ends[0] + 1e-9 * max(abs(ends[0]), 1.0)))

    def _set_automatic(self) -> None:
        channel = self._session.focus.channel
        if channel is not None:
            state = self._session.state.with_view(
                self._session.focus.sample_id, channel, display=(self.source, None)
            )
            self._session.change("Automatic display range", state)

    def _set_type_range(self) -> None:
        sample = self._compute.store.focused
        if sample is None:
            return
        ends = sample.channels[self._compute.store.channel_for(sample)].type_range
        if ends is not None:
            self.begin_drag()
            self.set_range(*ends)

    def _style(self, **fields: Any) -> None:
        """Change how the focused channel is shown."""
        channel = self._session.focus.channel
        if channel is None:
            return
        now = self._compute.ranges.style(channel, self._session.focus.sample_id)
        try:
            style = checked_copy(now, **fields)
        except MethodError:
            self.refresh()
            return
        if style != now:
            state = self._session.state.with_view(
                self._session.focus.sample_id, channel, style=style
            )
            self._session.change("Change view", state)

    def _number(self, **field: float | None) -> None:
        """Take a typed number; an empty field changes nothing."""
        if None not in field.values():
            self._style(**field)

    def _set_strength(self, value: float | None) -> None:
        if value is not None and self._session.focus.channel is not None:
            style = self._compute.ranges.style(
                self._session.focus.channel, self._session.focus.sample_id
            )
            self._style(**{"gamma" if style.stretch == "gamma" else "strength": value})

    def _set_own(self, own: bool) -> None:
        state, sample_id = self._session.state, self._session.focus.sample_id
        if sample_id is None:
            return
        # It starts from what all others show.
        view = OwnView(dict(state.ranges), dict(state.styles)) if own else None
        text = "View of its own" if own else "View as the others"
        self._session.change(text, state.with_own_view(sample_id, view))

    def _copy_to_all(self) -> None:
        state, sample_id = self._session.state, self._session.focus.sample_id
        own = state.own_views.get(sample_id or 0)
        if own is not None:
            state = state.as_shown(own)
            self._session.change("Use this view for all", state)

    # -- what is shown

    def refresh(self) -> None:
        """Show the view of the focused channel."""
        channel, sample_id = self._session.focus.channel, self._session.focus.sample_id
        if channel is None:
            return
        scale = self._compute.ranges.number_scale()
        low, high = self._compute.ranges.display_range(channel, self.source, sample_id)
        shown_low, shown_high = scale.value(low), scale.value(high)
        self.low.set_value(rounded(shown_low, shown_high - shown_low))
        self.high.set_value(rounded(shown_high, shown_high - shown_low))
        sample = self._compute.store.focused
        plane = sample.channels.get(channel) if sample is not None else None
        self.type_range.setEnabled(plane is not None and plane.type_range is not None)
        own = sample_id in self._session.state.own_views
        _tick(self.own, own)
        self.to_all.setVisible(own)
        style = self._compute.ranges.style(channel, sample_id)
        self._show_style(style)
        span = shown_high - shown_low
        ends = f"{shown_within(shown_low, span)} to {shown_within(shown_high, span)}"
        self.set_summary(f"{ends} · {style.stretch} · {style.palette}")

    def _show_style(self, style: ViewStyle) -> None:
        self.stretch.setCurrentIndex(self.stretch.findData(style.stretch))
        self.colours.setCurrentIndex(self.colours.findData(style.palette))
        _tick(self.invert, style.invert)
        self.strength.setVisible(style.stretch in ("log", "asinh", "gamma"))
        gamma = style.stretch == "gamma"
        self.strength.set_value(style.gamma if gamma else style.strength)
        about = "exponent; below 1 lifts what is faint" if gamma else "larger lifts what is faint"
        self.strength.setToolTip(about)
        self._bands_row.setVisible(style.palette == "bands")
        self.bands.set_value(style.bands)
        _tick(self.relief, style.relief > 0)
        _tick(self.contours, style.contours)
        self._relief_row.setVisible(style.relief > 0)
        self._smooth_row.setVisible(style.relief > 0 or style.contours)
        self._levels_row.setVisible(style.contours)
        self.relief_height.set_value(style.relief)
        self.light.set_value(style.light)
        self.smooth.setCurrentIndex(style.smooth)
        self.levels.set_values(style.contour_levels)


class NumberListField(NumberField):
    """Several numbers to type, parted by semicolons or spaces."""

    def __init__(self) -> None:
        super().__init__(may_be_empty="round levels")

    def set_values(self, values: tuple[float, ...]) -> None:
        """Show numbers."""
        if not (self.hasFocus() and self.isModified()):
            self.setText("; ".join(typed(value) for value in values))

    def _take(self) -> None:
        if not self.isModified():
            return
        words = self.text().replace(";", " ").split()
        values = [parsed(word) for word in words]
        if any(value is None for value in values):
            self._mark(True)
            self.setToolTip("Numbers parted by spaces or semicolons, such as 100; 200; 300")
            return
        self.setModified(False)
        self._mark(False)
        self.entered.emit(values)


def _tick(box: QCheckBox, on: bool) -> None:
    """Show a tick without acting on it."""
    box.blockSignals(True)
    box.setChecked(on)
    box.blockSignals(False)
