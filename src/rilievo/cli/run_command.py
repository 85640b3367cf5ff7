"""`rilievo run`: a method over images, without a window; stopped and resumed at will."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from rilievo.cli.comparison_options import ComparisonOptions
from rilievo.cli.console import (
    INTERRUPTED,
    WRONG_USAGE,
    ProgressPrinter,
    failed_status,
    say,
    stop,
)
from rilievo.cli.image_inputs import AllowOutside, SampleOptions, local_paths, telling_names
from rilievo.cli.log_file import LogOptions
from rilievo.cli.overrides import MethodOptions, apply_overrides
from rilievo.cli.run_job import LABELS, MOST_PICTURED, STORE_NAME, Job, open_store
from rilievo.cli.sample_sheet import SampleSheet, apply_sample_sheet

if TYPE_CHECKING:
    from rilievo.core.batch import Measurer
    from rilievo.core.files.channel_preparation import MetadataOverrides
    from rilievo.core.files.sample_ref import SampleRef
    from rilievo.core.image.camera_noise import CameraNoise
    from rilievo.core.method.method import Method
    from rilievo.core.study.run_inputs import RunInputs


@dataclass(frozen=True, kw_only=True)
class OutputOptions:
    """What is written."""

    out: Annotated[
        Path,
        typer.Option(
            "--out", "-o", help="Folder for the results; “-” prints the regions as CSV instead."
        ),
    ]
    table: Annotated[
        list[str] | None,
        typer.Option("--table", help="Also write the regions as xlsx, json or parquet."),
    ] = None
    as_wide: Annotated[
        bool, typer.Option("--wide", help="These have a row per region, channels side by side.")
    ] = False
    report: Annotated[
        Path | None,
        typer.Option("--report", metavar="FILE", help="Another file for it, .html or .pdf."),
    ] = None
    no_report: Annotated[bool, typer.Option("--no-report", help="Write the tables alone.")] = False
    labels: Annotated[
        bool,
        typer.Option("--labels", help="Also write label images, in labels/CLASS/SAMPLE.tif."),
    ] = False
    errors: Annotated[
        bool, typer.Option("--errors", help="Also write the standard error of each number.")
    ] = False
    gain: Annotated[
        float | None, typer.Option("--gain", help="Electrons a count, where files do not say.")
    ] = None
    read_noise: Annotated[float, typer.Option("--read-noise", help="In electrons.")] = 0.0
    dark_level: Annotated[float, typer.Option("--dark-level", help="Counts without light.")] = 0.0

    @property
    def folder(self) -> Path | None:
        """Where results are written; None where regions are printed."""
        return None if str(self.out) == "-" else self.out

    def formats(self) -> list[str]:
        """Return the endings of further tables. Ends with wrong usage."""
        from rilievo.core.table.writers import WRITERS  # noqa: PLC0415

        suffixes = [writer.suffix for writer in WRITERS.values()]
        formats = [f".{name.lower().lstrip('.')}" for name in self.table or ()]
        unknown = [name.lstrip(".") for name in formats if name not in suffixes]
        if unknown:
            endings = ", ".join(suffix.lstrip(".") for suffix in suffixes)
            raise stop(f"“{unknown[0]}” is no kind of table; use {endings}", WRONG_USAGE)
        return formats

    def noise(self) -> CameraNoise | Literal["", "stated"]:
        """Return the camera's noise as typed, "stated" for that of the files, "" for no errors."""
        from rilievo.core.image.camera_noise import CameraNoise  # noqa: PLC0415

        if not self.errors:
            return ""
        return CameraNoise(self.gain, self.read_noise, self.dark_level) if self.gain else "stated"


