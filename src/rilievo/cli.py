"""The command line: the window, the demo, a method over images, facts about images.

    rilievo [STUDY | IMAGE…]                  the window
    rilievo demo [SET] [--dir DIR] [--headless]
    rilievo run METHOD IMAGE… --out DIR       a method over images, no window
    rilievo info IMAGE… [--json]

Exit status: 0 done; 1 some samples failed; 2 wrong usage.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from rilievo._version import __version__

if TYPE_CHECKING:
    from rilievo.core.batch import Outcome

SOME_FAILED, WRONG_USAGE = 1, 2

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help="Measure pixel intensities in grayscale photographs.",
)


def main() -> None:
    """Run the command line; words that are no command are files to open."""
    arguments = sys.argv[1:]
    options = {"--help", "--version"}
    if not arguments or arguments[0] not in {*_commands(), *options}:
        arguments = ["open", *arguments]
    app(arguments, prog_name="rilievo")


def _commands() -> set[str]:
    return {command.name or "" for command in app.registered_commands}


def _say(text: str) -> None:
    typer.echo(text, err=True)


def _stop(text: str, status: int) -> typer.Exit:
    _say(f"rilievo: {text}")
    return typer.Exit(status)


@app.callback(invoke_without_command=True)
def _root(
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
) -> None:
    if version:
        typer.echo(__version__)
        raise typer.Exit


@app.command("open")
def open_window(
    files: Annotated[list[Path] | None, typer.Argument(help="A study, or images.")] = None,
) -> None:
    """Open the window, with a study or images."""
    from rilievo.ui.app import run_window  # noqa: PLC0415 (loads Qt)

    raise typer.Exit(run_window(files or []))


@app.command("demo")
def demo(
    name: Annotated[str, typer.Argument(metavar="SET", help="Which set.")] = "lipid",
    folder: Annotated[
        Path | None, typer.Option("--dir", help="Where to write it (default: your data folder).")
    ] = None,
    headless: Annotated[
        bool, typer.Option("--headless", help="Measure it here and print how near it came.")
    ] = False,
) -> None:
    """Write the made-up data and open it, or measure it without a window."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.demo.sets import DEMO_SETS, write_demo_study  # noqa: PLC0415

    if name not in DEMO_SETS:
        raise _stop(f"there is no set “{name}”; the sets are {', '.join(DEMO_SETS)}", WRONG_USAGE)
    if folder is None:
        import platformdirs  # noqa: PLC0415

        folder = Path(platformdirs.user_data_dir("rilievo")) / "demo"
    try:
        study, images = write_demo_study(name, folder / name)
        _say(f"Wrote {len(images)} images and the study {study}")
        if headless:
            _measure_demo(name, images, folder / name)
            return
    except RilievoError as exc:
        raise _stop(str(exc), WRONG_USAGE) from exc
    open_window([study])


def _measure_demo(name: str, images: list[Path], folder: Path) -> None:
    from rilievo.core.batch import items_for, measured, run_batch  # noqa: PLC0415
    from rilievo.core.picks import specimen_frame  # noqa: PLC0415
    from rilievo.core.report.outputs import write_outputs  # noqa: PLC0415
    from rilievo.core.table import region_frame  # noqa: PLC0415
    from rilievo.demo.sets import DEMO_SETS  # noqa: PLC0415

    method = DEMO_SETS[name].method(folder.absolute())
    outcomes = run_batch(items_for(images), method)
    write_outputs(outcomes, method, folder / "results")
    specimens = specimen_frame([row for outcome in outcomes for row in outcome.picks])
    regions = region_frame(measured(outcomes))
    for line in DEMO_SETS[name].compared(folder, regions, specimens):
        typer.echo(line)
    typer.echo(f"Results: {folder / 'results' / 'report.html'}")


