"""What one call of `rilievo run` does: measure, write, watch."""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import typer

from rilievo.cli.facts import Facts, with_rows
from rilievo.cli.saying import WRONG_USAGE, Teller, prepare_loops, say, stop, write_out

if TYPE_CHECKING:
    from rilievo.core.batch import BatchItem, Outcome, Progress, Results, ResultStore
    from rilievo.core.files.channel_preparation import MetadataOverrides
    from rilievo.core.image.camera_noise import CameraNoise
    from rilievo.core.method.method import Method
    from rilievo.core.study.agreement import Agreement
    from rilievo.core.study.report_options import ReportOptions

# Results are kept here, so that the same command goes on where it was stopped.
STORE_NAME = "results.sqlite"
# So many samples have their pictures in the report; `rilievo report` shows more.
_MOST_PICTURED = 60
_LOOK_EVERY = 0.25
_LABELS = "labels"


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

    out : None prints the regions instead. page : the report's file, where it is another. asked :
    fields of the question. noise : of the camera, for the errors of numbers; "" for none. options :
    what the report of a study shows.
    """

    method: Method
    store: ResultStore
    out: Path | None
    jobs: int
    scheduler: str
    memory: int
    formats: Sequence[str]
    as_wide: bool
    json_lines: bool
    quiet: bool
    page: Path | None
    asked: Mapping[str, Any]
    agreement: Agreement
    noise: CameraNoise | Literal["", "stated"]
    with_report: bool
    with_choices: bool
    with_labels: bool
    declared: MetadataOverrides
    options: ReportOptions | None = None

    def measure(self, items: Sequence[BatchItem]) -> Results:
        """Measure all that was not measured before, and tell of each."""
        from rilievo.core.batch import run_batch  # noqa: PLC0415

        prepare_loops(quiet=self.quiet)
        known: list[BatchItem] = []

        def told(progress: Progress) -> None:
            if progress.known:
                known.append(progress.item)
            teller(progress)

        labels = self.out / _LABELS if self.with_labels and self.out is not None else None
        with Teller(len(items), json_lines=self.json_lines, quiet=self.quiet) as teller:
            teller.event("begin", samples=len(items))
            results = run_batch(
                items,
                self.method,
                jobs=self.jobs,
                scheduler=self.scheduler,
                store=self.store,
                report=told,
                memory=self.memory * 1_000_000,
                pictures=_MOST_PICTURED if self.with_report else 0,
                labels=labels,
            )
        if labels is not None and known:
            self._tell(f"Writing label images of {len(known)} samples that are unchanged …")
            self._write_labels(known, results.method, labels)
        return results

    def with_declared(self, items: Sequence[BatchItem]) -> list[BatchItem]:
        """Return the items with what was typed in place of what their files say."""
        typed = self.declared.model_dump(exclude_none=True)
        if not typed:
            return list(items)
        return [replace(item, declared=item.declared.model_copy(update=typed)) for item in items]

    def _tell(self, text: str) -> None:
        if not self.quiet:
            say(text)

    def print_regions(self, outcomes: Results) -> Sequence[Outcome]:
        """Print the regions as CSV to standard output; return the outcomes as they were read."""
        from rilievo.core.batch import measured  # noqa: PLC0415
        from rilievo.core.table.derived_columns import with_derived  # noqa: PLC0415
        from rilievo.core.table.table import csv_text, region_frame  # noqa: PLC0415
        from rilievo.core.table.tracks import with_tracks  # noqa: PLC0415

        read = list(outcomes)
        tables = with_derived(with_tracks(measured(read)), self.method.measure.derived)
        if tables:
            write_out(csv_text(region_frame(tables)))
        return read

    def write(self, outcomes: Results, out: Path) -> Sequence[Outcome]:
        """Write tables and report; return the outcomes as they were read."""
        from datetime import datetime  # noqa: PLC0415

        from rilievo.core.batch import Control  # noqa: PLC0415
        from rilievo.core.report.large_outputs import is_large  # noqa: PLC0415
        from rilievo.core.report.outputs import write_outputs  # noqa: PLC0415
        from rilievo.core.report.page import Contents  # noqa: PLC0415
        from rilievo.core.report.study_report import collect_pictures, with_choices  # noqa: PLC0415
        from rilievo.core.study.study import StudyState  # noqa: PLC0415

        if all(outcome.table is None for outcome in outcomes):
            say("Nothing was measured; tables and report of an earlier run stay as they were.")
            return outcomes
        date = datetime.now().astimezone().isoformat(timespec="seconds")
        contents = Contents(
            outcomes, self.method, date=date, asked=self.asked, agreement=self.agreement
        )
        if self.options is not None:
            contents = replace(contents, options=self.options)
        if self.with_report:
            pictures, _ = collect_pictures(outcomes, StudyState(), Control(), most=_MOST_PICTURED)
            contents = replace(contents, pictures=pictures)
        if self.with_choices or self.agreement.is_made:
            self._tell("Comparing under other choices …")
            contents = with_choices(contents, all_choices=self.with_choices)
        if self.noise:
            contents = replace(contents, errors=self._write_errors(outcomes, out))
        if is_large(outcomes, self.method) and set(self.formats) - {".parquet"}:
            self._tell(
                f"Of {len(outcomes)} samples the regions are written as CSV and as a folder of "
                "Parquet files, in no other format."
            )
        return write_outputs(
            outcomes,
            self.method,
            out,
            formats=self.formats,
            as_wide=self.as_wide,
            report=contents,
            page=self.page,
            with_report=self.with_report,
        )

    def _write_labels(self, items: Sequence[BatchItem], method: Method, folder: Path) -> None:
        """Write label images of samples that were measured before, which left none now."""
        from rilievo.core.batch.item import on_this_machine, read_item  # noqa: PLC0415
        from rilievo.core.batch.label_files import write_labels  # noqa: PLC0415
        from rilievo.core.errors import RilievoError  # noqa: PLC0415
        from rilievo.core.pipeline.evaluator import Evaluator  # noqa: PLC0415

        evaluator = Evaluator()
        for item in items:
            try:
                with on_this_machine(item) as here:
                    sample = evaluator.prepared(read_item(here), method, item.declared)
                write_labels(evaluator, sample, method, folder)
            except RilievoError as exc:
                say(f"without label images: {item.name}: {exc}")

    def _write_errors(self, outcomes: Sequence[Outcome], out: Path) -> list[str]:
        """Write errors.csv, a row for each number; return them in words."""
        from rilievo.core.report.camera import errors_frame, errors_in_words  # noqa: PLC0415
        from rilievo.core.table.table import write_csv  # noqa: PLC0415

        self._tell("Finding the errors of all numbers …")
        items = [outcome.item for outcome in outcomes if outcome.failure is None]
        noise = None if self.noise == "stated" or not self.noise else self.noise
        frame, failures = errors_frame(items, self.method, noise)
        write_csv(frame, out / "errors.csv")
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
            Teller(0, json_lines=True).event(
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

    def watch(
        self, folders: Sequence[Path], items: list[BatchItem], given: Facts, told: set[str]
    ) -> None:
        """Measure files as they appear, until Ctrl+C.

        Rows are added to the tables at once; comparison and report are written when asked for
        (SIGUSR1), and at the end.
        """
        from rilievo.core.batch import items_for  # noqa: PLC0415
        from rilievo.core.files.folder_watch import FolderWatch  # noqa: PLC0415
        from rilievo.core.report.live_tables import add_rows, stands_alone  # noqa: PLC0415

        out = self.out
        if not folders or out is None:
            raise stop("--watch needs folders to watch and a folder for the results", WRONG_USAGE)
        known = [item.path for item in items]
        watches = [FolderWatch(folder, known) for folder in folders]
        self._tell(
            f"Watching {', '.join(str(folder) for folder in folders)}; Ctrl+C ends it. "
            f"The report is written then, or on “kill -USR1 {os.getpid()}”."
        )
        asked = threading.Event()
        with contextlib.suppress(ValueError):  # not on the main thread
            signal.signal(signal.SIGUSR1, lambda *_: asked.set())
        alone, every = stands_alone(self.method), items
        stale = False
        try:
            while True:
                start = time.monotonic()
                new = [path for watched in watches for path in watched.look()]
                looked = time.monotonic() - start
                if new:
                    known += new
                    every = with_rows(self.with_declared(items_for(known, folders)), given, told)
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
