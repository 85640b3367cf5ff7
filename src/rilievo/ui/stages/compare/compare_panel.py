"""Compare: what is compared, how it is shown and tested, and where it goes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QPushButton

from rilievo.core.compare import (
    Comparison,
    Normalising,
    Question,
    choices_of,
    compare_all,
)
from rilievo.core.compare.choices import Choices, fitting_question
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.plots.panel import NO_PLOT_INPUTS, PlotInputs
from rilievo.core.errors import MethodError
from rilievo.core.method.method import checked_copy
from rilievo.core.wording.lists import counted
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.compute.plot_inputs import plot_inputs_for
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.compare.design_card import DesignCard
from rilievo.ui.stages.compare.normalise_card import NormaliseCard
from rilievo.ui.stages.compare.shown_card import ShownCard
from rilievo.ui.stages.compare.tests_card import TestsCard
from rilievo.ui.stages.compare.what_card import WhatCard
from rilievo.ui.widgets.card import Card, StagePanel, faint, side_by_side

_BLINDED = (
    "The study is blinded: its groups are hidden. Unblind it under Sample, once regions and "
    "thresholds are settled."
)
Comparisons = tuple[Comparison, ...]


class ComparePanel(StagePanel):
    """Cards of the comparison; what they say is kept in the study."""

    compared = pyqtSignal(object, object, str)  # comparisons, inputs, why there is none
    save_wanted = pyqtSignal()
    copy_wanted = pyqtSignal()
    report_wanted = pyqtSignal()

    def __init__(self, session: StudySession, compute: Compute, jobs: Jobs) -> None:
        super().__init__()
        self._session, self._compute, self._jobs = session, compute, jobs
        self.comparisons: Comparisons = ()
        self.inputs = NO_PLOT_INPUTS
        self._choices = Choices()
        # Measured values instead of normalised ones, for a look.
        self.as_measured = False
        self.what, self.shown = WhatCard(), ShownCard()
        self.tests, self.design = TestsCard(), DesignCard()
        self.normalise = NormaliseCard()
        for card in (self.what, self.shown, self.tests, self.design, self.normalise):
            card.wanted.connect(self.change)
            self.add_card(card)
        self._out = Card("Plot, table, report", fold="compare out", folded=True)
        self._out.set_summary("save, copy, put into the report")
        self.save = QPushButton("Save plot …")
        self.save.setToolTip("As PNG, SVG or PDF")
        self.save.clicked.connect(self.save_wanted)
        self.copy = QPushButton("Copy table")
        self.copy.clicked.connect(self.copy_wanted)
        self._out.add(side_by_side(self.save, self.copy, stretch=True))
        self.keep = QPushButton("Put into the report")
        self.keep.setToolTip("This comparison, as it is shown")
        self.keep.clicked.connect(self.put_into_report)
        self.report = QPushButton("Report …")
        self.report.setToolTip("Choose what goes into the report, and save it")
        self.report.clicked.connect(self.report_wanted)
        self._out.add(side_by_side(self.keep, self.report, stretch=True))
        self.in_report = faint()
        self._out.add(self.in_report)
        self.add_card(self._out)
        session.measurements.changed.connect(self.refresh)
        session.changed.connect(lambda old, new: self._on_change(old != new))
        session.stage_changed.connect(lambda stage: self.refresh() if stage == "compare" else None)
        compute.queue.changed.connect(lambda _: self._on_facts())

    @property
    def comparison(self) -> Comparison | None:
        """The first quantity that is compared."""
        return self.comparisons[0] if self.comparisons else None

    @property
    def question(self) -> Question:
        """What is compared, with what is not there replaced by what is."""
        state = self._session.state
        return fitting_question(state.question, self._choices, state.method)

    def _on_change(self, changed: bool) -> None:
        if changed and self._session.stage == "compare":
            self.refresh()

    def _on_facts(self) -> None:
        kind = self._session.state.question.shown_as
        if self._session.stage == "compare" and PLOTS[kind].inputs:
            self.refresh_soon()

    def change(self, text: str, fields: Mapping[str, Any]) -> None:
        """Ask something else; kept in the study, and undone like all else."""
        self.as_measured = False
        try:
            question = checked_copy(self.question, **fields)
        except MethodError as exc:
            self._show((), NO_PLOT_INPUTS, str(exc))
            return
        self._session.change(text, replace(self._session.state, question=question))

    def toggle_measured(self) -> None:
        """Show the measured values in place of normalised ones, or these again."""
        self.as_measured = not self.as_measured
        self.refresh()

    @property
    def toggle(self) -> str:
        """What `toggle_measured` would do; empty where nothing is normalised."""
        if self._session.state.question.normalising.by == "none":
            return ""
        return "Show normalised" if self.as_measured else "Show as measured"

    def put_into_report(self) -> None:
        """Add the comparison to those of the report."""
        options = self._session.state.report
        if self.question not in options.questions:
            self.set_reported((*options.questions, self.question), "Put comparison into the report")

    def set_reported(self, questions: tuple[Question, ...], text: str) -> None:
        """Choose the comparisons of the report."""
        options = checked_copy(self._session.state.report, questions=questions)
        self._session.change(text, replace(self._session.state, report=options))

    def refresh(self) -> None:
        """Compare anew, in a thread."""
        tables, attributes = (
            self._session.measurements.ordered_tables(),
            self._compute.checks.attributes(),
        )
        self._choices = choices_of(tables, attributes)
        question = self.question
        self.what.show_question(question, self._choices)
        self.shown.show_question(question, self._choices)
        for button in (self.save, self.copy, self.keep):
            button.setEnabled(bool(tables))
        count = len(self._session.state.report.questions)
        self.keep.setEnabled(bool(tables) and question not in self._session.state.report.questions)
        self.in_report.setText(
            f"{counted(count, 'comparison')} in the report."
            if count
            else "The report takes the mean of every channel until others are put into it."
        )
        if not tables:
            self._show((), NO_PLOT_INPUTS, "Nothing is measured yet. Press “Measure all” (Ctrl+M).")
            return
        if self._session.is_blind:
            self._show((), NO_PLOT_INPUTS, _BLINDED)
            return
        self._compute.queue.compare_channel(question.channel)
        asked = question
        if self.as_measured:
            asked = question.model_copy(update={"normalising": Normalising()})
        make_material = plot_inputs_for(self._session, self._compute, asked)

        def work() -> tuple[Comparisons, PlotInputs]:
            return compare_all(tables, asked, attributes), make_material()

        self._jobs.run(
            "compare",
            work,
            lambda made: self._show(made[0], made[1], ""),
            lambda error: self._show((), NO_PLOT_INPUTS, str(error)),
        )

    def _show(self, comparisons: Comparisons, inputs: PlotInputs, message: str) -> None:
        self.comparisons, self.inputs = comparisons, inputs
        question = self.question
        self.tests.show_question(question, comparisons)
        self.design.show_question(question, self._choices, comparisons)
        self.normalise.show_question(question, self._choices, comparisons)
        self.compared.emit(comparisons, inputs, message)
