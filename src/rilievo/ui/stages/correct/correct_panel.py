"""Correct: the steps of the method as cards; what differs for single samples."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from rilievo.core.errors import FileError, StepError
from rilievo.core.method import step_edits
from rilievo.core.method.describe import reported_numbers, summary_of
from rilievo.core.method.diff import exceptions_in_words
from rilievo.core.method.method import StepUse
from rilievo.core.pipeline.method_suggestions import fitting_steps, small_copy
from rilievo.core.pipeline.thumbnails import Aspect, Thumbnail, thumbnails
from rilievo.core.signal.opening import warm_up
from rilievo.core.signal.steps.beside_objects import background_doubts
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.panels.starters_card import StartersCard
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.correct.step_card import (
    SMALL_HEIGHT,
    SMALL_WIDTH,
    Shown,
    StepCard,
)
from rilievo.ui.stages.correct.step_chooser import StepChooser
from rilievo.ui.stages.correct.step_editor import StepEditor
from rilievo.ui.stages.correct.step_marks import StepMarks
from rilievo.ui.stages.correct.thumbnail_row import HEIGHT, WIDTH
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import Card, StagePanel, clear_rows, faint
from rilievo.ui.widgets.parameter_fields import Known


class CorrectPanel(StagePanel):
    """One card a step, in order; an open card shows its settings."""

    def __init__(self, session: StudySession, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self._session, self._compute, self._theme = session, compute, theme
        self.editor = StepEditor(session, compute, self)
        self.editor.refused.connect(self._refuse)
        self.marks = StepMarks(session, self.editor, self)
        self.marks.taken.connect(self.set_parameter)
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
        self.starters = StartersCard(session, compute)
        self.add_card(self.starters)
        self._list = QWidget()
        self._rows = QVBoxLayout(self._list)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(0)
        self.add_card(self._list)
        self._drop_line = QFrame(self._list)
        self._drop_line.setObjectName("dropLine")
        self._drop_line.setFixedHeight(3)
        self._drop_line.hide()
        self.apart_card = Card("Differs in single samples", "")
        self.apart_rows = QVBoxLayout()
        holder = QWidget()
        holder.setLayout(self.apart_rows)
        self.apart_rows.setContentsMargins(0, 0, 0, 0)
        self.apart_card.add(holder)
        self.add_card(self.apart_card)
        self.chooser = StepChooser(self)
        self.chooser.chosen.connect(self.add_step)
        for signal in (session.focus.changed, compute.queue.changed, session.view.changed):
            signal.connect(self.refresh_soon)
        session.changed.connect(self.refresh_soon)
        self.refresh()

    # -- the method

    def choose_step(self) -> None:
        """Open the list of steps."""
        sample = self._compute.store.focused
        self.chooser.show_fitting([])
        self.chooser.open_below(self.add_button)
        if sample is not None:
            self._compute.jobs.run(
                "fitting steps",
                lambda: fitting_steps(small_copy(sample)),
                self.chooser.show_fitting,
                lambda _: None,
            )

    def add_step(self, key: str) -> str:
        """Add a step at the end and open its card; return its id."""
        self.marks.drawing = False
        return self.editor.add(key)

    def set_parameter(self, step_id: str, name: str, value: Any) -> None:
        """Change a parameter, for all samples or for the focused one as the card says."""
        card, entry = self.cards[step_id], self._session.focus.entry
        sample = entry.name if card.only_here and entry is not None else None
        self.editor.set_parameter(step_id, name, value, sample)

    def _refuse(self, step_id: str, name: str, sentence: str) -> None:
        self.cards[step_id].refuse(name, sentence)

    def open_card(self, step_id: str) -> None:
        """Open a card, or close it when it is open."""
        editor = self.editor
        editor.active = None if editor.active == step_id else step_id
        self.marks.drawing = False
        aspect = self._session.view.aspect
        if aspect is not None and aspect[0] != editor.active:
            self._session.view.choose(aspect=None)
        self.refresh()
        # What can be drawn depends on the open card.
        self._session.view.changed.emit()

    # -- showing

    def showEvent(self, event: QShowEvent | None) -> None:
        if not self._warmed:
            self._warmed = True
            self._compute.jobs.run("warm up loops", warm_up, lambda _: None)
        super().showEvent(event)

    def refresh(self) -> None:
        """Show the steps of the method and what they do here."""
        uses, before = self.editor.method.steps, self.editor.active
        kinds = [(use.id, use.step) for use in uses]
        if kinds != [(card.step_id, card.key) for card in self.cards.values()]:
            self._renew_cards()
        self._empty.setVisible(not uses)
        self.starters.refresh()
        count = sum(use.on for use in uses)
        self._head.set_about(f"{count} of {len(uses)} applied" if uses else "in the order applied")
        if self.editor.active not in self.cards:
            self.editor.active = None
        failing = self._failing()
        aspect = self._session.view.aspect
        for use in uses:
            card = self.cards[use.id]
            if card.is_open != (use.id == self.editor.active):
                card.set_open(use.id == self.editor.active)
            seen = aspect[1] if aspect is not None and aspect[0] == use.id else None
            card.show_step(use, self._shown(use, failing), seen)
        self._show_apart()
        self._show_thumbnails_soon()
        if self.editor.active != before:
            # What is drawn on the picture is that of the open card.
            self._session.view.changed.emit()

    def _renew_cards(self) -> None:
        old = self.cards
        if not old and self.editor.active is None and self.editor.method.steps:
            # Where nothing was chosen yet, the last step is what one comes to see.
            self.editor.active = self.editor.method.steps[-1].id
        self.cards = {}
        while self._rows.count():
            self._rows.takeAt(0)
        for use in self.editor.method.steps:
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
            lambda step_id, on: self.editor.set_use(step_id, "on" if on else "off", on=on)
        )
        card.renamed.connect(
            lambda step_id, name: self.editor.set_use(step_id, "rename", name=name)
        )
        card.channels_chosen.connect(
            lambda step_id, names: self.editor.set_use(step_id, "channels", channels=names)
        )
        card.changed.connect(self.set_parameter)
        card.wanted.connect(self.editor.change)
        card.aspect_wanted.connect(self.editor.look_at)
        card.draw_wanted.connect(self.marks.start_drawing)
        card.own_wanted.connect(self.editor.use_common_here)
        card.dragged.connect(self._on_dragged)
        card.dropped.connect(self._on_dropped)
        return card

    def _failing(self) -> tuple[str, str] | None:
        """The step that cannot be applied here, and why."""
        facts, channel = self._compute.queue.focused, self._session.focus.channel
        if facts is None or facts.error is None or facts.signal or channel is None:
            return None
        for use in self.editor.method.steps:
            if use.applies_to(channel) and channel not in facts.reports.get(use.id, {}):
                return use.id, facts.error
        return None

    def _shown(self, use: StepUse, failing: tuple[str, str] | None) -> Shown:
        entry, channel = self._session.focus.entry, self._session.focus.channel
        name = entry.name if entry is not None else None
        others = step_edits.samples_apart(self.editor.method, use.id)
        sample = self._compute.store.focused
        facts = self._compute.queue.focused
        numbers = facts.reports.get(use.id, {}).get(channel or "", {}) if facts else {}
        said = reported_numbers(numbers, partial(shown, digits=4))
        if not use.on:
            said = ["switched off"]
        elif channel is not None and not use.applies_to(channel):
            said = [f"not applied to {channel}"]
        summary = " · ".join(said[:3]) if said else summary_of(use)
        return Shown(
            sample=name or "",
            parameters=step_edits.parameters_for(self.editor.method, use.id, name),
            apart=others.get(name or "", {}),
            elsewhere=len(others),
            summary=summary,
            report=f"{channel}: {', '.join(said)}." if said and use.on else "",
            doubt=" ".join(background_doubts(numbers)) if use.on else "",
            error=failing[1] if failing is not None and failing[0] == use.id else "",
            known=Known(
                sample.channel_names if sample is not None else (),
                [(e.name, e.path) for e in self._session.state.samples],
                self.editor.method.class_names,
                numbers=numbers,
            ),
        )

    def _show_apart(self) -> None:
        """List what differs for single samples."""
        wanted = exceptions_in_words(self.editor.method)
        self.apart_card.setVisible(bool(wanted))
        if wanted == self._apart_shown:
            return
        self._apart_shown = wanted
        clear_rows(self.apart_rows)
        for sample, step_id, words in wanted:
            text = faint(f"{sample} · {words}")
            clear = QPushButton("Clear")
            clear.setProperty("role", "link")
            clear.setToolTip(f"Use the common setting in {sample}")
            clear.clicked.connect(partial(self.editor.use_common, sample, step_id))
            line = QWidget()
            layout = QHBoxLayout(line)
            layout.setContentsMargins(0, 0, 0, 0)
            layout.addWidget(text, 1)
            layout.addWidget(clear)
            self.apart_rows.addWidget(line)

    def _show_thumbnails_soon(self) -> None:
        """Paint the small pictures of the cards, in a thread; the open card has all of its own."""
        sample, entry = self._compute.store.focused, self._session.focus.entry
        if sample is None or entry is None or not self.isVisible():
            return
        channel = self._compute.store.channel_for(sample)
        ratio = self.devicePixelRatioF()
        sizes = {
            use.id: (WIDTH, HEIGHT) if use.id == self.editor.active else (SMALL_WIDTH, SMALL_HEIGHT)
            for use in self.editor.method.steps
            if use.applies_to(channel)
        }
        analysis = self._compute.store.analysis(entry.id, self.editor.method)
        looks = self._theme.looks()

        def work() -> dict[str, dict[Aspect, Thumbnail]]:
            found = {}
            for step_id, (width, height) in sizes.items():
                size = round(width * ratio), round(height * ratio)
                try:
                    found[step_id] = thumbnails(analysis, channel, step_id, size, looks)
                except (StepError, FileError):
                    # The card says why; the steps after it cannot be shown either.
                    break
            return found

        def done(found: dict[str, dict[Aspect, Thumbnail]]) -> None:
            for step_id, card in self.cards.items():
                pictures = found.get(step_id, {})
                if card.is_open:
                    card.thumbnails.show_thumbnails(pictures)
                else:
                    card.show_small(pictures.get("background", pictures.get("after")))
                for aspect, thumbnail in pictures.items():
                    self._compute.displayed.note_ends(channel, (step_id, aspect), thumbnail.ends)

        for card in self.cards.values():
            if card.is_open:
                card.thumbnails.wait_for()
        self._compute.jobs.run("thumbnails", work, done, lambda _: None)

    # -- dragging cards

    def _index_at(self, at: QPoint, moved: str) -> int:
        """Among how many of the other cards a point of the screen lies below."""
        y = self._list.mapFromGlobal(at).y()
        others = [card for key, card in self.cards.items() if key != moved]
        return sum(y > card.geometry().center().y() for card in others)

    def _on_dragged(self, step_id: str, at: QPoint) -> None:
        self.setCursor(Qt.CursorShape.ClosedHandCursor)
        index = self._index_at(at, step_id)
        others = [card for key, card in self.cards.items() if key != step_id]
        below = others[index - 1].geometry().bottom() - 1 if index else 0
        self._drop_line.setGeometry(8, below, self._list.width() - 16, 3)
        self._drop_line.raise_()
        self._drop_line.show()

    def _on_dropped(self, step_id: str, at: QPoint) -> None:
        self.unsetCursor()
        if self._drop_line.isHidden():
            return
        self._drop_line.hide()
        self.editor.move(step_id, self._index_at(at, step_id))
