"""What one call of `rilievo run` does: measure, write, watch."""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import typer

from rilievo.cli.console import WRONG_USAGE, ProgressPrinter, prepare_loops, say, stop, write_out
from rilievo.cli.overrides import apply_overrides
from rilievo.cli.sample_sheet import SampleSheet, apply_sample_sheet

if TYPE_CHECKING:
    from rilievo.core.batch import Measurer, Outcome, Progress, Results, ResultStore, RunRequest
    from rilievo.core.files.channel_preparation import MetadataOverrides
    from rilievo.core.files.sample_ref import SampleRef
    from rilievo.core.image.camera_noise import CameraNoise
    from rilievo.core.method.method import Method
    from rilievo.core.report.outputs import FilesWanted
    from rilievo.core.report.page import Contents

# Results are kept here, so that the same command goes on where it was stopped.
STORE_NAME = "results.sqlite"
# So many samples have their pictures in the report; `rilievo report` shows more.
MOST_PICTURED = 60
LABELS = "labels"
_LOOK_EVERY = 0.25


def open_store(out: Path | None) -> ResultStore:
    """Make the folder of the results with their store; in memory for None.

    Raises FileUnreadable.
    """
    from rilievo.core.atomic_write import cannot_write  # noqa: PLC0415
    from rilievo.core.batch import ResultStore  # noqa: PLC0415

    if out is None:
        return ResultStore()
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(out, exc) from exc
    return ResultStore(out / STORE_NAME)


