"""Look: what the sample is, how it is shown, what is wrong with it. One card a module."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel

from rilievo.core.pipeline.checks import Check
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.look.channels_card import ChannelsCard
from rilievo.ui.stages.look.display_card import DisplayCard
from rilievo.ui.stages.look.levels_card import LevelsCard
from rilievo.ui.stages.look.sample_card import SampleCard
from rilievo.ui.stages.look.statistics_card import StatisticsCard
from rilievo.ui.widgets.card import Card, StagePanel, faint

_WORDS = {"note": "Note", "caution": "May change results", "serious": "Changes results"}


class LookPanel(StagePanel):
    """The cards in the order in which a sample is looked at."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__()
        self._session, self._compute = session, compute
        self.sample = SampleCard(session, compute)
        self.display = DisplayCard(session, compute)
        self.channels = ChannelsCard(session, compute)
        self.levels = LevelsCard(session, compute)
        self.statistics = StatisticsCard(session, compute)
        self.checks = _ChecksCard(session, compute)
        for card in (
            self.sample,
            self.display,
            self.channels,
            self.levels,
            self.statistics,
            self.checks,
        ):
            self.add_card(card)
        for signal in (
            session.focus.changed,
            compute.store.loaded,
            compute.store.load_failed,
            compute.queue.changed,
        ):
            signal.connect(self.refresh_soon)
        session.stage_changed.connect(self.refresh_soon)
        compute.checks.changed.connect(self.refresh_soon)
        session.changed.connect(self.refresh_soon)
        session.view.changed.connect(self.refresh_soon)
        self.refresh()

    def refresh(self) -> None:
        """Show the focused sample."""
        self.sample.refresh()
        self.display.setEnabled(self._session.focus.entry is not None)
        self.display.refresh()
        self.channels.refresh()
        self.levels.refresh()
        self.statistics.refresh()
        self.checks.refresh()


class _ChecksCard(Card):
    """What was found about the focused sample, the worst first."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Checks", fold="checks", folded=True)
        self._session, self._compute = session, compute
        self._texts: list[QLabel] = []
        self._nothing = faint("Nothing to note about this sample.")
        self.add(self._nothing)

    def refresh(self) -> None:
        """Show the checks of the focused sample."""
        entry = self._session.focus.entry
        self.setVisible(entry is not None)
        if entry is None:
            return
        error = self._compute.store.errors.get(entry.id)
        checks = sorted(self._compute.checks.of(entry.id), key=_how_bad)
        lines = [("check", f"▲ {error}")] if error else []
        lines += [(_role(check), _line(check)) for check in checks]
        self._nothing.setVisible(not lines)
        count = len(lines)
        self.set_summary(f"▲ {count} to look at" if count else "nothing to note")
        while len(self._texts) < len(lines):
            label = faint()
            self._texts.append(label)
            self.add(label)
        for label, (role, text) in zip(self._texts, lines, strict=False):
            label.setText(text)
            if label.property("role") != role:
                label.setProperty("role", role)
                style = label.style()
                if style is not None:
                    style.polish(label)
        for i, label in enumerate(self._texts):
            label.setVisible(i < len(lines))

    def text(self) -> str:
        """Return what is shown."""
        return "\n\n".join(label.text() for label in self._texts if not label.isHidden())


def _how_bad(check: Check) -> int:
    return ["serious", "caution", "note"].index(check.severity)


def _role(check: Check) -> str:
    return "faint" if check.severity == "note" else "check"


def _line(check: Check) -> str:
    mark = "○" if check.severity == "note" else "▲"
    where = f"{check.channel}: " if check.channel else ""
    return f"{mark} {_WORDS[check.severity]} · {where}{check.text}"
