"""`rilievo run`: a method over images, without a window; stopped and resumed at will."""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from rilievo.cli.asking import (
    Anew,
    Block,
    Bootstrap,
    Choices,
    Factor,
    Modelled,
    Reference,
    Unit,
    Within,
    asked_of,
    check_reference,
)
from rilievo.cli.facts import Facts, read_facts, with_facts
from rilievo.cli.given_images import (
    by_plane,
    given_items,
    local_paths,
    named_items,
    telling_names,
)
from rilievo.cli.given_words import method_of
from rilievo.cli.saying import (
    INTERRUPTED,
    SOME_FAILED,
    UNMATCHED,
    WRONG_USAGE,
    Teller,
    prepare_loops,
    say,
    stop,
)
from rilievo.cli.trust import AllowOutside, check_method

if TYPE_CHECKING:
    from rilievo.core.batch import BatchItem, Outcome, Results, ResultStore
    from rilievo.core.image.camera_noise import CameraNoise
    from rilievo.core.method.method import Method
    from rilievo.core.study.agreement import Agreement

# Results are kept here, so that the same command goes on where it was stopped.
STORE_NAME = "results.sqlite"
# So many samples have their pictures in the report; `rilievo report` shows more.
_MOST_PICTURED = 60
_LOOK_EVERY = 0.25


def run(
    method_file: Annotated[
        str, typer.Argument(metavar="METHOD", help="A method (JSON), or the name of one.")
    ],
    images: Annotated[
        list[str], typer.Argument(metavar="IMAGE...", help="Images or folders, also as URLs.")
    ],
    out: Annotated[Path, typer.Option("--out", help="Folder for the results.")],
    jobs: Annotated[int, typer.Option("--jobs", min=1, help="Worker processes.")] = 1,
    scheduler: Annotated[
        str, typer.Option("--scheduler", metavar="ADDRESS", help="A Dask cluster that measures.")
    ] = "",
    groups: Annotated[
        Path | None,
        typer.Option(
            "--groups", help="CSV with the columns file and group; others are attributes."
        ),
    ] = None,
    table: Annotated[
        list[str] | None,
        typer.Option("--table", help="Also write the regions as xlsx, json or parquet."),
    ] = None,
    as_wide: Annotated[
        bool, typer.Option("--wide", help="These have a row per region, channels side by side.")
    ] = False,
    memory: Annotated[
        int, typer.Option("--memory", min=1, help="MB that the workers may keep together.")
    ] = 512,
    names: Annotated[
        str,
        typer.Option(
            "--names",
            metavar="PATTERN",
            help="How names become samples, such as {group}_{replicate#}_{channel}.",
        ),
    ] = "",
    planes: Annotated[
        str,
        typer.Option(
            "--planes",
            metavar="CHOICE",
            help="How planes in depth and time are taken: channels, each, z, time, “max of z” …",
        ),
    ] = "channels",
    unmatched: Annotated[
        bool,
        typer.Option(
            "--unmatched", help="Go on where rows of --groups and the files do not fit together."
        ),
    ] = False,
    watch: Annotated[
        bool, typer.Option("--watch", help="Go on measuring files as they appear in the folders.")
    ] = False,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Only say what would be measured.")
    ] = False,
    json_lines: Annotated[
        bool, typer.Option("--json-lines", help="Print an event a line as JSON.")
    ] = False,
    report: Annotated[
        Path | None,
        typer.Option("--report", metavar="FILE", help="Another file for it, .html or .pdf."),
    ] = None,
    no_report: Annotated[bool, typer.Option("--no-report", help="Write the tables alone.")] = False,
    reference: Reference = "",
    unit: Unit = "",
    factor: Factor = "",
    block: Block = None,
    within: Within = None,
    modelled: Modelled = False,
    anew: Anew = False,
    bootstrap: Bootstrap = False,
    choices: Choices = False,
    errors: Annotated[
        bool, typer.Option("--errors", help="Also write the standard error of each number.")
    ] = False,
    gain: Annotated[
        float | None, typer.Option("--gain", help="Electrons a count, where files do not say.")
    ] = None,
    read_noise: Annotated[float, typer.Option("--read-noise", help="In electrons.")] = 0.0,
    dark_level: Annotated[float, typer.Option("--dark-level", help="Counts without light.")] = 0.0,
    agreed: Annotated[
        Path | None,
        typer.Option("--agreed", help="A method that was fixed beforehand: deviations are told."),
    ] = None,
    allow_outside: AllowOutside = False,
) -> None:
    """Measure images with a method, without a window.

    Samples that were measured before with the same method, and have not changed, are not measured
    again; those that failed are tried again.
    """
    from rilievo.core.errors import Cancelled, RilievoError  # noqa: PLC0415

    formats = _formats(table or ())
    asked = asked_of(
        reference, unit, factor, block, within, modelled=modelled, anew=anew, bootstrap=bootstrap
    )
    paths = local_paths(images)
    _check_usage(images, paths, report, names, planes, watch=watch)
    try:
        method, method_path = method_of(method_file)
        agreement = _agreement_of(agreed)
        given = read_facts(groups) if groups else {}
        found = by_plane(named_items(paths, names) if names else given_items(images), planes)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if not found and not watch:
        raise stop("the folders hold no image; name image files or other folders", WRONG_USAGE)
    if not names and not json_lines:
        _tell_reading(found)
    told: set[str] = set()
    items = _with_rows(found, given, told)
    if told and not unmatched and not watch:
        hint = "mend the table, or go on with --unmatched"
        raise stop(f"rows and files do not fit together; {hint}", UNMATCHED)
    if not allow_outside:
        try:
            check_method(method_path, method, paths, [item.name for item in items])
        except RilievoError as exc:
            raise stop(str(exc), WRONG_USAGE) from exc
    if dry_run:
        _tell_dry(items, method, out, json_lines=json_lines)
        return
    check_reference(reference, (item.group or "no group" for item in items))
    try:
        store = _open_store(out)
        job = _Job(
            method, store, out, jobs, scheduler, memory, formats, as_wide, json_lines,
            report, asked, agreement,
            _errors_asked(gain, read_noise, dark_level, errors=errors),
            with_report=not no_report, with_choices=choices,
        )  # fmt: skip
        outcomes = job.write(job.measure(items))
        failed = job.finish(outcomes)
        if watch:
            job.watch([path for path in paths if path.is_dir()], items, given, told)
    except (KeyboardInterrupt, Cancelled) as exc:
        say("Stopped; what was measured is kept, and the same command goes on from there.")
        raise typer.Exit(INTERRUPTED) from exc
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if failed:
        raise typer.Exit(SOME_FAILED)