@dataclass(frozen=True, eq=False, kw_only=True)
class Job:
    """One call of the command.

    request : what is measured; its samples are the first ones of a folder that is watched.
    contents : of the report, but for the outcomes. out : None prints the regions instead. noise :
    of the camera, for the errors of numbers; "" for none.
    """

    measurer: Measurer
    request: RunRequest
    contents: Contents
    files: FilesWanted
    out: Path | None
    noise: CameraNoise | Literal["", "stated"]
    with_choices: bool
    overrides: MetadataOverrides
    json_lines: bool
    quiet: bool

    @property
    def method(self) -> Method:
        """The method as it was given."""
        return self.request.methods[0]

    def measure(self, samples: Sequence[SampleRef]) -> Results:
        """Measure all that was not measured before, and tell of each."""
        prepare_loops(quiet=self.quiet)
        unchanged: list[SampleRef] = []

        def on_progress(progress: Progress) -> None:
            if progress.known:
                unchanged.append(progress.item)
            teller(progress)

        request = replace(self.request, samples=samples)
        with ProgressPrinter(len(samples), json_lines=self.json_lines, quiet=self.quiet) as teller:
            teller.event("begin", samples=len(samples))
            results = self.measurer.measure(request, on_progress)[0]
        if request.labels is not None and unchanged:
            self._tell(f"Writing label images of {len(unchanged)} samples that are unchanged …")
            self._write_labels(unchanged, results.method, request.labels)
        return results

    def _tell(self, text: str) -> None:
        if not self.quiet:
            say(text)

    def print_regions(self, outcomes: Results) -> Sequence[Outcome]:
        """Print the regions as CSV to standard output; return the outcomes as they were read."""
        from rilievo.core.batch import finished_tables  # noqa: PLC0415
        from rilievo.core.table.table import region_frame  # noqa: PLC0415

        read = list(outcomes)
        tables = finished_tables(read, self.method)
        if tables:
            write_out(region_frame(tables).csv_text())
        return read

    def write(self, outcomes: Results, out: Path) -> Sequence[Outcome]:
        """Write tables and report; return the outcomes as they were read."""
        from datetime import datetime  # noqa: PLC0415

        from rilievo.core.report.large_outputs import is_large  # noqa: PLC0415
        from rilievo.core.report.outputs import write_outputs  # noqa: PLC0415
        from rilievo.core.report.study_report import with_choices, with_pictures  # noqa: PLC0415

        if all(outcome.table is None for outcome in outcomes):
            say("Nothing was measured; tables and report of an earlier run stay as they were.")
            return outcomes
        date = datetime.now().astimezone().isoformat(timespec="seconds")
        contents = replace(self.contents, outcomes=outcomes, date=date)
        if self.files.with_report:
            contents = with_pictures(contents, self.measurer, most=MOST_PICTURED)
        if self.with_choices or contents.preregistration.is_made:
            self._tell("Comparing under other choices …")
            contents = with_choices(contents, self.measurer, all_choices=self.with_choices)
        if self.noise:
            contents = replace(contents, errors=self._write_errors(outcomes, out))
        if is_large(outcomes, self.method) and set(self.files.formats) - {".parquet"}:
            self._tell(
                f"Of {len(outcomes)} samples the regions are written as CSV and as a folder of "
                "Parquet files, in no other format."
            )
        return write_outputs(contents, out, self.files)

    def _write_labels(self, samples: Sequence[SampleRef], method: Method, folder: Path) -> None:
        """Write label images of samples that were measured before, which left none now."""
        from rilievo.core.batch.label_files import write_labels  # noqa: PLC0415

        _, failures = self.measurer.each(
            samples, [method], lambda _, analyses: write_labels(analyses[0], folder)
        )
        for name, why in failures.items():
            say(f"without label images: {name}: {why}")

    def _write_errors(self, outcomes: Sequence[Outcome], out: Path) -> list[str]:
        """Write errors.csv, a row for each number; return them in words."""
        from rilievo.core.report.camera_noise_report import errors_frame, errors_in_words  # noqa: PLC0415

        self._tell("Finding the errors of all numbers …")
        samples = [outcome.item for outcome in outcomes if outcome.failure is None]
        noise = None if self.noise == "stated" or not self.noise else self.noise
        frame, failures = errors_frame(samples, self.method, self.measurer, noise)
        frame.write_csv(out / "errors.csv")
        for name, why in failures.items():
            say(f"without errors: {name}: {why}")
        return errors_in_words(frame)

    def finish(self, outcomes: Sequence[Outcome]) -> tuple[int, int]:
        """Say what became of all; return how many were measured, and how many failed."""
        failures, regions = [], 0
        for outcome in outcomes:
            if outcome.failure is not None:
                failures.append(f"{outcome.item.label}: {outcome.failure}")
            elif outcome.table is not None:
                regions += int(outcome.table.ids.size)
        good = len(outcomes) - len(failures)
        if self.json_lines:
            ProgressPrinter(0, json_lines=True).event(
                "end",
                measured=good,
                failed=len(failures),
                regions=regions,
                out=str(self.out or "-"),
            )
        elif self.out is None:
            self._tell(f"{good} of {len(outcomes)} samples measured, {regions} regions")
        elif not self.quiet:
            where = f", {regions} regions: {self.out / 'regions.csv'}" if good else ""
            typer.echo(f"{good} of {len(outcomes)} samples measured{where}")
        for failure in failures:
            say(f"not measured: {failure}")
        return good, len(failures)

    def watch(self, folders: Sequence[Path], given: SampleSheet, rows_told: set[str]) -> None:
        """Measure files as they appear, until Ctrl+C.

        Rows are added to the tables at once; comparison and report are written when asked for
        (SIGUSR1), and at the end.
        """
        from rilievo.core.files.folder_watch import FolderWatch  # noqa: PLC0415
        from rilievo.core.files.sample_ref import samples_for  # noqa: PLC0415
        from rilievo.core.report.live_tables import add_rows, stands_alone  # noqa: PLC0415

        out, every = self.out, list(self.request.samples)
        if not folders or out is None:
            raise stop("--watch needs folders to watch and a folder for the results", WRONG_USAGE)
        paths = [ref.path for ref in every]
        watches = [FolderWatch(folder, paths) for folder in folders]
        self._tell(
            f"Watching {', '.join(str(folder) for folder in folders)}; Ctrl+C ends it. "
            f"The report is written then, or on “kill -USR1 {os.getpid()}”."
        )
        asked = threading.Event()
        with contextlib.suppress(ValueError):  # not on the main thread
            signal.signal(signal.SIGUSR1, lambda *_: asked.set())
        alone, stale = stands_alone(self.method), False
        try:
            while True:
                start = time.monotonic()
                new = [path for watched in watches for path in watched.look()]
                looked = time.monotonic() - start
                if new:
                    paths += new
                    every = apply_overrides(
                        apply_sample_sheet(samples_for(paths, folders), given, rows_told),
                        self.overrides,
                    )
                    outcomes = self.measure(every[-len(new) :] if alone else every)
                    stale = alone and add_rows(outcomes, self.method, out)
                    if not stale:
                        self.write(self.measure(every) if alone else outcomes, out)
                    self.finish(outcomes)
                if asked.is_set():
                    asked.clear()
                    self.write(self.measure(every), out)
                    stale = False
                # A large folder takes a while to look through; the rest of the time is its own.
                time.sleep(max(_LOOK_EVERY, 2 * looked))
        except KeyboardInterrupt:
            if stale:
                self._tell("Writing the report …")
                self.write(self.measure(every), out)
            raise
