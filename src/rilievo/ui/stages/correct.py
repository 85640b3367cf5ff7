"""Correct: the steps of the method as cards; what differs for single samples."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

from PyQt6.QtCore import QPoint, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from rilievo.core.errors import FileError, MethodError, StepError
from rilievo.core.method import step_edits
from rilievo.core.method.describe import summary_of, told
from rilievo.core.method.diff import exceptions_in_words
from rilievo.core.method.method import Method, StepUse
from rilievo.core.parameters import Rectangle
from rilievo.core.pipeline.thumbnails import Aspect, Glimpse, glimpses
from rilievo.core.signal.opening import warm_up
from rilievo.core.signal.steps import STEPS
from rilievo.core.signal.steps.background_patch import PatchBackground
from rilievo.core.signal.steps.curve_calibrate import Calibrate
from rilievo.core.signal.steps.geometry import Crop
from rilievo.ui.model import StudyModel
from rilievo.ui.numbers import shown
from rilievo.ui.stages.card import Card, StagePanel, clear_rows, faint
from rilievo.ui.stages.correcting.chooser import StepChooser
from rilievo.ui.stages.correcting.fields import Known
from rilievo.ui.stages.correcting.glimpse_row import HEIGHT, WIDTH
from rilievo.ui.stages.correcting.step_card import (
    SMALL_HEIGHT,
    SMALL_WIDTH,
    Shown,
    StepCard,
)
from rilievo.ui.theme.roles import Theme
from rilievo.ui.workbench import Workbench

LEVEL_KEY = "background.level"
# A setting that has not changed for this long is at rest: later changes are undone apart.
_REST_MS = 900


class CorrectPanel(StagePanel):
    """One card a step, in order; an open card shows its settings."""

    points_wanted = pyqtSignal(str)  # a step whose points are to be taken from picks

    def __init__(self, model: StudyModel, bench: Workbench, theme: Theme) -> None:
        super().__init__()
        self._model, self._bench, self._theme = model, bench, theme
        self._drag = 20_000
        self._last_edit: tuple[str, str] = ("", "")
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST_MS)
        self._rest.timeout.connect(self._end_edit)
        self.active: str | None = None
        self.drawing = False
        self._warmed = False
        self.cards: dict[str, StepCard] = {}
        self._apart_shown: list[tuple[str, str, str]] = []
        self._head = Card("Steps", "")
        self.add_button = QPushButton("Add a step …")
        self.add_button.setProperty("role", "main")
        self.add_button.setToolTip("Search the list of all steps (A)")
        self.add_button.clicked.connect(self.choose_step)
        self.library_button = QPushButton("Methods …")
        self.library_button.setToolTip("Take a method from the library, keep this one, compare")
        row = QWidget()
        buttons = QHBoxLayout(row)
        buttons.setContentsMargins(0, 0, 0, 0)
        buttons.addWidget(self.add_button)
        buttons.addWidget(self.library_button)
        buttons.addStretch(1)
        self._head.add(row)
        self._empty = faint(
            "Nothing is corrected yet: the signal is what stands in the files. Add a background, "
            "a dark frame, a smoothing … Files are never changed."
        )
        self._head.add(self._empty)
        self.add_card(self._head)
        self._list = QWidget()
        self._rows = QVBoxLayout(self._list)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(0)
        self.add_card(self._list)
        self._drop_line = QFrame(self._list)
        self._drop_line.setObjectName("dropLine")
        self._drop_line.setFixedHeight(3)
        self._drop_line.hide()
        self._apart = Card("Differs in single samples", "")
        self._apart_rows = QVBoxLayout()
        holder = QWidget()
        holder.setLayout(self._apart_rows)
        self._apart_rows.setContentsMargins(0, 0, 0, 0)
        self._apart.add(holder)
        self.add_card(self._apart)
        self.chooser = StepChooser(self)
        self.chooser.chosen.connect(self.add_step)
        for signal in (model.focus_changed, bench.facts_changed, model.viewing.changed):
            signal.connect(self.refresh_soon)
        model.changed.connect(self.refresh_soon)
        self.refresh()

    # -- the method

    @property
    def method(self) -> Method:
        """The method of the study."""
        return self._model.state.method

    def choose_step(self) -> None:
        """Open the list of steps."""
        self.chooser.open_below(self.add_button)

    def add_step(self, key: str) -> str:
        """Add a step at the end and open its card; return its id."""
        fields: dict[str, Any] = {}
        channel = self._model.channel
        if key == LEVEL_KEY:
            fields = {"level": self._first_level(channel)}
        method, step_id = step_edits.added(self.method, key, **fields)
        if key == LEVEL_KEY and channel is not None:
            method = step_edits.with_use(method, step_id, channels=(channel,))
        self.active, self.drawing = step_id, False
        self._change(f"Add {STEPS[key].title.lower()}", method)
        self._model.viewing.choose(aspect=None)
        return step_id

    def _first_level(self, channel: str | None) -> float:
        """The median of the focused sample's signal."""
        facts = self._bench.focused_facts
        now = self._bench.current(self._model.sample_id or 0)
        histogram = now.signal.get(channel or "") if now is not None else None
        if histogram is None and facts is not None:
            histogram = facts.native.get(channel or "")
        level = histogram.quantile(0.5) if histogram is not None else math.nan
        return round(level, 2) if math.isfinite(level) else 0.0

    def _change(self, text: str, method: Method, merge: int = -1) -> None:
        self._model.change_method(text, method, merge)
        self.refresh_soon()

    def _end_edit(self) -> None:
        self._last_edit = ("", "")

    def begin_drag(self) -> None:
        """Start a drag: all its changes become one entry of the undo list."""
        self._drag += 1

    def set_parameter(self, step_id: str, name: str, value: Any) -> None:
        """Change a parameter, for all samples or for the focused one as the card says."""
        card, entry = self.cards[step_id], self._model.entry
        sample = entry.name if card.only_here and entry is not None else None
        try:
            method = step_edits.with_parameters(self.method, step_id, sample, **{name: value})
        except MethodError as exc:
            card.refuse(name, str(exc))
            return
        # Steps of an arrow key in quick succession are undone together.
        if self._last_edit != (step_id, name):
            self.begin_drag()
        self._last_edit = (step_id, name)
        self._rest.start()
        use = step_edits.use_of(self.method, step_id)
        title = type(use.parameters).model_fields[name].title or name
        where = f" of {sample}" if sample else ""
        self._change(f"{use.title}: {title.lower()}{where}", method, self._drag)

    def _set_use(self, step_id: str, text: str, **fields: Any) -> None:
        use = step_edits.use_of(self.method, step_id)
        try:
            method = step_edits.with_use(self.method, step_id, **fields)
        except MethodError as exc:
            self.cards[step_id].refuse("", str(exc))
            return
        self._change(f"{use.title}: {text}", method)

    def do(self, step_id: str, word: str) -> None:
        """Do what the menu of a card says."""
        use = step_edits.use_of(self.method, step_id)
        place = self.method.steps.index(use)
        if word == "duplicate":
            method, self.active = step_edits.duplicated(self.method, step_id)
            self._change(f"Duplicate {use.title.lower()}", method)
        elif word == "reset":
            self._change(f"Reset {use.title.lower()}", step_edits.reset(self.method, step_id))
        elif word == "remove":
            self._forget_aspect(step_id)
            self._change(f"Remove {use.title.lower()}", self.method.without_step(step_id))
        else:
            self.move_step(step_id, place + (-1 if word == "up" else 1))

    def move_step(self, step_id: str, to: int) -> None:
        """Move a step to a place among the others."""
        method = step_edits.moved(self.method, step_id, to)
        if method != self.method:
            use = step_edits.use_of(method, step_id)
            self._change(f"Move {use.title.lower()}", method)

    def use_common(self, sample: str, step_id: str) -> None:
        """Use the common settings of a step in a sample."""
        use = step_edits.use_of(self.method, step_id)
        method = step_edits.without_exception(self.method, sample, step_id)
        self._change(f"{use.title}: common setting in {sample}", method)

    def _use_common_here(self, step_id: str) -> None:
        if self._model.entry is not None:
            self.use_common(self._model.entry.name, step_id)

    # -- what is looked at

    def look_at(self, step_id: str, aspect: Aspect | None) -> None:
        """Show the picture before or after a step, or its background."""
        self._model.viewing.choose(aspect=None if aspect is None else (step_id, aspect))

    def _forget_aspect(self, step_id: str) -> None:
        shown_now = self._model.viewing.aspect
        if shown_now is not None and shown_now[0] == step_id:
            self._model.viewing.choose(aspect=None)

    def open_card(self, step_id: str) -> None:
        """Open a card, or close it when it is open."""
        self.active = None if self.active == step_id else step_id
        self.drawing = False
        aspect = self._model.viewing.aspect
        if aspect is not None and aspect[0] != self.active:
            self._model.viewing.choose(aspect=None)
        self.refresh()
        # What can be drawn depends on the open card.
        self._model.viewing.changed.emit()

    # -- rectangles on the picture

    @property
    def active_use(self) -> StepUse | None:
        """The step whose card is open."""
        return next((use for use in self.method.steps if use.id == self.active), None)

    @property
    def patches(self) -> tuple[Rectangle, ...]:
        """The rectangles of the open card that count for the focused sample."""
        use, entry = self.active_use, self._model.entry
        if use is None or entry is None:
            return ()
        parameters = step_edits.parameters_for(self.method, use.id, entry.name)
        if isinstance(parameters, PatchBackground):
            return parameters.patches
        if isinstance(parameters, Crop) and self.drawing and parameters.rectangle is not None:
            return (parameters.rectangle,)
        return ()

    @property
    def rectangle_label(self) -> str:
        """What the rectangles of the open card are."""
        use = self.active_use
        return "crop" if use is not None and isinstance(use.parameters, Crop) else "patch"

    @property
    def is_drawable(self) -> bool:
        """Whether dragging over the picture draws a rectangle for the open card."""
        parameters = None if self.active_use is None else self.active_use.parameters
        moved = step_edits.moves_pixels(self.method)
        at_once = isinstance(parameters, PatchBackground) and not moved
        return at_once or (self.drawing and isinstance(parameters, PatchBackground | Crop))

    def start_drawing(self, step_id: str) -> None:
        """Show the picture as it enters a step, to draw on it."""
        use = step_edits.use_of(self.method, step_id)
        if isinstance(use.parameters, Calibrate):
            self.points_wanted.emit(step_id)
            return
        self.drawing = True
        if isinstance(use.parameters, Crop) or step_edits.moves_pixels(self.method):
            self.look_at(step_id, "before")
        self._model.viewing.changed.emit()

    def take_rectangle(self, rectangle: Rectangle, place: int) -> None:
        """Take a rectangle that was drawn.

        place : which one was moved; −1 draws anew, −2 adds one.
        """
        use = self.active_use
        if use is None:
            return
        self.begin_drag()
        self._end_edit()
        if isinstance(use.parameters, Crop):
            self.drawing = False
            self.set_parameter(use.id, "rectangle", rectangle)
            self._forget_aspect(use.id)
            return
        patches = list(self.patches)
        if place >= 0:
            patches[place] = rectangle
        elif place == -2:
            patches.append(rectangle)
        else:
            patches = [rectangle]
        self.set_parameter(use.id, "patches", tuple(patches))

    # -- the level in the Ridges

    def set_level(self, step_id: str, level: float) -> None:
        """Set the level of a typed background, while its marker is dragged."""
        method = step_edits.with_parameters(self.method, step_id, level=level)
        self._model.change_method("Set background level", method, self._drag)

    # -- showing

    def showEvent(self, event: QShowEvent | None) -> None:
        if not self._warmed:
            self._warmed = True
            self._bench.jobs.run("warm up loops", warm_up, lambda _: None)
        super().showEvent(event)

    def refresh(self) -> None:
        """Show the steps of the method and what they do here."""
        uses = self.method.steps
        kinds = [(use.id, use.step) for use in uses]
        if kinds != [(card.step_id, card.key) for card in self.cards.values()]:
            self._renew_cards()
        self._empty.setVisible(not uses)
        count = sum(use.on for use in uses)
        self._head.set_about(f"{count} of {len(uses)} applied" if uses else "in the order applied")
        if self.active not in self.cards:
            self.active = None
        failing = self._failing()
        aspect = self._model.viewing.aspect
        for use in uses:
            card = self.cards[use.id]
            if card.is_open != (use.id == self.active):
                card.set_open(use.id == self.active)
            seen = aspect[1] if aspect is not None and aspect[0] == use.id else None
            card.show_step(use, self._shown(use, failing), seen)
        self._show_apart()
        self._glimpse_soon()

    def _renew_cards(self) -> None:
        old = self.cards
        if not old and self.active is None and self.method.steps:
            # Where nothing was chosen yet, the last step is what one comes to see.
            self.active = self.method.steps[-1].id
        self.cards = {}
        while self._rows.count():
            self._rows.takeAt(0)
        for use in self.method.steps:
            card = old.pop(use.id, None)
            if card is None or card.key != use.step:
                card = self._new_card(use)
            self.cards[use.id] = card
            self._rows.addWidget(card)
            card.show()
        for gone in old.values():
            gone.hide()
            gone.deleteLater()

    def _new_card(self, use: StepUse) -> StepCard:
        card = StepCard(use)
        card.set_open(False)
        card.opened.connect(self.open_card)
        card.switched.connect(
            lambda step_id, on: self._set_use(step_id, "on" if on else "off", on=on)
        )
        card.renamed.connect(lambda step_id, name: self._set_use(step_id, "rename", name=name))
        card.channels_chosen.connect(
            lambda step_id, names: self._set_use(step_id, "channels", channels=names)
        )
        card.changed.connect(self.set_parameter)
        card.wanted.connect(self.do)
        card.aspect_wanted.connect(self.look_at)
        card.draw_wanted.connect(self.start_drawing)
        card.own_wanted.connect(self._use_common_here)
        card.dragged.connect(self._on_dragged)
        card.dropped.connect(self._on_dropped)
        return card

    def _failing(self) -> tuple[str, str] | None:
        """The step that cannot be applied here, and why."""
        facts, channel = self._bench.focused_facts, self._model.channel
        if facts is None or facts.error is None or facts.signal or channel is None:
            return None
        for use in self.method.steps:
            if use.applies_to(channel) and channel not in facts.reports.get(use.id, {}):
                return use.id, facts.error
        return None

    def _shown(self, use: StepUse, failing: tuple[str, str] | None) -> Shown:
        entry, channel = self._model.entry, self._model.channel
        name = entry.name if entry is not None else None
        others = step_edits.samples_apart(self.method, use.id)
        sample = self._bench.focused_sample
        facts = self._bench.focused_facts
        numbers = facts.reports.get(use.id, {}).get(channel or "", {}) if facts else {}
        said = told(numbers, partial(shown, digits=4))
        if not use.on:
            said = ["switched off"]
        elif channel is not None and not use.applies_to(channel):
            said = [f"not applied to {channel}"]
        summary = " · ".join(said[:3]) if said else summary_of(use)
        return Shown(
            sample=name or "",
            parameters=step_edits.parameters_for(self.method, use.id, name),
            apart=others.get(name or "", {}),
            elsewhere=len(others),
            summary=summary,
            told=f"{channel}: {', '.join(said)}" if said and use.on else "",
            error=failing[1] if failing is not None and failing[0] == use.id else "",
            known=Known(
                sample.channel_names if sample is not None else (),
                [(e.name, e.path) for e in self._model.state.samples],
                self.method.class_names,
            ),
        )

    def _show_apart(self) -> None:
        """List what differs for single samples."""
        wanted = exceptions_in_words(self.method)
        self._apart.setVisible(bool(wanted))
        if wanted == self._apart_shown:
            return
        self._apart_shown = wanted
        clear_rows(self._apart_rows)
        for sample, step_id, words in wanted:
            text = faint(f"{sample} · {words}")
            clear = QPushButton("Clear")
            clear.setProperty("role", "link")
            clear.setToolTip(f"Use the common setting in {sample}")
            clear.clicked.connect(partial(self.use_common, sample, step_id))
            line = QWidget()
            layout = QHBoxLayout(line)
            layout.setContentsMargins(0, 0, 0, 0)
            layout.addWidget(text, 1)
            layout.addWidget(clear)
            self._apart_rows.addWidget(line)

    def _glimpse_soon(self) -> None:
        """Paint the small pictures of the cards, in a thread; the open card has all of its own."""
        sample, entry = self._bench.focused_sample, self._model.entry
        if sample is None or entry is None or not self.isVisible():
            return
        channel = self._bench.channel_for(sample)
        ratio = self.devicePixelRatioF()
        sizes = {
            use.id: (WIDTH, HEIGHT) if use.id == self.active else (SMALL_WIDTH, SMALL_HEIGHT)
            for use in self.method.steps
            if use.applies_to(channel)
        }
        named, method = sample.renamed(entry.name), self.method
        looks, evaluator = self._theme.looks(), self._bench.evaluator

        def work() -> dict[str, dict[Aspect, Glimpse]]:
            found = {}
            for step_id, (width, height) in sizes.items():
                size = round(width * ratio), round(height * ratio)
                try:
                    found[step_id] = glimpses(
                        evaluator, named, channel, method, step_id, size, looks
                    )
                except (StepError, FileError):
                    # The card says why; the steps after it cannot be shown either.
                    break
            return found

        def done(found: dict[str, dict[Aspect, Glimpse]]) -> None:
            for step_id, card in self.cards.items():
                pictures = found.get(step_id, {})
                if card.is_open:
                    card.glimpses.show_glimpses(pictures)
                else:
                    card.show_small(pictures.get("background", pictures.get("after")))
                for aspect, glimpse in pictures.items():
                    self._bench.seen.note_ends(channel, (step_id, aspect), glimpse.ends)

        self._bench.jobs.run("glimpses", work, done, lambda _: None)

    # -- dragging cards

    def _place_at(self, at: QPoint, moved: str) -> int:
        """Among how many of the other cards a point of the screen lies below."""
        y = self._list.mapFromGlobal(at).y()
        others = [card for key, card in self.cards.items() if key != moved]
        return sum(y > card.geometry().center().y() for card in others)

    def _on_dragged(self, step_id: str, at: QPoint) -> None:
        self.setCursor(Qt.CursorShape.ClosedHandCursor)
        place = self._place_at(at, step_id)
        others = [card for key, card in self.cards.items() if key != step_id]
        below = others[place - 1].geometry().bottom() - 1 if place else 0
        self._drop_line.setGeometry(8, below, self._list.width() - 16, 3)
        self._drop_line.raise_()
        self._drop_line.show()

    def _on_dropped(self, step_id: str, at: QPoint) -> None:
        self.unsetCursor()
        if self._drop_line.isHidden():
            return
        self._drop_line.hide()
        self.move_step(step_id, self._place_at(at, step_id))
