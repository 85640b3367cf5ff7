"""Compare: which quantity of which channel, and the plot as a file."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QPushButton

from rilievo.core.compare import Comparison, Question, compare
from rilievo.core.table import RegionTable
from rilievo.ui.jobs import Jobs
from rilievo.ui.model import StudyModel
from rilievo.ui.stages.card import Card, StagePanel, faint, side_by_side
from rilievo.ui.workbench import Workbench


class ComparePanel(StagePanel):
    """Cards: what is compared, where it goes."""

    compared = pyqtSignal(object, str)  # Comparison or None, and why there is none
    save_wanted = pyqtSignal()
    copy_wanted = pyqtSignal()

    def __init__(self, model: StudyModel, bench: Workbench, jobs: Jobs) -> None:
        super().__init__()
        self._model, self._bench, self._jobs = model, bench, jobs
        self.comparison: Comparison | None = None
        self._what = Card("Compare")
        self.quantity, self.channel, self.region_class = QComboBox(), QComboBox(), QComboBox()
        self._what.add_row("Quantity", self.quantity)
        self._what.add_row("Channel", self.channel)
        self._class_row = self._what.add_row("Class", self.region_class)
        self.region_class.activated.connect(lambda _: self.refresh())
        self._what.add(
            faint(
                "By group. One value is a sample: the mean over its regions, because regions of "
                "one sample are not independent."
            )
        )
        self.quantity.activated.connect(lambda _: self.refresh())
        self.channel.activated.connect(lambda _: self.refresh())
        self.add_card(self._what)
        self._out = Card("Plot and table")
        self.save = QPushButton("Save plot …")
        self.save.setToolTip("As PNG or SVG")
        self.save.clicked.connect(self.save_wanted)
        self.copy = QPushButton("Copy table")
        self.copy.clicked.connect(self.copy_wanted)
        self._out.add(side_by_side(self.save, self.copy, stretch=True))
        self._out.add(
            faint(
                "Small dots are regions, large marks samples; the line is the mean of the samples, "
                "the bar its 95 % confidence interval."
            )
        )
        self.add_card(self._out)
        model.tables_changed.connect(self.refresh)
        model.changed.connect(lambda old, new: self._on_change(old.samples != new.samples))
        model.stage_changed.connect(lambda stage: self.refresh() if stage == "compare" else None)

    def _on_change(self, samples_changed: bool) -> None:
        if samples_changed and self._model.stage == "compare":
            self.refresh()

    def _fill(self, box: QComboBox, entries: list[tuple[str, str]], preferred: str) -> None:
        if [box.itemData(i) for i in range(box.count())] == [key for key, _ in entries]:
            return
        before = box.currentData()
        box.clear()
        for key, text in entries:
            box.addItem(text, key)
        keys = [key for key, _ in entries]
        for wanted in (before, preferred):
            if wanted in keys:
                box.setCurrentIndex(keys.index(wanted))
                return

    def refresh(self) -> None:
        """Compare anew, in a thread."""
        tables = self._model.ordered_tables()
        keys = list(dict.fromkeys(key for table in tables for key in table.quantities))
        channels = list(dict.fromkeys(name for table in tables for name in table.channels))
        self._fill(self.quantity, [(k, _title(tables, k)) for k in keys], "mean")
        # The channel that regions were not found on is most often the one of interest.
        on = self._bench.outline_channel
        interesting = next((name for name in channels if name != on), on or "")
        self._fill(self.channel, [(name, name) for name in channels], interesting)
        classes = list(dict.fromkeys(name for table in tables for name in table.classes))
        self._fill(self.region_class, [(name, name) for name in classes], "")
        self._class_row.setVisible(len(classes) > 1)
        self.save.setEnabled(bool(tables))
        self.copy.setEnabled(bool(tables))
        if not tables:
            self._show(None, "Nothing is measured yet. Press “Measure all” (Ctrl+M).")
            return
        key, channel = self.quantity.currentData(), self.channel.currentData()
        name = self.region_class.currentData() or ""
        self._bench.compare_channel(channel)
        self._jobs.run(
            "compare",
            lambda: compare(
                tables, Question(quantities=(key,), channel=channel, region_class=name)
            ),
            lambda comparison: self._show(comparison, ""),
            lambda error: self._show(None, str(error)),
        )

    def _show(self, comparison: Comparison | None, message: str) -> None:
        self.comparison = comparison
        self.compared.emit(comparison, message)


def _title(tables: list[RegionTable], key: str) -> str:
    """What a column is called."""
    return next(table for table in tables if key in table.quantities).quantity(key).title