def _errors_asked(
    gain: float | None, read_noise: float, dark: float, *, errors: bool
) -> CameraNoise | Literal["", "stated"]:
    """The noise of the camera as typed, "stated" for that of the files, "" for no errors."""
    from rilievo.core.image.camera_noise import CameraNoise  # noqa: PLC0415

    if not errors:
        return ""
    return CameraNoise(gain, read_noise, dark) if gain else "stated"


def _agreement_of(path: Path | None) -> Agreement:
    """A method file as what was agreed when it was written. Raises MethodError, FileError."""
    from datetime import datetime  # noqa: PLC0415

    from rilievo.core.method.method import Method  # noqa: PLC0415
    from rilievo.core.study.agreement import Agreement  # noqa: PLC0415

    if path is None:
        return Agreement()
    method = Method.load(path)
    written = datetime.fromtimestamp(path.stat().st_mtime).astimezone()
    return Agreement(written.isoformat(timespec="seconds"), method)


def _open_store(out: Path) -> ResultStore:
    """Make the folder of the results with their store. Raises FileUnreadable."""
    from rilievo.core.atomic_write import cannot_write  # noqa: PLC0415
    from rilievo.core.batch import ResultStore  # noqa: PLC0415

    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(out, exc) from exc
    return ResultStore(out / STORE_NAME)


