"""What the window does for Measure: origin of numbers, exports, regions rejected from prints."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QInputDialog

from rilievo.core.pipeline.checks import Check
from rilievo.core.pipeline.checks_measured import check_measured, check_measured_batch
from rilievo.core.pipeline.origin import Origin, origin_of
from rilievo.core.pipeline.provenance import metadata_of
from rilievo.core.report.figures import Dot
from rilievo.core.table.number_reference import find_reference
from rilievo.core.table.star_series import series_frame
from rilievo.core.table.table import region_frame, write_csv
from rilievo.core.table.table_files import FORMATS, wide, write_table
from rilievo.ui.model import STAGES

if TYPE_CHECKING:
    from rilievo.ui.window import Window


class Measuring:
    """Connects table, prints and plots of Measure with the rest of the window."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._model, self._bench = window.model, window.bench

    def connect(self) -> None:
        """Connect the parts."""
        window = self._window
        window.drawer.measurements.number_chosen.connect(self.show_origin)
        window.measure_panel.joined.connect(window.ridges.show_chosen)
        window.drawer.number_chosen.connect(self.show_origin)
        window.origin.back_wanted.connect(self.leave_origin)
        self._model.stage_changed.connect(lambda _: self.leave_origin())
        self._model.changed.connect(lambda *_: self._follow())
        self._model.tables_changed.connect(self._check)
        window.drawer.reject_wanted.connect(lambda: window.outlining.edit_selected("reject"))
        window.drawer.light_curves_wanted.connect(self.ask_light_curve)
        window.comparison.plot.dot_chosen.connect(self._origin_of_dot)

    def _check(self) -> None:
        """Look at what was measured: stars that are soft or trailed, nothing found."""
        tables = self._model.ordered_tables()

        def work() -> list[Check]:
            found = [check for table in tables for check in check_measured(table)]
            return found + check_measured_batch(tables)

        def done(found: list[Check]) -> None:
            self._bench.measured_checks = {
                entry.id: [check for check in found if check.sample == entry.name]
                for entry in self._model.state.samples
            }
            self._bench.checked.emit()

        self._bench.jobs.run("measured checks", work, done)

    # -- origin

    def show_origin(self, sample: str, region: int, channel: str, key: str) -> None:
        """Show where a number comes from, and its pixels in the picture."""
        entry = self._model.named(sample)
        table = next((t for t in self._model.ordered_tables() if t.sample == sample), None)
        if entry is None or table is None or entry.id not in self._bench.samples:
            self._window.notice.warn(f"“{sample}” is not measured now; measure it first.")
            return
        if self._model.is_stale:
            self._window.notice.warn(
                "The method has changed since this number was measured; measure all again "
                "(Ctrl+M), then click the number."
            )
            return
        self._model.focus(sample_id=entry.id, channel=channel, regions={region})
        read = self._bench.samples[entry.id].renamed(sample)
        method, evaluator = self._model.state.method, self._bench.evaluator
        checksum = entry.checksum

        def done(origin: Origin) -> None:
            self._window.origin.show_origin(origin, self._bench.number_scale(channel))
            self._window.show_origin_panel(True)

        self._bench.jobs.run(
            "origin",
            lambda: origin_of(evaluator, read, method, table, region, channel, key, checksum),
            done,
            lambda error: self._window.notice.warn(str(error)),
        )

    def _origin_of_dot(self, dot: Dot) -> None:
        """A dot of the comparison that stands for one region leads to its number."""
        comparison = self._window.compare_panel.comparison
        if dot.region and comparison is not None:
            self.show_origin(dot.sample, dot.region, comparison.channel, comparison.quantity)

    def step_back(self) -> None:
        """Leave the origin of a number; without one, choose no region."""
        if self._window.origin_shown:
            self.leave_origin()
        else:
            self._model.focus(regions=())

    def leave_origin(self) -> None:
        """Go back from the origin to the cards of the stage."""
        self._window.show_origin_panel(False)

    def _follow(self) -> None:
        """A number that a changed method would not give any more is not shown."""
        if self._window.origin_shown and self._model.is_stale:
            self.leave_origin()

    def ask_number(self) -> None:
        """Ask for a number by what a report or a file calls it."""
        text, good = QInputDialog.getText(
            self._window,
            "Go to a number",
            "Sample / region / channel / quantity, as a report or file names it:",
        )
        if good and text.strip():
            self.go_to_number(text)

    def go_to_number(self, text: str) -> None:
        """Show the origin of a number named as `reference` writes it."""
        found = find_reference(text, self._model.ordered_tables())
        if isinstance(found, str):
            self._window.notice.warn(found)
            return
        if self._model.stage not in STAGES[2:4]:
            self._model.go_to("measure")
        self.show_origin(*found)

    # -- exports

    def ask_light_curve(self) -> None:
        """Choose a name for the light curves."""
        path = self._window.files.ask_name("Save light curves", "light-curves.csv", "CSV (*.csv)")
        if path is not None:
            self.save_light_curve(path)

    def save_light_curve(self, path: Path) -> None:
        """Write all stars of the series with their magnitudes, errors and dates."""
        series = self._window.drawer.series
        if series is not None:
            self._window.files.write(path, lambda: write_csv(series_frame(series), path))

    def save_table(self, path: Path, *, as_wide: bool = False) -> None:
        """Write every region of every sample, with the metadata, in the format of the name."""
        tables = self._model.ordered_tables()
        method = self._model.state.method
        checksums = {entry.name: entry.checksum for entry in self._model.state.samples}
        now = datetime.now().astimezone()

        def work() -> None:
            frame = region_frame(tables)
            metadata = metadata_of(tables, method, checksums, now)
            write_table(wide(frame) if as_wide else frame, path, metadata)

        self._window.files.write(path, work)

    def ask_table(self) -> None:
        """Choose a name and a format for the table."""
        kinds = {
            f"{one.title}, {form} (*{one.suffix})": (one.suffix, form == "one row per region")
            for one in FORMATS.values()
            for form in ("one row per region and channel", "one row per region")
        }
        path, kind = self._window.files.ask_name_of("Save table", "regions.csv", kinds)
        if path is not None:
            suffix, as_wide = kind
            known = path.suffix.lower() in FORMATS
            self.save_table(path if known else path.with_name(path.name + suffix), as_wide=as_wide)
