"""What goes into the report: title, remarks, sections, comparisons; and making it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.compare import Question
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.question import OF_REGION, OF_SAMPLE
from rilievo.core.errors import MethodError
from rilievo.core.method.method import checked_copy
from rilievo.core.study.report_options import SECTIONS
from rilievo.ui.compute.report_runner import ReportRunner
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import faint, side_by_side

# Typed remarks are taken when the typing rests.
_REST_MS = 600


class ReportView(QWidget):
    """Covers the middle; what is chosen is kept in the study."""

    closed = pyqtSignal()
    name_wanted = pyqtSignal(str)  # the ending of the file
    folder_wanted = pyqtSignal()
    cancel_wanted = pyqtSignal()

    def __init__(self, session: StudySession, runner: ReportRunner) -> None:
        super().__init__()
        self.setObjectName("compareView")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session, self._runner = session, runner
        self.title = QLineEdit()
        self.title.setAccessibleName("Title of the report")
        self.title.editingFinished.connect(
            lambda: self._change("Title of the report", title=self.title.text().strip())
        )
        self.authors, self.licence = QLineEdit(), QLineEdit()
        self.authors.setAccessibleName("Authors")
        self.authors.setPlaceholderText("Name (https://orcid.org/…); another name")
        self.authors.setToolTip("Several are parted by semicolons; they go into packed studies too")
        self.authors.editingFinished.connect(self._take_authors)
        self.licence.setAccessibleName("Licence of the data")
        self.licence.setPlaceholderText("Licence of the data: an address, or words")
        self.licence.editingFinished.connect(
            lambda: self._change("Licence of the data", licence=self.licence.text().strip())
        )
        self.note = QPlainTextEdit()
        self.note.setAccessibleName("Remarks at the top of the report")
        self.note.setPlaceholderText("Remarks: what was asked, how the samples were made …")
        self.note.setTabChangesFocus(True)
        self.note.setFixedHeight(scaled(88))
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.timeout.connect(
            lambda: self._change("Remarks of the report", note=self.note.toPlainText())
        )
        self.note.textChanged.connect(lambda: self._rest.start(_REST_MS))
        self.boxes = {key: QCheckBox(title) for key, title in SECTIONS.items()}
        for key, box in self.boxes.items():
            box.clicked.connect(partial(self._toggle, key))
        self.choices = QCheckBox("What would change the answer (measures many times)")
        self.choices.clicked.connect(
            lambda on: self._change("What would change the answer", with_choices=on)
        )
        self.questions = QListWidget()
        self.questions.setAccessibleName("Comparisons in the report")
        self.questions.currentRowChanged.connect(lambda _: self._enable())
        self._none = faint(
            "None chosen: the mean of every channel is compared by group. “Put into the report” "
            "in Compare adds what is shown there."
        )
        self.remove, self.up = QPushButton("Remove"), QPushButton("Move up")
        self.remove.clicked.connect(self._remove)
        self.up.clicked.connect(self._move_up)
        self._build()
        session.changed.connect(lambda *_: self.refresh())
        runner.changed.connect(self._show_progress)
        self.refresh()
        self._show_progress()

    def _build(self) -> None:
        heading = QLabel("Report")
        heading.setProperty("role", "heading")
        self.html, self.pdf = QPushButton("Save as web page …"), QPushButton("Save as PDF …")
        self.folder = QPushButton("With all tables …")
        self.folder.setToolTip("Tables, method, checks, history and report into a folder")
        self.html.setProperty("role", "main")
        for button, do in (
            (self.html, lambda: self.name_wanted.emit(".html")),
            (self.pdf, lambda: self.name_wanted.emit(".pdf")),
            (self.folder, self.folder_wanted.emit),
        ):
            button.clicked.connect(_without(do))
        back = QPushButton("Back")
        back.clicked.connect(self.closed)
        head = QHBoxLayout()
        head.setSpacing(8)
        head.addWidget(heading)
        head.addStretch(1)
        for button in (self.html, self.pdf, self.folder, back):
            head.addWidget(button)
        sections = QGridLayout()
        sections.setHorizontalSpacing(24)
        sections.setVerticalSpacing(0)
        for k, box in enumerate(self.boxes.values()):
            sections.addWidget(box, k // 2, k % 2)
        left = QVBoxLayout()
        left.setSpacing(6)
        left.addWidget(_named("Title"))
        left.addWidget(self.title)
        left.addWidget(_named("Authors and licence"))
        left.addWidget(self.authors)
        left.addWidget(self.licence)
        left.addWidget(_named("Remarks"))
        left.addWidget(self.note)
        left.addSpacing(6)
        left.addWidget(_named("Goes in"))
        left.addLayout(sections)
        left.addWidget(self.choices)
        left.addStretch(1)
        right = QVBoxLayout()
        right.setSpacing(6)
        right.addWidget(_named("Comparisons"))
        right.addWidget(self.questions, 1)
        right.addWidget(self._none)
        right.addWidget(side_by_side(self.up, self.remove, stretch=True))
        columns = QHBoxLayout()
        columns.setSpacing(28)
        columns.addLayout(left, 3)
        columns.addLayout(right, 2)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setMaximum(1000)
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(self.cancel_wanted)
        self._doing = faint()
        self._bar = QWidget()
        row = QHBoxLayout(self._bar)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self._doing)
        row.addWidget(self.progress, 1)
        row.addWidget(self.cancel)
        # A low window scrolls it, rather than be made higher by it.
        body = QWidget()
        body.setObjectName("scrolled")
        area = QScrollArea()
        area.setWidget(body)
        area.setWidgetResizable(True)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(area)
        layout = QVBoxLayout(body)
        layout.setContentsMargins(16, 12, 16, 10)
        layout.setSpacing(12)
        layout.addLayout(head)
        layout.addWidget(self._bar)
        layout.addLayout(columns, 1)
        layout.addWidget(
            faint(
                "One file that needs nothing else, no network either. Samples that were measured "
                "and have not changed are not measured again. The same study gives the same file, "
                "but for the date."
            )
        )

    # -- changing

    def _change(self, text: str, **fields: object) -> None:
        state = self._session.state
        try:
            options = checked_copy(state.report, **fields)
        except MethodError as exc:
            self._none.setText(str(exc))
            return
        self._session.change(text, replace(state, report=options))

    def _take_authors(self) -> None:
        typed = (one.strip() for one in self.authors.text().split(";"))
        self._change("Authors", authors=tuple(one for one in typed if one))

    def _toggle(self, key: str, on: bool) -> None:
        left_out = [one for one in self._session.state.report.left_out if one != key]
        if not on:
            left_out.append(key)
        what = "Put into" if on else "Leave out of"
        self._change(f"{what} the report: {SECTIONS[key].lower()}", left_out=tuple(left_out))

    def _remove(self) -> None:
        row, kept = self.questions.currentRow(), list(self._session.state.report.questions)
        if 0 <= row < len(kept):
            del kept[row]
            self._change("Take comparison out of the report", questions=tuple(kept))

    def _move_up(self) -> None:
        row, kept = self.questions.currentRow(), list(self._session.state.report.questions)
        if 0 < row < len(kept):
            kept[row - 1], kept[row] = kept[row], kept[row - 1]
            self._change("Move comparison up", questions=tuple(kept))
            self.questions.setCurrentRow(row - 1)

    # -- showing

    def refresh(self) -> None:
        """Show what goes into the report."""
        options = self._session.state.report
        self.title.setPlaceholderText(self._session.state.name)
        if not self.title.isModified() or self.title.text() != options.title:
            self.title.setText(options.title)
        self.authors.setText("; ".join(options.authors))
        self.licence.setText(options.licence)
        if self.note.toPlainText() != options.note and not self._rest.isActive():
            self.note.blockSignals(True)
            self.note.setPlainText(options.note)
            self.note.blockSignals(False)
        for key, box in self.boxes.items():
            box.setChecked(options.has(key))
        self.choices.setChecked(options.with_choices)
        row = self.questions.currentRow()
        self.questions.clear()
        self.questions.addItems([in_words(question) for question in options.questions])
        self.questions.setCurrentRow(min(row, len(options.questions) - 1))
        self._none.setVisible(not options.questions)
        self._enable()

    def _enable(self) -> None:
        row = self.questions.currentRow()
        self.remove.setEnabled(row >= 0)
        self.up.setEnabled(row > 0)
        ready = bool(self._session.state.samples) and not self._runner.is_running
        for button in (self.html, self.pdf, self.folder):
            button.setEnabled(ready)

    def _show_progress(self) -> None:
        self._bar.setVisible(self._runner.is_running)
        self._doing.setText(f"{self._runner.what} …")
        self.progress.setValue(round(1000 * self._runner.fraction))
        self._enable()


def in_words(question: Question) -> str:
    """Return a comparison as a line of a list."""
    what = ", ".join(question.quantities)
    of = " of ".join(name for name in (question.channel, question.region_class) if name)
    by = question.by.removeprefix(OF_SAMPLE).removeprefix(OF_REGION)
    where = f" ({of})" if of else ""
    return f"{what}{where} by {by}, {PLOTS[question.shown_as].title.lower()}"


def _named(text: str) -> QLabel:
    label = QLabel(text)
    label.setProperty("role", "title")
    return label


def _without(do: Callable[[], None]) -> Callable[..., None]:
    """A slot that passes over what a signal says."""
    return lambda *_: do()