@dataclass(frozen=True, kw_only=True)
class RunningOptions:
    """How it is run."""

    jobs: Annotated[
        int, typer.Option("--jobs", min=1, help="Worker processes, as far as they are worth it.")
    ] = 1
    scheduler: Annotated[
        str, typer.Option("--scheduler", metavar="ADDRESS", help="A Dask cluster that measures.")
    ] = ""
    memory: Annotated[
        int, typer.Option("--memory", min=1, help="MB that the workers may keep together.")
    ] = 512
    watch: Annotated[
        bool, typer.Option("--watch", help="Go on measuring files as they appear in the folders.")
    ] = False
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what would be measured.")] = (
        False
    )
    json_lines: Annotated[
        bool, typer.Option("--json-lines", help="Print an event a line as JSON.")
    ] = False
    agreed: Annotated[
        Path | None,
        typer.Option("--agreed", help="A method that was fixed beforehand: deviations are told."),
    ] = None
    allow_outside: AllowOutside = False

    def measurer(self, folder: Path | None) -> Measurer:
        """Return what measures, with the results of a folder. Raises FileUnreadable."""
        from rilievo.core.batch import Measurer, Resources  # noqa: PLC0415

        resources = Resources(
            jobs=self.jobs, scheduler=self.scheduler, memory=self.memory * 1_000_000
        )
        return Measurer(store=open_store(folder), resources=resources)


@dataclass(frozen=True)
class _Measured:
    """What is measured: the inputs as read, and their samples with what was typed of them."""

    inputs: RunInputs
    method: Method
    samples: list[SampleRef]
    overrides: MetadataOverrides
    sheet: SampleSheet
    rows_told: set[str]


def run(
    method_file: Annotated[
        str,
        typer.Argument(
            metavar="METHOD", help="A method (JSON), the name of one, or a study (.rilievo)."
        ),
    ],
    output: OutputOptions,
    running: RunningOptions,
    sampling: SampleOptions,
    settings: MethodOptions,
    comparison: ComparisonOptions,
    logging: LogOptions,
    images: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[IMAGE]...", help="Images or folders, also as URLs; not needed for a study."
        ),
    ] = None,
) -> None:
    """Measure images with a method, or a study, without a window.

    Samples that were measured before with the same method, and have not changed, are not measured
    again; those that failed are tried again.
    """
    from rilievo.core.errors import Cancelled, RilievoError  # noqa: PLC0415

    logging.begin()
    words = images or []
    _check_usage(words, output, running, sampling, comparison)
    is_told = not (sampling.names or running.json_lines or logging.quiet)
    measured = _inputs(method_file, words, running, sampling, settings, tell=is_told)
    if running.dry_run:
        _tell_dry(measured, output.out, json_lines=running.json_lines)
        return
    comparison.check_reference(item.group or "no group" for item in measured.samples)
    folder = output.folder
    try:
        with running.measurer(folder) as measurer:
            job = _job(measured, measurer, output, running, comparison, quiet=logging.quiet)
            results = job.measure(measured.samples)
            outcomes = job.print_regions(results) if folder is None else job.write(results, folder)
            good, failed = job.finish(outcomes)
            if running.watch:
                folders = [path for path in local_paths(words) if path.is_dir()]
                job.watch(folders, measured.sheet, measured.rows_told)
    except (KeyboardInterrupt, Cancelled) as exc:
        say("Stopped; what was measured is kept, and the same command goes on from there.")
        raise typer.Exit(INTERRUPTED) from exc
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if failed:
        raise typer.Exit(failed_status(good, failed))


