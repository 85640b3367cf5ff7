"""What will be taken of the files that were dropped, and how their names become samples.

Nothing is in the study before “Add”. Files are read in threads while one looks at the list.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from rilievo.core.errors import RilievoError
from rilievo.core.files import sample_name
from rilievo.core.files.import_naming import (
    NamePattern,
    PatternError,
    propose,
    with_planes,
)
from rilievo.core.files.interleaved_pages import channels_in_turn
from rilievo.core.files.name_reading import NameReading, read_names
from rilievo.core.files.plane_choice import (
    PlaneChoice,
    is_stack,
    offered_choices,
    proposed_choice,
    with_frames,
)
from rilievo.core.files.reader import read_layout
from rilievo.core.files.sample_parts import Part
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.files.stage_positions import further_positions, with_positions
from rilievo.core.image.image import Sample
from rilievo.core.image.stack import StackLayout
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.wording.lists import counted
from rilievo.ui.compute.compute import Compute
from rilievo.ui.panels.name_parts import NamePartsRow
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import side_by_side

_HEADS = ("Sample", "Files", "Channels", "Size", "Group", "Replicate", "Notes")
_MOST_ROWS, _MEASURED_ROWS = 500, 100
_HINT = (
    "A pattern splits file names: {sample}_{channel}, {group}/{sample}, {group}-{replicate#}_{dose}"
    " … # means digits, * anything."
)


def _looked_at(cache: AnalysisCache, path: Path) -> tuple[StackLayout, tuple[int, ...], Sample]:
    """Which planes and positions a file has, and its pixels; of a stack its first plane alone."""
    layout = read_layout(path)
    first = layout.taken_as("time").frames()[0] if is_stack(layout) else None
    positions = further_positions(path, layout) if is_stack(layout) else ()
    return layout, positions, cache.file(path, 0, first)


class IntakeView(QWidget):
    """Pattern and planes above, the samples as they will be below."""

    accepted = pyqtSignal(object)  # list of SampleRef
    closed = pyqtSignal()

    def __init__(self, compute: Compute, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("compareView")
        self._compute, self._theme = compute, theme
        self._paths: list[Path] = []
        self._read: dict[Path, Sample] = {}
        self._layouts: dict[Path, StackLayout] = {}
        # Further images of a file that are positions, stacks like its first.
        self._positions: dict[Path, tuple[int, ...]] = {}
        self._failed: dict[Path, str] = {}
        self._unticked: set[str] = set()
        self.proposals: list[SampleRef] = []
        self._filling = False
        title = QLabel("Bring in")
        title.setProperty("role", "heading")
        self._about = QLabel("")
        self._about.setProperty("role", "faint")
        self.pattern = QLineEdit()
        self.pattern.setPlaceholderText("{sample}  – each file is a sample")
        self.pattern.setAccessibleName("Name pattern")
        self.pattern.setToolTip(_HINT)
        self.pattern.setMinimumWidth(scaled(300))
        self.pattern.textChanged.connect(lambda _: self._propose())
        self.names = NamePartsRow(theme)
        self.names.changed.connect(self.pattern.setText)
        self.planes = QComboBox()
        self.planes.addItem("planes of a file together", "together")
        self.planes.addItem("each plane a sample", "apart")
        self.planes.setAccessibleName("Files with several planes")
        self.planes.setToolTip(
            "What the planes of a file are: channels of one sample, depth or time; or what is made "
            "of all depths or times"
        )
        # Chosen by hand it stays as it is while further files are read.
        self._planes_chosen = False
        self.planes.activated.connect(self._choose_planes)
        self.choice = QLineEdit()
        self.choice.setPlaceholderText("all planes")
        self.choice.setToolTip("Which planes to take: 1-3, 5, or their names")
        self.choice.setAccessibleName("Which planes")
        self.choice.setFixedWidth(scaled(110))
        self.choice.textChanged.connect(lambda _: self._propose())
        self.message = QLabel(_HINT)
        self.message.setProperty("role", "faint")
        self.table = QTableWidget(0, len(_HEADS))
        self.table.setHorizontalHeaderLabels(list(_HEADS))
        self.table.setAlternatingRowColors(True)
        self.table.setAccessibleName("Samples as they will be")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        head, side = self.table.horizontalHeader(), self.table.verticalHeader()
        if head is not None and side is not None:
            head.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
            head.setStretchLastSection(True)
            head.setResizeContentsPrecision(_MEASURED_ROWS)
            side.setVisible(False)
            side.setDefaultSectionSize(26)
        self.table.itemChanged.connect(self._ticked)
        self.add_button = QPushButton("Add")
        self.add_button.setProperty("role", "main")
        self.add_button.clicked.connect(self.accept)
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.clicked.connect(self.closed)
        top = QHBoxLayout()
        top.setSpacing(12)
        top.addWidget(title)
        top.addWidget(self._about, 1)
        top.addWidget(side_by_side(self.cancel_button, self.add_button))
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(QLabel("Names"))
        row.addWidget(self.pattern, 1)
        row.addSpacing(12)
        row.addWidget(QLabel("Take"))
        row.addWidget(self.choice)
        row.addWidget(self.planes)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 8)
        layout.setSpacing(8)
        layout.addLayout(top)
        layout.addLayout(row)
        layout.addWidget(self.names)
        layout.addWidget(self.message)
        layout.addWidget(self.table, 1)

    def look_at(self, paths: Sequence[Path]) -> None:
        """Show what these files would become, and read them meanwhile."""
        self._paths = [path.absolute() for path in paths]
        self._read, self._failed, self._unticked = {}, {}, set()
        self._layouts, self._positions, self._planes_chosen = {}, {}, False
        self._offer_planes()
        # What was typed for other files is not theirs.
        self.pattern.clear()
        self.names.show_reading(None)
        self._propose()
        paths_now = self._paths
        self._compute.jobs.run(
            "read names",
            lambda: read_names(paths_now),
            lambda reading: self._take_reading(paths_now, reading),
        )
        for path in self._paths:
            self._compute.jobs.run(
                f"intake {path}",
                partial(_looked_at, self._compute.cache, path),
                partial(self._on_read, path),
                partial(self._on_failed, path),
            )
        self.pattern.setFocus()

    def _take_reading(self, paths: list[Path], reading: NameReading | None) -> None:
        """Show how names are read; in force where all have one shape, and nothing was typed."""
        if paths is not self._paths:
            return
        self.names.show_reading(reading)
        whole = reading is not None and len(reading.paths) == len(paths)
        if reading is not None and whole and not self.pattern.text():
            self.pattern.setText(reading.pattern)
        self.names.follow(self.pattern.text().strip())

    def _on_read(self, path: Path, found: tuple[StackLayout, tuple[int, ...], Sample]) -> None:
        if path in self._paths:
            self._layouts[path], self._positions[path], self._read[path] = found
            if found[0].count > 1:
                self._offer_planes()
            # Further images of a file are offered and not taken unasked.
            self._unticked |= {one.name for one in self._further(path)}
            self._propose()

    def _on_failed(self, path: Path, error: RilievoError) -> None:
        if path in self._paths:
            self._failed[path] = str(error)
            self._propose()

    def _further(self, path: Path) -> list[SampleRef]:
        """The images of a file beside the first and its positions, each a sample."""
        sample, known = self._read.get(path), self._positions.get(path, ())
        titles = () if sample is None else sample.images[1:]
        return [
            SampleRef(path, f"{sample_name(path)} {title}", parts=(Part(path, image=i + 1),))
            for i, title in enumerate(titles)
            if i + 1 not in known
        ]

    def _propose(self) -> None:
        text, self._message_text = self.pattern.text().strip(), _HINT
        self.names.follow(text)
        wrong = False
        try:
            pattern = NamePattern.parse(text) if text else None
            found = propose(self._paths, pattern)
        except PatternError as exc:
            self._message_text, wrong = str(exc), True
            found = propose(self._paths)
        try:
            self.proposals = [part for one in found for part in self._with_planes(one)]
        except ValueError as exc:
            self._message_text, wrong = str(exc), True
            self.proposals = found
        self.proposals += [one for path in self._paths for one in self._further(path)]
        self.message.setText(self._message_text)
        self.message.setProperty("role", "check" if wrong else "faint")
        style = self.message.style()
        if style is not None:
            style.polish(self.message)
        self._fill(wrong)

    def _offer_planes(self) -> None:
        """Offer what the planes of these files can be; what they most likely are is chosen."""
        stacks = {path.name: layout for path, layout in self._layouts.items() if layout.count > 1}
        chosen = self.planes.currentData()
        if not self._planes_chosen:
            likely = proposed_choice(stacks).text
            chosen = "together" if likely == "channels" else likely
        while self.planes.count() > 2:
            self.planes.removeItem(2)
        for text in offered_choices(stacks.values()):
            self.planes.addItem(PlaneChoice.parse(text).title, text)
        self.planes.setCurrentIndex(max(self.planes.findData(chosen), 0))

    def _choose_planes(self) -> None:
        self._planes_chosen = True
        self._propose()

    def _with_planes(self, proposal: SampleRef) -> list[SampleRef]:
        choice, layout = str(self.planes.currentData()), self._layout_of(proposal)
        if choice not in ("together", "apart"):
            if layout is None:
                return [proposal]
            whole = len(proposal.parts) == 1 and proposal.parts[0].image == 0
            known = self._positions.get(proposal.parts[0].path, ()) if whole else ()
            parsed = PlaneChoice.parse(choice)
            return [
                plane
                for one in with_positions(proposal, known)
                for plane in with_frames(one, layout, parsed)
            ]
        if layout is not None and is_stack(layout):
            # Only its first plane was read.
            return [proposal]
        sample = self._read.get(proposal.parts[0].path)
        if sample is None or len(proposal.parts) > 1 or len(sample.channels) < 2:
            return [proposal]
        return with_planes(
            proposal, sample.channel_names, self.choice.text(), self.planes.currentData()
        )

    def _layout_of(self, proposal: SampleRef) -> StackLayout | None:
        """The layout that the files of a sample have alike; None while one is not read."""
        found = [self._layouts.get(part.path) for part in proposal.parts]
        return found[0] if all(one is not None for one in found) else None

    def _problem(self, proposal: SampleRef) -> str:
        known = [self._layouts[p.path] for p in proposal.parts if p.path in self._layouts]
        lengths = {(one.z, one.time, one.pages) for one in known}
        if len(lengths) > 1 and any(part.frame is not None for part in proposal.parts):
            return "its files differ in depths or times; make each a sample of its own"
        failed = [self._failed[p.path] for p in proposal.parts if p.path in self._failed]
        return failed[0] if failed else proposal.problem

    def _fill(self, wrong: bool) -> None:
        self._filling = True
        # Of the planes of a long stack the first tell what the others are.
        listed = self.proposals[:_MOST_ROWS]
        more = len(self.proposals) - len(listed)
        self.table.setRowCount(len(listed) + (1 if more else 0))
        if more:
            rest = QTableWidgetItem(f"… and {more} more like these")
            rest.setFlags(Qt.ItemFlag.ItemIsEnabled)
            self.table.setItem(len(listed), 0, rest)
            for k in range(1, len(_HEADS)):
                self.table.setItem(len(listed), k, QTableWidgetItem(""))
        for i, proposal in enumerate(listed):
            problem = self._problem(proposal)
            texts = (
                proposal.name,
                ", ".join(part.path.name for part in proposal.parts),
                self._channel_text(proposal),
                self._size_text(proposal),
                proposal.group,
                proposal.replicate,
                problem or ", ".join(f"{k} {value}" for k, value in proposal.attributes.items()),
            )
            for k, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(problem or text)
                if problem:
                    item.setForeground(self._theme.colour("check_text"))
                if k == 0:
                    takes = not problem and proposal.name not in self._unticked
                    item.setFlags(
                        Qt.ItemFlag.ItemIsEnabled
                        | Qt.ItemFlag.ItemIsSelectable
                        | (Qt.ItemFlag(0) if problem else Qt.ItemFlag.ItemIsUserCheckable)
                    )
                    item.setCheckState(Qt.CheckState.Checked if takes else Qt.CheckState.Unchecked)
                self.table.setItem(i, k, item)
        self.table.resizeColumnsToContents()
        for k, most in ((0, 150), (1, 150), (2, 130), (3, 145), (4, 90), (5, 76)):
            self.table.setColumnWidth(k, min(self.table.columnWidth(k) + 12, most))
        self._filling = False
        self._count(wrong)

    def _channel_text(self, proposal: SampleRef) -> str:
        names = []
        for part in proposal.parts:
            sample = self._read.get(part.path)
            own = part.planes or (sample.channel_names if sample else ())
            if part.frame is not None and part.frame.channels > 1:
                own = channels_in_turn(part.frame.channels)
            names += [part.channel] if part.channel else list(own)
        return ", ".join(names[:8]) + (" …" if len(names) > 8 else "")

    def _size_text(self, proposal: SampleRef) -> str:
        sample = self._read.get(proposal.parts[0].path)
        if sample is None:
            return "reading …"
        if proposal.parts[0].image and proposal.parts[0].frame is None:
            return "a further image of this file"
        height, width = sample.first.shape
        return f"{width} × {height} px, {sample.first.file_dtype}"

    def _ticked(self, item: QTableWidgetItem) -> None:
        if self._filling or item.column() != 0 or item.row() >= _MOST_ROWS:
            return
        name = self.proposals[item.row()].name
        if item.checkState() == Qt.CheckState.Checked:
            self._unticked.discard(name)
        else:
            self._unticked.add(name)
        self._count(wrong=False)

    def taken(self) -> list[SampleRef]:
        """Return the samples that would be added."""
        return [
            proposal
            for proposal in self.proposals
            if not self._problem(proposal) and proposal.name not in self._unticked
        ]

    def _count(self, wrong: bool) -> None:
        count, files = len(self.taken()), len(self._paths)
        left = sum(bool(self._problem(proposal)) for proposal in self.proposals)
        words = counted(files, "file")
        self._about.setText(words + (f" · {left} cannot be taken" if left else ""))
        self.add_button.setText(f"Add {counted(count, 'sample')}")
        self.add_button.setEnabled(count > 0 and not wrong)

    def accept(self) -> None:
        """Add what is ticked."""
        if self.add_button.isEnabled():
            self.accepted.emit(self.taken())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.accept()
        else:
            super().keyPressEvent(event)
