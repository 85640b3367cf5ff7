"""The middle of Compare: the plot with what it says in words, or the checks of the batch."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import (
    QLabel,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.compare import Comparison, Outlier, heading, sentences
from rilievo.core.compare.plots.panel import PlotInputs
from rilievo.core.regions.region_set import number_in_class
from rilievo.core.wording.numbers import shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.panels.batch_checks_panel import BatchChecks
from rilievo.ui.panels.choices_panel import ChoicesView
from rilievo.ui.panels.comparison_plot import ComparisonPlot
from rilievo.ui.panels.two_measurers_panel import TwoMeasurersView
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Choice, clear_rows, column
from rilievo.ui.widgets.folding_splitter import FoldingSplitter

_VIEWS = (
    ("plot", "Comparison", "The plot and what it says"),
    ("checks", "Check the batch", "What differs between samples besides the treatment"),
    ("choices", "What would change it", "The difference under other choices of method and test"),
    ("twice", "Two measurers", "How far two people, or two methods, agree on the same samples"),
)
_MOST_OUTLIERS = 6
_WORDS_WIDTH = 268


class ComparisonView(QWidget):
    """Plot left, its meaning in words right; the batch's checks on another page."""

    as_measured_toggled = pyqtSignal()
    outlier_chosen = pyqtSignal(str, int)

    def __init__(self, session: StudySession, compute: Compute, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("compareView")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.views = Choice(_VIEWS)
        self.views.chosen.connect(self.show_view)
        self.plot = ComparisonPlot(session, jobs, theme)
        self.checks = BatchChecks(session, compute, theme)
        self._sentence = ""
        self._build_words()
        # The words fold away by themselves, and scroll in nothing that scrolls.
        self.halves = FoldingSplitter(Qt.Orientation.Horizontal)
        self.halves.addWidget(self.plot)
        self.halves.addWidget(self._side)
        self.halves.setStretchFactor(0, 1)
        self.halves.setCollapsible(0, False)
        self.halves.make_foldable(self._side, "Words", _WORDS_WIDTH)
        self.halves.setSizes([600, _WORDS_WIDTH])
        self._stack = QStackedWidget()
        self._stack.addWidget(self.halves)
        self._stack.addWidget(self.checks)
        self.choices = ChoicesView(theme)
        self._stack.addWidget(self.choices)
        self.twice = TwoMeasurersView(jobs, theme)
        self._stack.addWidget(self.twice)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self.views)
        layout.addWidget(self._stack, 1)
        self.show_view("plot")
        self.show_comparisons((), PlotInputs(), "")

    def _build_words(self) -> None:
        self._heading = QLabel("")
        self._heading.setProperty("role", "heading")
        self._heading.setWordWrap(True)
        self._text = QLabel("")
        self._text.setWordWrap(True)
        self._text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._note = QLabel("")
        self._note.setProperty("role", "check")
        self._note.setWordWrap(True)
        self.copy_button = QPushButton("Copy sentence")
        self.copy_button.clicked.connect(self._copy_sentence)
        self.measured_button = QPushButton("")
        self.measured_button.setProperty("role", "link")
        self.measured_button.clicked.connect(self.as_measured_toggled)
        self.outliers, self._outlier_rows = column()
        words = QVBoxLayout()
        words.setContentsMargins(0, 24, 16, 16)
        words.setSpacing(10)
        words.addWidget(self._heading)
        words.addWidget(self.measured_button, 0, Qt.AlignmentFlag.AlignLeft)
        words.addWidget(self._text)
        words.addWidget(self.copy_button, 0, Qt.AlignmentFlag.AlignLeft)
        words.addWidget(self._note)
        words.addWidget(self.outliers)
        words.addStretch(1)
        body = QWidget()
        body.setObjectName("scrolled")
        body.setLayout(words)
        self._side = QScrollArea()
        self._side.setWidget(body)
        self._side.setWidgetResizable(True)
        self._side.setMinimumWidth(scaled(200))
        self._side.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._side.setAccessibleName("The comparison in words")

    @property
    def view(self) -> str:
        """Which page is seen."""
        return _VIEWS[self._stack.currentIndex()][0]

    def show_view(self, key: str) -> None:
        """Show one of the pages: plot, checks, choices, twice."""
        self.views.set_chosen(key)
        self._stack.setCurrentIndex([one for one, *_ in _VIEWS].index(key))

    def show_comparisons(
        self,
        comparisons: Sequence[Comparison],
        inputs: PlotInputs,
        message: str,
        toggle: str = "",
    ) -> None:
        """Show comparisons with plots and words, or why there is none.

        toggle : what a click does between normalised and measured values; "" for neither.
        """
        self.plot.show_comparisons(comparisons, inputs, message)
        first = comparisons[0] if comparisons else None
        self._heading.setText(heading(first) if first else "")
        paragraphs = [text for one in comparisons for text in sentences(one)]
        self._sentence = "\n\n".join(paragraphs)
        self._text.setText(self._sentence)
        self.copy_button.setVisible(bool(self._sentence))
        self._note.setText("\n".join(_notes(comparisons)))
        self._note.setVisible(bool(self._note.text()))
        self._show_outliers([one for each in comparisons for one in each.outliers])
        self.measured_button.setText(toggle)
        self.measured_button.setVisible(bool(toggle))

    def _show_outliers(self, outliers: Sequence[Outlier]) -> None:
        clear_rows(self._outlier_rows)
        if outliers:
            head = QLabel("Stands apart (robust z over 3.5)")
            head.setProperty("role", "title")
            self._outlier_rows.addWidget(head)
        for one in outliers[:_MOST_OUTLIERS]:
            where = f", region {number_in_class(one.region)}" if one.region else ""
            link = QPushButton(f"{one.sample}{where}: {shown(one.value)} (z {shown(one.z, 2)})")
            link.setProperty("role", "link")
            link.setToolTip("Show it in the picture")
            link.clicked.connect(partial(self.outlier_chosen.emit, one.sample, one.region))
            self._outlier_rows.addWidget(link, 0, Qt.AlignmentFlag.AlignLeft)
        if len(outliers) > _MOST_OUTLIERS:
            more = QLabel(f"and {len(outliers) - _MOST_OUTLIERS} more, ringed in the plot")
            more.setProperty("role", "faint")
            self._outlier_rows.addWidget(more)
        self.outliers.setVisible(bool(outliers))

    def _copy_sentence(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self._sentence)


def _notes(comparisons: Sequence[Comparison]) -> list[str]:
    """What is missing, and why."""
    notes = []
    for comparison in comparisons:
        if comparison.no_fit:
            notes.append(comparison.no_fit)
        if comparison.without_value:
            names = ", ".join(comparison.without_value)
            notes.append(f"Left out, without a value: {names}.")
    first = comparisons[0] if comparisons else None
    if first and not first.axis and any(s.samples < 2 for s in first.statistics):
        notes.append("A group of one sample has no spread: its interval is not known.")
    return list(dict.fromkeys(notes))
