"""Outline: region classes, how each is found, how steady that is, clean-up, edits by hand."""

from __future__ import annotations

import math

from PyQt6.QtWidgets import QPushButton

from rilievo.core.measure.stars.finding import left_out_counts
from rilievo.core.method.class_definition import clean_use
from rilievo.core.regions import RegionSet
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.wording.numbers import rounded, shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.region_editor import RegionEditor
from rilievo.ui.panels.starters_card import StartersCard
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.outline.class_body import ClassBody
from rilievo.ui.stages.outline.classes_card import ClassesCard
from rilievo.ui.stages.outline.cleanup_card import CleanupCard
from rilievo.ui.stages.outline.colour_body import ColourBody
from rilievo.ui.stages.outline.drawn_body import DrawnBody
from rilievo.ui.stages.outline.gray_classes_body import GrayClassesBody
from rilievo.ui.stages.outline.hand_card import HandCard
from rilievo.ui.stages.outline.level_body import KEEP, LevelBody
from rilievo.ui.stages.outline.other_bodies import DerivedBody, LabelBody
from rilievo.ui.stages.outline.picks_row import PicksRow
from rilievo.ui.stages.outline.stability_card import StabilityCard
from rilievo.ui.stages.outline.star_body import StarBody
from rilievo.ui.theme.roles import Theme
from rilievo.ui.widgets.card import (
    Card,
    Choice,
    StagePanel,
    choice_box,
    faint,
    named_row,
    side_by_side,
)

# Above this many regions the picture is most likely noise.
MANY = 20_000
_THRESHOLDED = (
    ("Threshold", "Threshold", "One level, or a band between two"),
    ("Classes", "Classes", "Two to eight classes of gray values"),
    ("Colour", "Colour", "Ranges over several channels at once"),
    ("Local", "Local", "A level that follows the surroundings"),
)
_OTHER = (
    ("drawn", "Drawn", "Shapes that you draw"),
    ("derived", "Derived", "Made from other classes by a rule"),
    ("label_image", "Labels", "Read from label images"),
    ("stars", "Stars", "Peaks above the sky, with apertures"),
)
_SOURCES = tuple(key for key, _, _ in _OTHER)
_FIRST_WAY = {
    "Threshold": "between_class_variance",
    "Classes": "classes",
    "Colour": "colour",
    "Local": "mean_minus_offset",
}