def _check_usage(
    images: Sequence[str],
    paths: Sequence[Path],
    report: Path | None,
    names: str,
    planes: str,
    *,
    watch: bool,
) -> None:
    if planes != "channels" and watch:
        raise stop("--planes and --watch do not go together; leave one out", WRONG_USAGE)
    if names and (watch or len(paths) < len(images)):
        raise stop("--names is for files of this machine, without --watch", WRONG_USAGE)
    if report is not None and report.suffix.lower() not in (".html", ".pdf"):
        raise stop(f"“{report.name}” must end in .html or .pdf", WRONG_USAGE)
    if watch and len(paths) < len(images):
        raise stop("--watch looks at folders of this machine, not at URLs", WRONG_USAGE)


def _tell_reading(items: Sequence[BatchItem]) -> None:
    """Say where names look as if several files were one sample."""
    pattern = telling_names([item.path for item in items if not item.url])
    if pattern:
        say(f"Each file is a sample. Names look like “{pattern}”: --names '{pattern}' joins them.")


class _Job:
    """One call of the command."""

    def __init__(
        self,
        method: Method,
        store: ResultStore,
        out: Path,
        jobs: int,
        scheduler: str,
        memory: int,
        formats: Sequence[str],
        as_wide: bool,
        json_lines: bool,
        page: Path | None,
        asked: Mapping[str, Any],
        agreement: Agreement,
        noise: CameraNoise | Literal["", "stated"],
        *,
        with_report: bool,
        with_choices: bool,
    ) -> None:
        self._agreement, self._noise = agreement, noise
        self._asked, self._with_choices = asked, with_choices
        self._page, self._with_report = page, with_report
        self._method, self._store, self._out = method, store, out
        self._jobs, self._scheduler, self._memory = jobs, scheduler, memory * 1_000_000
        self._formats, self._as_wide, self._json = formats, as_wide, json_lines

    def measure(self, items: Sequence[BatchItem]) -> Results:
        from rilievo.core.batch import run_batch  # noqa: PLC0415

        prepare_loops()
        with Teller(len(items), json_lines=self._json) as teller:
            teller.event("begin", samples=len(items))
            return run_batch(
                items,
                self._method,
                jobs=self._jobs,
                scheduler=self._scheduler,
                store=self._store,
                report=teller,
                memory=self._memory,
                pictures=_MOST_PICTURED if self._with_report else 0,
            )

    def write(self, outcomes: Results) -> Sequence[Outcome]:
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
            outcomes, self._method, date=date, asked=self._asked, agreement=self._agreement
        )
        if self._with_report:
            pictures, _ = collect_pictures(outcomes, StudyState(), Control(), most=_MOST_PICTURED)
            contents = replace(contents, pictures=pictures)
        if self._with_choices or self._agreement.is_made:
            say("Comparing under other choices …")
            contents = with_choices(contents, all_choices=self._with_choices)
        if self._noise:
            contents = replace(contents, errors=self._write_errors(outcomes))
        if is_large(outcomes, self._method) and set(self._formats) - {".parquet"}:
            say(
                f"Of {len(outcomes)} samples the regions are written as CSV and as a folder of "
                "Parquet files, in no other format."
            )
        return write_outputs(
            outcomes,
            self._method,
            self._out,
            formats=self._formats,
            as_wide=self._as_wide,
            report=contents,
            page=self._page,
            with_report=self._with_report,
        )

    def _write_errors(self, outcomes: Sequence[Outcome]) -> list[str]:
        """Write errors.csv, a row for each number; return them in words."""
        from rilievo.core.report.camera import errors_frame, errors_in_words  # noqa: PLC0415
        from rilievo.core.table.table import write_csv  # noqa: PLC0415

        say("Finding the errors of all numbers …")
        items = [outcome.item for outcome in outcomes if outcome.failure is None]
        noise = None if self._noise == "stated" or not self._noise else self._noise
        frame, failures = errors_frame(items, self._method, noise)
        write_csv(frame, self._out / "errors.csv")
        for name, why in failures.items():
            say(f"without errors: {name}: {why}")
        return errors_in_words(frame)

    def finish(self, outcomes: Sequence[Outcome]) -> bool:
        """Say what became of all; return whether some failed."""
        failures, regions = [], 0
        for outcome in outcomes:
            if outcome.failure is not None:
                failures.append(f"{outcome.item.label}: {outcome.failure}")
            elif outcome.table is not None:
                regions += int(outcome.table.ids.size)
        good = len(outcomes) - len(failures)
        if self._json:
            Teller(0, json_lines=True).event(
                "end", measured=good, failed=len(failures), regions=regions, out=str(self._out)
            )
        else:
            where = f", {regions} regions: {self._out / 'regions.csv'}" if good else ""
            typer.echo(f"{good} of {len(outcomes)} samples measured{where}")
        for failure in failures:
            say(f"not measured: {failure}")
        return bool(failures)

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

        if not folders:
            raise stop("--watch needs a folder to watch", WRONG_USAGE)
        known = [item.path for item in items]
        watches = [FolderWatch(folder, known) for folder in folders]
        say(
            f"Watching {', '.join(str(folder) for folder in folders)}; Ctrl+C ends it. "
            f"The report is written then, or on “kill -USR1 {os.getpid()}”."
        )
        asked = threading.Event()
        with contextlib.suppress(ValueError):  # not on the main thread
            signal.signal(signal.SIGUSR1, lambda *_: asked.set())
        alone, every = stands_alone(self._method), items
        stale = False
        try:
            while True:
                start = time.monotonic()
                new = [path for watched in watches for path in watched.look()]
                looked = time.monotonic() - start
                if new:
                    known += new
                    every = _with_rows(items_for(known, folders), given, told)
                    outcomes = self.measure(every[-len(new) :] if alone else every)
                    stale = alone and add_rows(outcomes, self._method, self._out)
                    if not stale:
                        self.write(self.measure(every) if alone else outcomes)
                    self.finish(outcomes)
                if asked.is_set():
                    asked.clear()
                    self.write(self.measure(every))
                    stale = False
                # A large folder takes a while to look through; the rest of the time is its own.
                time.sleep(max(_LOOK_EVERY, 2 * looked))
        except KeyboardInterrupt:
            if stale:
                say("Writing the report …")
                self.write(self.measure(every))
            raise