def _inputs(
    method_file: str,
    words: Sequence[str],
    running: RunningOptions,
    sampling: SampleOptions,
    settings: MethodOptions,
    *,
    tell: bool,
) -> _Measured:
    """What the command is given, read and checked. Ends with wrong usage."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.study.run_inputs import check_method, read_run_inputs  # noqa: PLC0415

    overrides = settings.overrides()
    try:
        inputs = read_run_inputs(method_file, running.agreed, allow=running.allow_outside)
        method = settings.changed(inputs.method)
        sheet = sampling.sheet()
        if not words and not inputs.samples:
            raise stop("name the images or folders to be measured", WRONG_USAGE)
        samples = sampling.samples(words) if words else list(inputs.samples)
        if not running.allow_outside and not inputs.samples:
            # What is typed on the command line is the user's own.
            names = [ref.name for ref in samples]
            check_method(inputs.path, inputs.method, local_paths(words), names)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if words:
        _tell_reading(samples, watch=running.watch, quiet=not tell)
    rows_told: set[str] = set()
    items = apply_overrides(apply_sample_sheet(samples, sheet, rows_told), overrides)
    if not running.watch:
        sampling.check_rows(rows_told)
    return _Measured(inputs, method, items, overrides, sheet, rows_told)


def _job(
    measured: _Measured,
    measurer: Measurer,
    output: OutputOptions,
    running: RunningOptions,
    comparison: ComparisonOptions,
    *,
    quiet: bool,
) -> Job:
    """What measures and writes."""
    from rilievo.core.batch import RunRequest  # noqa: PLC0415
    from rilievo.core.report.outputs import FilesWanted  # noqa: PLC0415
    from rilievo.core.report.page import Contents  # noqa: PLC0415

    inputs, folder, with_report = measured.inputs, output.folder, not output.no_report
    return Job(
        measurer=measurer,
        request=RunRequest(
            samples=measured.samples,
            methods=(measured.method,),
            pictures=MOST_PICTURED if with_report and folder is not None else 0,
            labels=folder / LABELS if output.labels and folder is not None else None,
        ),
        contents=Contents(
            (), measured.method, options=inputs.options, question=inputs.question,
            asked=comparison.question_fields(), preregistration=inputs.preregistration,
        ),
        files=FilesWanted(
            formats=output.formats(), as_wide=output.as_wide, page=output.report,
            with_report=with_report,
        ),
        out=folder,
        noise=output.noise(),
        with_choices=comparison.choices,
        overrides=measured.overrides,
        json_lines=running.json_lines,
        quiet=quiet,
    )  # fmt: skip


def _check_usage(
    images: Sequence[str],
    output: OutputOptions,
    running: RunningOptions,
    sampling: SampleOptions,
    comparison: ComparisonOptions,
) -> None:
    """End with wrong usage where options do not go together."""
    comparison.question_fields()  # ends where these do not go together
    formats, has_urls = output.formats(), len(local_paths(images)) < len(images)
    if sampling.planes != "channels" and running.watch:
        raise stop("--planes and --watch do not go together; leave one out", WRONG_USAGE)
    if sampling.names and (running.watch or has_urls):
        raise stop("--names is for files of this machine, without --watch", WRONG_USAGE)
    if output.report is not None and output.report.suffix.lower() not in (".html", ".pdf"):
        raise stop(f"“{output.report.name}” must end in .html or .pdf", WRONG_USAGE)
    if running.watch and has_urls:
        raise stop("--watch looks at folders of this machine, not at URLs", WRONG_USAGE)
    others = (
        running.json_lines, running.watch, running.dry_run, output.labels, output.report, formats,
        output.errors, comparison.choices,
    )  # fmt: skip
    if output.folder is None and any(others):
        raise stop("“--out -” prints the regions as CSV and goes with no other output", WRONG_USAGE)


def _tell_reading(items: Sequence[SampleRef], *, watch: bool, quiet: bool) -> None:
    """Say where names look as if several files were one sample; end where there is none."""
    if not items and not watch:
        raise stop("the folders hold no image; name image files or other folders", WRONG_USAGE)
    if quiet:
        return
    pattern = telling_names([item.path for item in items if not item.url])
    if pattern:
        say(f"Each file is a sample. Names look like “{pattern}”: --names '{pattern}' joins them.")


def _tell_dry(measured: _Measured, out: Path, *, json_lines: bool) -> None:
    from rilievo.core.batch import Measurer, ResultStore  # noqa: PLC0415

    items = measured.samples
    store = ResultStore(out / STORE_NAME) if (out / STORE_NAME).is_file() else ResultStore()
    with Measurer(store=store) as measurer:
        unfinished = set(measurer.unfinished(items, measured.method))
    teller = ProgressPrinter(len(items), json_lines=json_lines)
    for index, item in enumerate(items):
        status = "to measure" if index in unfinished else "unchanged"
        teller.event("sample", sample=item.name, file=item.place, group=item.group, status=status)
        if not json_lines:
            typer.echo(f"{item.name}\t{item.group or 'no group'}\t{status}\t{item.place}")
    if not json_lines:
        typer.echo(f"{len(unfinished)} of {len(items)} samples would be measured, into {out}")