@app.command("run")
def run(
    method_file: Annotated[Path, typer.Argument(metavar="METHOD", help="A method (JSON).")],
    images: Annotated[list[Path], typer.Argument(metavar="IMAGE...", help="Images or folders.")],
    out: Annotated[Path, typer.Option("--out", help="Folder for the results.")],
    jobs: Annotated[int, typer.Option("--jobs", min=1, help="Worker processes.")] = 1,
    groups: Annotated[
        Path | None, typer.Option("--groups", help="CSV with the columns file and group.")
    ] = None,
    table: Annotated[
        list[str] | None,
        typer.Option("--table", help="Also write the regions as xlsx, json or parquet."),
    ] = None,
    as_wide: Annotated[
        bool, typer.Option("--wide", help="These have a row per region, channels side by side.")
    ] = False,
) -> None:
    """Measure images with a method, without a window."""
    from rilievo.core.batch import items_for, run_batch  # noqa: PLC0415
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.files import images_below  # noqa: PLC0415
    from rilievo.core.method import Method  # noqa: PLC0415
    from rilievo.core.report.outputs import write_outputs  # noqa: PLC0415
    from rilievo.core.table_files import FORMATS  # noqa: PLC0415

    formats = [f".{name.lower().lstrip('.')}" for name in table or ()]
    unknown = [name for name in formats if name not in FORMATS]
    if unknown:
        known = ", ".join(suffix.lstrip(".") for suffix in FORMATS)
        raise _stop(f"“{unknown[0].lstrip('.')}” is no kind of table; use {known}", WRONG_USAGE)
    try:
        method = Method.load(method_file)
        given = _read_groups(groups) if groups else None
    except RilievoError as exc:
        raise _stop(str(exc), WRONG_USAGE) from exc
    files = images_below(images)
    if not files:
        raise _stop("the folders hold no image; name image files or other folders", WRONG_USAGE)

    progress = _Progress(len(files))
    outcomes = run_batch(items_for(files, given), method, jobs=jobs, report=progress)
    try:
        write_outputs(outcomes, method, out, formats=formats, as_wide=as_wide)
    except RilievoError as exc:
        raise _stop(str(exc), WRONG_USAGE) from exc
    _finish(outcomes, out)


class _Progress:
    """One changing line on a terminal, silence elsewhere."""

    def __init__(self, total: int) -> None:
        self._total = total
        self._shown = sys.stderr.isatty()

    def __call__(self, fraction: float) -> None:
        if self._shown:
            end = "\n" if fraction >= 1 else ""
            typer.echo(f"\r{round(fraction * self._total)} of {self._total}", nl=False, err=True)
            typer.echo(end, nl=False, err=True)


def _finish(outcomes: list[Outcome], out: Path) -> None:
    failed = [outcome for outcome in outcomes if outcome.failure is not None]
    regions = sum(outcome.table.ids.size for outcome in outcomes if outcome.table is not None)
    typer.echo(
        f"{len(outcomes) - len(failed)} of {len(outcomes)} samples measured, "
        f"{regions} regions: {out / 'regions.csv'}"
    )
    for outcome in failed:
        _say(f"not measured: {outcome.failure}")
    if failed:
        raise typer.Exit(SOME_FAILED)


def _read_groups(path: Path) -> dict[str, str]:
    import csv  # noqa: PLC0415

    from rilievo.core.errors import FileMissing, FileUnreadable  # noqa: PLC0415

    try:
        with path.open(newline="", encoding="utf-8-sig") as file:
            rows = list(csv.DictReader(file))
    except FileNotFoundError as exc:
        raise FileMissing(path, "does not exist", "choose a CSV file") from exc
    except (OSError, UnicodeDecodeError, csv.Error) as exc:
        raise FileUnreadable(path, f"cannot be read ({exc})", "choose a CSV file") from exc
    if not rows or not {"file", "group"} <= set(rows[0]):
        raise FileUnreadable(
            path, "has no columns “file” and “group”", "put both into its first line"
        )
    return {str(row["file"]): str(row["group"]) for row in rows}


@app.command("info")
def info(
    images: Annotated[list[Path], typer.Argument(metavar="IMAGE...", help="Images or folders.")],
    as_json: Annotated[bool, typer.Option("--json", help="Print a JSON list.")] = False,
) -> None:
    """Print size, depth, calibration, statistics and checks of images."""
    from rilievo.core.errors import FileError  # noqa: PLC0415
    from rilievo.core.files import images_below  # noqa: PLC0415
    from rilievo.core.info import describe  # noqa: PLC0415

    facts: list[dict[str, Any]] = []
    failed = False
    files = images_below(images)
    if not files:
        raise _stop("the folders hold no image; name image files or other folders", WRONG_USAGE)
    for path in files:
        try:
            facts.append(describe(path))
        except FileError as exc:
            failed = True
            _say(f"rilievo: {exc}")
    if as_json:
        typer.echo(json.dumps(facts, indent=2, ensure_ascii=False, allow_nan=False))
    else:
        for image in facts:
            _print_facts(image)
    if failed:
        raise typer.Exit(SOME_FAILED)


def _print_facts(image: dict[str, Any]) -> None:
    size = f"{image['pixel_size']:g} {image['unit']}/px" if image["pixel_size"] else "no pixel size"
    typer.echo(f"{image['file']}: {image['width']}×{image['height']}, {image['dtype']}, {size}")
    for channel in image["channels"]:
        numbers = ", ".join(
            f"{key} {'–' if channel[key] is None else format(channel[key], '.6g')}"
            for key in ("min", "median", "mean", "max", "sd")
        )
        typer.echo(f"  {channel['name']}: {numbers}")
    for check in image["checks"]:
        typer.echo(f"  ! {check['channel']} {check['text']}".replace("!  ", "! "))