def _with_rows(items: list[BatchItem], given: Facts, told: set[str]) -> list[BatchItem]:
    """The items with what a table says of them; what does not fit and was not told yet is said."""
    if not given:
        return items
    items, unfitting = with_facts(items, given)
    for text in unfitting:
        if text not in told:
            say(f"rilievo: {text}")
    told.update(unfitting)
    return items


def _formats(names: Sequence[str]) -> list[str]:
    from rilievo.core.table.writers import WRITERS  # noqa: PLC0415

    suffixes = [writer.suffix for writer in WRITERS.values()]
    formats = [f".{name.lower().lstrip('.')}" for name in names]
    unknown = [name for name in formats if name not in suffixes]
    if unknown:
        known = ", ".join(suffix.lstrip(".") for suffix in suffixes)
        raise stop(f"“{unknown[0].lstrip('.')}” is no kind of table; use {known}", WRONG_USAGE)
    return formats


def _tell_dry(items: Sequence[BatchItem], method: Method, out: Path, *, json_lines: bool) -> None:
    from rilievo.core.batch import ResultStore, unfinished  # noqa: PLC0415

    store = ResultStore(out / STORE_NAME) if (out / STORE_NAME).is_file() else ResultStore()
    wanted = set(unfinished(items, method, store))
    teller = Teller(len(items), json_lines=json_lines)
    for index, item in enumerate(items):
        status = "to measure" if index in wanted else "unchanged"
        teller.event("sample", sample=item.name, file=item.place, group=item.group, status=status)
        if not json_lines:
            typer.echo(f"{item.name}\t{item.group or 'no group'}\t{status}\t{item.place}")
    if not json_lines:
        typer.echo(f"{len(wanted)} of {len(items)} samples would be measured, into {out}")
