"""Look: what the sample is, how it is shown, what is wrong with it. One card a module."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel

from rilievo.core.pipeline.checks import Check
from rilievo.ui.model import StudyModel
from rilievo.ui.stages.card import Card, StagePanel, faint
from rilievo.ui.stages.looking.channels import ChannelsCard
from rilievo.ui.stages.looking.display import DisplayCard
from rilievo.ui.stages.looking.levels import LevelsCard
from rilievo.ui.stages.looking.sample import SampleCard
from rilievo.ui.stages.looking.statistics import StatisticsCard
from rilievo.ui.workbench import Workbench

_WORDS = {"note": "Note", "caution": "May change results", "serious": "Changes results"}


class LookPanel(StagePanel):
    """The cards in the order in which a sample is looked at."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self.sample = SampleCard(model, bench)
        self.display = DisplayCard(model, bench)
        self.channels = ChannelsCard(model, bench)
        self.levels = LevelsCard(model, bench)
        self.statistics = StatisticsCard(model, bench)
        self.checks = _ChecksCard(model, bench)
        for card in (
            self.sample,
            self.display,
            self.channels,
            self.levels,
            self.statistics,
            self.checks,
        ):
            self.add_card(card)
        for signal in (model.focus_changed, bench.loaded, bench.load_failed, bench.facts_changed):
            signal.connect(self.refresh_soon)
        model.stage_changed.connect(self.refresh_soon)
        bench.checked.connect(self.refresh_soon)
        model.changed.connect(self.refresh_soon)
        model.viewing.changed.connect(self.refresh_soon)
        self.refresh()

    def refresh(self) -> None:
        """Show the focused sample."""
        self.sample.refresh()
        self.display.setEnabled(self._model.entry is not None)
        self.display.refresh()
        self.channels.refresh()
        self.levels.refresh()
        self.statistics.refresh()
        self.checks.refresh()


class _ChecksCard(Card):
    """What was found about the focused sample, the worst first."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__("Checks")
        self._model, self._bench = model, bench
        self._texts: list[QLabel] = []
        self._nothing = faint("Nothing to note about this sample.")
        self.add(self._nothing)

    def refresh(self) -> None:
        """Show the checks of the focused sample."""
        entry = self._model.entry
        self.setVisible(entry is not None)
        if entry is None:
            return
        error = self._bench.errors.get(entry.id)
        checks = sorted(self._bench.checks_of(entry.id), key=_how_bad)
        lines = [("check", f"▲ {error}")] if error else []
        lines += [(_role(check), _line(check)) for check in checks]
        self._nothing.setVisible(not lines)
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
