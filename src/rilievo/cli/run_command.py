"""`rilievo run`: a method over images, without a window; stopped and resumed at will."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from rilievo.cli.comparison_options import (
    Anew,
    Block,
    Bootstrap,
    Choices,
    Factor,
    Modelled,
    Reference,
    Unit,
    Within,
    check_reference,
    question_fields,
)
from rilievo.cli.console import (
    INTERRUPTED,
    UNMATCHED,
    WRONG_USAGE,
    ProgressPrinter,
    failed_status,
    say,
    stop,
)
from rilievo.cli.image_inputs import (
    AllowOutside,
    Groups,
    Names,
    Planes,
    Unmatched,
    by_plane,
    local_paths,
    named_items,
    telling_names,
)
from rilievo.cli.log_file import LogFile, Verbose, begin_log
from rilievo.cli.overrides import (
    Channels,
    Columns,
    PixelSize,
    Saturation,
    Set,
    apply_overrides,
    changed_method,
    overrides_of,
)
from rilievo.cli.run_job import LABELS, MOST_PICTURED, STORE_NAME, Job, open_store
from rilievo.cli.sample_sheet import apply_sample_sheet, read_facts

if TYPE_CHECKING:
    from rilievo.core.files.sample_ref import SampleRef
    from rilievo.core.image.camera_noise import CameraNoise
    from rilievo.core.method.method import Method
    from rilievo.core.study.run_inputs import RunInputs


def run(
    method_file: Annotated[
        str,
        typer.Argument(
            metavar="METHOD", help="A method (JSON), the name of one, or a study (.rilievo)."
        ),
    ],
    out: Annotated[
        Path,
        typer.Option(
            "--out", "-o", help="Folder for the results; “-” prints the regions as CSV instead."
        ),
    ],
    images: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[IMAGE]...", help="Images or folders, also as URLs; not needed for a study."
        ),
    ] = None,
    jobs: Annotated[
        int, typer.Option("--jobs", min=1, help="Worker processes, as far as they are worth it.")
    ] = 1,
    scheduler: Annotated[
        str, typer.Option("--scheduler", metavar="ADDRESS", help="A Dask cluster that measures.")
    ] = "",
    groups: Groups = None,
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
    names: Names = "",
    planes: Planes = "channels",
    unmatched: Unmatched = False,
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
    sets: Set = None,
    channels: Channels = "",
    columns: Columns = "",
    pixel_size: PixelSize = "",
    saturation: Saturation = None,
    labels: Annotated[
        bool,
        typer.Option("--labels", help="Also write label images, in labels/CLASS/SAMPLE.tif."),
    ] = False,
    quiet: Annotated[bool, typer.Option("--quiet", "-q", help="Say only what went wrong.")] = False,
    verbose: Verbose = False,
    log: LogFile = None,
    allow_outside: AllowOutside = False,
) -> None:
    """Measure images with a method, or a study, without a window.

    Samples that were measured before with the same method, and have not changed, are not measured
    again; those that failed are tried again.
    """
    from rilievo.core.batch import Measurer, Resources, RunRequest  # noqa: PLC0415
    from rilievo.core.errors import Cancelled, RilievoError  # noqa: PLC0415
    from rilievo.core.report.outputs import FilesWanted  # noqa: PLC0415
    from rilievo.core.report.page import Contents  # noqa: PLC0415
    from rilievo.core.study.run_inputs import check_method, read_run_inputs  # noqa: PLC0415

    begin_log(log, verbose=verbose)
    formats = _formats(table or ())
    asked = question_fields(
        reference, unit, factor, block, within, modelled=modelled, anew=anew, bootstrap=bootstrap
    )
    words = images or []
    paths = local_paths(words)
    folder = None if str(out) == "-" else out
    _check_usage(words, paths, report, names, planes, watch=watch)
    others = (json_lines, watch, dry_run, labels, report, formats, errors, choices)
    _check_printed(folder, any(others))
    overrides = overrides_of(pixel_size, saturation)
    try:
        what = read_run_inputs(method_file, agreed, allow=allow_outside)
        method = changed_method(what.method, sets or (), channels, columns)
        given = read_facts(groups) if groups else {}
        samples = _samples_of(what, words, names, planes)
        if not allow_outside and not what.samples:
            # What is typed on the command line is the user's own.
            check_method(what.path, what.method, paths, [ref.name for ref in samples])
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if words:
        _tell_reading(samples, watch=watch, quiet=bool(names) or json_lines or quiet)
    rows_told: set[str] = set()
    items = apply_overrides(apply_sample_sheet(samples, given, rows_told), overrides)
    _check_rows(rows_told, allow=unmatched or watch)
    if dry_run:
        _tell_dry(items, method, out, json_lines=json_lines)
        return
    check_reference(reference, (item.group or "no group" for item in items))
    try:
        with Measurer(
            store=open_store(folder),
            resources=Resources(jobs=jobs, scheduler=scheduler, memory=memory * 1_000_000),
        ) as measurer:
            job = Job(
                measurer=measurer,
                request=RunRequest(
                    samples=items,
                    methods=(method,),
                    pictures=0 if no_report or folder is None else MOST_PICTURED,
                    labels=folder / LABELS if labels and folder is not None else None,
                ),
                contents=Contents(
                    (), method, options=what.options, question=what.question, asked=asked,
                    preregistration=what.preregistration,
                ),
                files=FilesWanted(
                    formats=formats, as_wide=as_wide, page=report, with_report=not no_report
                ),
                out=folder,
                noise=_errors_asked(gain, read_noise, dark_level, errors=errors),
                with_choices=choices,
                overrides=overrides,
                json_lines=json_lines,
                quiet=quiet,
            )  # fmt: skip
            results = job.measure(items)
            outcomes = job.print_regions(results) if folder is None else job.write(results, folder)
            good, failed = job.finish(outcomes)
            if watch:
                job.watch([path for path in paths if path.is_dir()], given, rows_told)
    except (KeyboardInterrupt, Cancelled) as exc:
        say("Stopped; what was measured is kept, and the same command goes on from there.")
        raise typer.Exit(INTERRUPTED) from exc
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if failed:
        raise typer.Exit(failed_status(good, failed))


def _samples_of(what: RunInputs, words: Sequence[str], names: str, planes: str) -> list[SampleRef]:
    """The images that are named, or those of a study. Raises a FileError, RemoteError."""
    from rilievo.core.files.sample_ref import samples_below  # noqa: PLC0415

    if words:
        named = named_items(local_paths(words), names) if names else samples_below(words)
        return by_plane(named, planes)
    if not what.samples:
        raise stop("name the images or folders to be measured", WRONG_USAGE)
    return list(what.samples)


def _errors_asked(
    gain: float | None, read_noise: float, dark: float, *, errors: bool
) -> CameraNoise | Literal["", "stated"]:
    """The noise of the camera as typed, "stated" for that of the files, "" for no errors."""
    from rilievo.core.image.camera_noise import CameraNoise  # noqa: PLC0415

    if not errors:
        return ""
    return CameraNoise(gain, read_noise, dark) if gain else "stated"


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


def _check_printed(folder: Path | None, others: bool) -> None:
    if folder is None and others:
        raise stop("“--out -” prints the regions as CSV and goes with no other output", WRONG_USAGE)


def _check_rows(rows_told: Collection[str], *, allow: bool) -> None:
    """End where rows do not fit the files."""
    if rows_told and not allow:
        hint = "mend the table, or go on with --unmatched"
        raise stop(f"rows and files do not fit together; {hint}", UNMATCHED)


def _tell_reading(items: Sequence[SampleRef], *, watch: bool, quiet: bool) -> None:
    """Say where names look as if several files were one sample; end where there is none."""
    if not items and not watch:
        raise stop("the folders hold no image; name image files or other folders", WRONG_USAGE)
    if quiet:
        return
    pattern = telling_names([item.path for item in items if not item.url])
    if pattern:
        say(f"Each file is a sample. Names look like “{pattern}”: --names '{pattern}' joins them.")


def _formats(names: Sequence[str]) -> list[str]:
    from rilievo.core.table.writers import WRITERS  # noqa: PLC0415

    suffixes = [writer.suffix for writer in WRITERS.values()]
    formats = [f".{name.lower().lstrip('.')}" for name in names]
    unknown = [name for name in formats if name not in suffixes]
    if unknown:
        endings = ", ".join(suffix.lstrip(".") for suffix in suffixes)
        raise stop(f"“{unknown[0].lstrip('.')}” is no kind of table; use {endings}", WRONG_USAGE)
    return formats


def _tell_dry(items: Sequence[SampleRef], method: Method, out: Path, *, json_lines: bool) -> None:
    from rilievo.core.batch import Measurer, ResultStore  # noqa: PLC0415

    store = ResultStore(out / STORE_NAME) if (out / STORE_NAME).is_file() else ResultStore()
    with Measurer(store=store) as measurer:
        unfinished = set(measurer.unfinished(items, method))
    teller = ProgressPrinter(len(items), json_lines=json_lines)
    for index, item in enumerate(items):
        status = "to measure" if index in unfinished else "unchanged"
        teller.event("sample", sample=item.name, file=item.place, group=item.group, status=status)
        if not json_lines:
            typer.echo(f"{item.name}\t{item.group or 'no group'}\t{status}\t{item.place}")
    if not json_lines:
        typer.echo(f"{len(unfinished)} of {len(items)} samples would be measured, into {out}")