class OutlinePanel(StagePanel):
    """Cards: classes, how one is found, how steady it is, its clean-up, and edits by hand."""

    def __init__(
        self, session: StudySession, compute: Compute, theme: Theme, editor: RegionEditor
    ) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self.editor = editor
        self.classes = ClassesCard(session, compute)
        self.starters = StartersCard(session, compute)
        self.add_card(self.starters)
        self.add_card(self.classes)
        self.found = Card("Regions", fold="how found")
        self.kind = Choice((*_THRESHOLDED, *_OTHER), per_row=4)
        self.kind.chosen.connect(self.choose_kind)
        self.found.add(self.kind)
        self.channel = choice_box("Found on", (), 119)
        self.keep = choice_box("Keep pixels", KEEP, 119)
        self.keep.activated.connect(
            lambda _: compute.session.change_class(
                "Change what is kept", keep=self.keep.currentData()
            )
        )
        self.channel.activated.connect(
            lambda _: compute.session.change_class(
                "Outline another channel", channel=self.channel.currentText()
            )
        )
        self._channel_row = named_row("Pixels", side_by_side(self.keep, self.channel), 0)
        self.found.add(self._channel_row)
        self.level = LevelBody(session, compute, theme, "Threshold")
        self.local = LevelBody(session, compute, theme, "Local")
        self.gray = GrayClassesBody(session, compute, theme)
        self.colour = ColourBody(session, compute, theme)
        self.drawn = DrawnBody(session, compute, theme, editor)
        self.derived = DerivedBody(session, compute, theme)
        self.labels = LabelBody(session, compute, theme)
        self.stars = StarBody(session, compute, theme)
        self._bodies: dict[str, ClassBody] = {
            "Threshold": self.level,
            "Local": self.local,
            "Classes": self.gray,
            "Colour": self.colour,
            "drawn": self.drawn,
            "derived": self.derived,
            "label_image": self.labels,
            "stars": self.stars,
        }
        for body in self._bodies.values():
            self.found.add(body)
            body.refused.connect(self.tell)
        self.picks = PicksRow(session, editor)
        self.found.add(self.picks)
        self.say = faint()
        self.found.add(self.say)
        self.suggested_fix = QPushButton("")
        self.suggested_fix.setProperty("role", "link")
        self.suggested_fix.clicked.connect(self._take_way_out)
        self.found.add(self.suggested_fix)
        self.add_card(self.found)
        self.steady = StabilityCard(session, compute, theme)
        self.add_card(self.steady)
        self.clean = CleanupCard(session, compute, theme)
        self.clean.refused.connect(self.tell)
        self.add_card(self.clean)
        self.hand = HandCard(session, compute, editor)
        self.add_card(self.hand)
        editor.refused.connect(self.tell)
        self._told = ""
        for signal in (
            session.focus.changed,
            session.focus.regions_changed,
            session.focus.class_changed,
            compute.queue.changed,
            compute.drag.changed,
            session.view.tool_changed,
            editor.changed,
        ):
            signal.connect(self.refresh_soon)
        session.changed.connect(self._on_change)
        self.refresh()

    def _on_change(self, *_: object) -> None:
        self._told = ""
        self.refresh_soon()

    def tell(self, text: str) -> None:
        """Say what is wrong with what was asked for."""
        self._told = text
        self.say.setText(text)

    # -- changes

    def choose_kind(self, kind: str) -> None:
        """Find the class by a kind of threshold, or in another way."""
        use = self._session.focus.outline.threshold
        if kind in _SOURCES:
            self._compute.session.change_class("Find in another way", source=kind)
        elif use.entry.kind == kind:
            self._compute.session.change_class("Find by threshold", source="threshold")
        else:
            self._bodies[kind].choose_way(_FIRST_WAY[kind])

    def _take_way_out(self) -> None:
        """Leave specks out, where noise was found."""
        clean = (*self._session.focus.outline.clean, clean_use("keep", quantity="area", lower=10.0))
        self._compute.session.change_class("Leave specks out", clean=clean)

    # -- what is shown

    @property
    def _shown_kind(self) -> str:
        outline = self._session.focus.outline
        return outline.threshold.entry.kind if outline.source == "threshold" else outline.source

    def refresh(self) -> None:
        """Show the class in focus and what it finds here."""
        outline, kind = self._session.focus.outline, self._shown_kind
        name = outline.region_class
        self.found.set_title(f"{name[:1].upper()}{name[1:]}")
        self.starters.refresh()
        self.classes.refresh()
        self.kind.set_chosen(kind)
        sample = self._compute.store.focused
        names = list(sample.channel_names) if sample else []
        if [self.channel.itemText(i) for i in range(self.channel.count())] != names:
            self.channel.clear()
            self.channel.addItems(names)
        self.channel.setCurrentText(self._compute.store.outline_channel or "")
        self._channel_row.setVisible(kind in ("Threshold", "Local", "Classes", "stars"))
        self.keep.setCurrentIndex(self.keep.findData(outline.keep))
        by_threshold = outline.source == "threshold"
        self.keep.setVisible(by_threshold and outline.threshold.entry.has_side)
        for key, body in self._bodies.items():
            body.setVisible(key == kind)
        self._bodies[kind].refresh()
        self.picks.setVisible(kind in ("Threshold", "Colour"))
        self.picks.refresh()
        self.steady.refresh()
        self.clean.setVisible(outline.source not in ("drawn", "stars"))
        self.clean.refresh()
        self.hand.refresh()
        self._show_count(self._compute.regions.focused)
        self.found.set_summary(self._summary())

    def _summary(self) -> str:
        """How regions are found, in one line."""
        outline, regions = self._session.focus.outline, self._compute.regions.focused
        words = [self._shown_kind.lower().replace("_", " ")]
        if outline.source == "threshold":
            title = outline.threshold.entry.title
            words = [title.removeprefix("Automatic (").removesuffix(")")]
            if outline.threshold.entry.automatic:
                words.append("all samples" if outline.threshold.pooled else "each sample")
            level = self._compute.regions.level(self._session.focus.sample_id)
            if level is not None and math.isfinite(level):
                words.append(shown(level))
        if regions is not None:
            words.append(f"{regions.count} regions")
        return " · ".join(words)

    def _show_count(self, regions: RegionSet | None) -> None:
        facts = self._compute.queue.focused
        self.suggested_fix.hide()
        if self._compute.drag.level is not None:
            self.found.set_about("…")
        elif regions is not None:
            self.found.set_about(
                f"{shown(regions.count)} region{'s' if regions.count != 1 else ''}"
            )
        else:
            self.found.set_about("")
        text = self._told
        if facts is not None and facts.error:
            text = facts.error
        elif regions is not None and not text:
            text = self._said(regions)
        # A line is always kept free, so that nothing jumps when there is something to say.
        self.say.setText(text or " ")

    def _said(self, regions: RegionSet) -> str:
        if regions.count > MANY:
            self.suggested_fix.setText("Leave out regions below 10 px")
            self.suggested_fix.show()
            return (
                f"{shown(regions.count)} regions: most are likely noise. Move the threshold"
                f"{self._where_found()}, smooth the signal, or leave specks out:"
            )
        if self._keeps_all(regions):
            return f"Everything is kept; {self._range_text()}"
        parts = list(regions.notes)
        if regions.count == 0:
            parts.insert(0, self._nothing_found(regions))
        elif regions.dropped:
            stars = self._session.focus.outline.source == "stars"
            why = f": {', '.join(left_out_counts(regions))}" if stars else " by the clean-up"
            parts.append(f"{shown(regions.dropped)} left out{why}; drawn pale.")
        return " ".join(parts)

    def _keeps_all(self, regions: RegionSet) -> bool:
        """Whether the threshold keeps every pixel, or all but a few."""
        if self._session.focus.outline.source != "threshold":
            return False
        facts = self._compute.queue.focused
        known = facts.signal.get(self._compute.store.outline_channel or "") if facts else None
        if known is not None and known.total and not math.isnan(regions.threshold):
            below = known.share_at_or_below(regions.threshold)
            return (below if self._session.focus.outline.keep == "dark" else 1 - below) > 0.999
        return bool(regions.areas.sum() > 0.999 * regions.labels.size)

    def _where_found(self) -> str:
        steady = self.steady.plot.stretch
        if steady is None or not self.steady.isVisibleTo(self):
            return ""
        low, high = (self.level.printed(value) for value in steady)
        return f" (steady from {low} to {high})"

    def _range_text(self) -> str:
        facts = self._compute.queue.focused
        histogram = facts.signal.get(self._compute.store.outline_channel or "") if facts else None
        if histogram is None or not histogram.total:
            return "the signal has no defined pixel."
        span = histogram.highest - histogram.lowest
        ends = (rounded(v, span) for v in (histogram.lowest, histogram.highest))
        low, high = (self.level.printed(value) for value in ends)
        return f"something is found between {low} and {high}; the signal runs from {low} to {high}."

    def _nothing_found(self, regions: RegionSet) -> str:
        outline = self._session.focus.outline
        if regions.dropped and outline.source == "stars":
            why = ", ".join(left_out_counts(regions))
            return f"{shown(regions.dropped)} stars found, all left out: {why}."
        if regions.dropped:
            return (
                f"{shown(regions.dropped)} found, all left out by the clean-up; widen its limits."
            )
        if outline.source != "threshold":
            drawn = outline.source == "drawn"
            return (
                "Nothing is drawn in this sample yet."
                if drawn
                else "No region follows from this here."
            )
        if THRESHOLDS[outline.threshold.way].find is None:
            return f"Nothing is kept; {self._range_text()}"
        if math.isnan(regions.threshold):
            return (
                "The level for all samples is found once all are read."
                if outline.threshold.pooled
                else "All pixels have the same value; no threshold can part them."
            )
        return f"Nothing lies beyond this threshold; {self._range_text()}"
