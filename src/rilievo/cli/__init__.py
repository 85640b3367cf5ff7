"""The command line: the window, the demo, a method over images, facts about images.

    rilievo [STUDY | IMAGE…]                  the window
    rilievo demo [SET] [--dir DIR] [--headless]
    rilievo run METHOD IMAGE… --out DIR       a method over images, no window
    rilievo run STUDY --out DIR               the samples of a study with its method
    rilievo new IMAGE… --out STUDY            a study of images, for the window
    rilievo report STUDY --out FILE           the report of a study, HTML or PDF
    rilievo pack STUDY --out FILE             a study with copies of its images
    rilievo camera FLAT… --dark DARK…         gain and read noise, by photon transfer
    rilievo light IMAGE… --out FILE           the uneven light that images share, as a frame
    rilievo agree FIRST SECOND                two measurers, or two methods, of one set
    rilievo verify STUDY | FOLDER             measure again: is everything the same?
    rilievo info IMAGE… [--json]
    rilievo method check FILE…                what is wrong with a method file
    rilievo method values METHOD              all that run --set changes
    rilievo method schema                     the JSON Schema of method files
    rilievo methods | quantities | steps      what there is, by name
    rilievo plugins                           what other packages add, and what failed
    rilievo install-desktop [--remove]        menu entry, icon and file types of a user
    rilievo completion bash | zsh | fish      completion for a shell
    rilievo prepare                           build the compiled loops, once for a machine

`cli.run` reads the options of a run, which `rilievo.core.batch.running` does; the map of the
computation is in `rilievo.core`, that of the window in `rilievo.ui`.

Exit status: 0 done; 1 some samples failed, or are not the same; 2 wrong usage; 3 rows of a table
and files do not fit together; 4 all samples failed; 130 stopped with Ctrl+C.
"""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

import typer

from rilievo._version import __version__
from rilievo.cli.agree_command import agree
from rilievo.cli.arguments import check_window, check_words
from rilievo.cli.camera_command import camera
from rilievo.cli.completion import completion, is_asked
from rilievo.cli.console import WRONG_USAGE, failed_status, say, stop
from rilievo.cli.desktop import install_desktop
from rilievo.cli.light_command import light
from rilievo.cli.listing_commands import methods, of_methods, plugins, quantities, steps
from rilievo.cli.new_command import new
from rilievo.cli.options import with_options
from rilievo.cli.report_command import pack, report
from rilievo.cli.run_command import run
from rilievo.cli.verify_command import verify
from rilievo.core.memory import collect_seldom, reuse_freed_memory
from rilievo.core.temporary_files import remove_left_behind

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    # Plain help, which needs no further package to be loaded.
    rich_markup_mode=None,
    help="Measure pixel intensities in grayscale photographs.",
)


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the command line; words that are no command are files to open.

    arguments : those of the process for None. Ends with SystemExit.
    """
    # Products of matrices are small here; threads that wait for the next one only take the cores
    # from each other. It counts where NumPy is not loaded yet.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    given = list(sys.argv[1:] if arguments is None else arguments)
    if given == ["--version"]:
        typer.echo(__version__)
        raise SystemExit(0)
    reuse_freed_memory()
    collect_seldom()
    options = {"--help", "--version"}
    if is_asked():
        app(given, prog_name="rilievo")
    if not given or given[0] not in {*_commands(), *options}:
        if given:
            check_words(given, _commands())
        given = ["open", *given]
    remove_left_behind()
    try:
        app(given, prog_name="rilievo")
    finally:
        _tell_left_out()


def _tell_left_out() -> None:
    """Say which entries of other packages could not be taken, where anything was registered."""
    registry = sys.modules.get("rilievo.core.registry")
    for sentence in registry.left_out() if registry is not None else ():
        say(f"rilievo: {sentence}")


def _commands() -> set[str]:
    groups = {group.name or "" for group in app.registered_groups}
    return {command.name or "" for command in app.registered_commands} | groups


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
    check_window()
    from rilievo.ui.shell.app import run_window  # noqa: PLC0415 (loads Qt)

    raise typer.Exit(run_window(files or []))


@app.command("demo", short_help="Write synthetic data, and open or measure it.")
def demo(
    name: Annotated[str, typer.Argument(metavar="SET", help="Which set.")] = "lipid",
    folder: Annotated[
        Path | None, typer.Option("--dir", help="Where to write it (default: your data folder).")
    ] = None,
    headless: Annotated[
        bool,
        typer.Option(
            "--headless", help="Measure it here and print how it deviates from the truth."
        ),
    ] = False,
    write_only: Annotated[
        bool, typer.Option("--write-only", help="Write it, and do nothing else.")
    ] = False,
) -> None:
    """Write the synthetic data and open it, or measure it without a window."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.demo.sets import DEMO_SETS, write_demo_study  # noqa: PLC0415

    if name not in DEMO_SETS:
        raise stop(f"there is no set “{name}”; the sets are {', '.join(DEMO_SETS)}", WRONG_USAGE)
    if folder is None:
        import platformdirs  # noqa: PLC0415

        folder = Path(platformdirs.user_data_dir("rilievo")) / "demo"
    try:
        study, images = write_demo_study(name, folder / name)
        say(f"Wrote {len(images)} images and the study {study}")
        if write_only:
            return
        if headless:
            _measure_demo(name, folder / name, study)
            return
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    open_window([study])


def _measure_demo(name: str, folder: Path, study: Path) -> None:
    from dataclasses import replace  # noqa: PLC0415

    from rilievo.core.batch import finished_tables  # noqa: PLC0415
    from rilievo.core.method.picks import specimen_frame  # noqa: PLC0415
    from rilievo.core.report.outputs import write_outputs  # noqa: PLC0415
    from rilievo.core.report.study_report import study_contents  # noqa: PLC0415
    from rilievo.core.study.study_file import load_study  # noqa: PLC0415
    from rilievo.core.table.table import region_frame  # noqa: PLC0415
    from rilievo.demo.sets import DEMO_SETS  # noqa: PLC0415

    state = load_study(study).state
    contents = study_contents(state)
    outcomes = contents.outcomes
    specimens = specimen_frame([row for outcome in outcomes for row in outcome.picks])
    tables = finished_tables(outcomes, state.method)
    lines = DEMO_SETS[name].compared(
        folder, region_frame(tables).to_pandas(), specimens.to_pandas()
    )
    contents = replace(contents, appendix=("Beside what was put in", lines))
    write_outputs(contents, folder / "results")
    for line in lines:
        typer.echo(line)
    typer.echo(f"Results: {folder / 'results' / 'report.html'}")


@app.command("prepare", short_help="Build the compiled loops, once for a machine.")
def prepare() -> None:
    """Build the compiled loops now, so that the first measurement does not wait for them."""
    from rilievo.core.pipeline.kernel_warmup import are_built, build_all  # noqa: PLC0415

    if are_built():
        typer.echo("The compiled loops are there already.")
        return
    say("Building the compiled loops for this machine; it takes up to a minute …")
    build_all()
    typer.echo("The compiled loops are built.")


app.command("run", short_help="Measure images or a study, without a window.")(with_options(run))
app.command("new", short_help="Make a study of images, for the window.")(with_options(new))
app.command("methods", short_help="List named methods.")(methods)
app.command("quantities")(quantities)
app.command("steps")(steps)
app.command("plugins", short_help="List what other packages add.")(plugins)
app.command("completion", short_help="Print the completion for a shell.")(completion)
app.command("install-desktop", short_help="Menu entry and file types, put in place.")(
    install_desktop
)
app.add_typer(of_methods, name="method")
app.command("report", short_help="Write the report of a study.")(with_options(report))
app.command("pack", short_help="Put a study and its images into one file.")(pack)
app.command("verify", short_help="Measure again: is everything the same?")(verify)
app.command("agree", short_help="Compare two measurers, or two methods.")(agree)
app.command("light", short_help="Estimate the light that images share.")(light)
app.command("camera", short_help="Find gain and read noise of a camera.")(camera)


@app.command("info", short_help="Print facts, statistics, checks of images.")
def info(
    images: Annotated[
        list[str], typer.Argument(metavar="IMAGE...", help="Images or folders, also as URLs.")
    ],
    as_json: Annotated[bool, typer.Option("--json", help="Print a JSON list.")] = False,
) -> None:
    """Print size, depth, calibration, statistics and checks of images."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.files.sample_ref import on_this_machine, samples_below  # noqa: PLC0415
    from rilievo.core.pipeline.image_info import describe  # noqa: PLC0415

    facts: list[dict[str, Any]] = []
    failed = 0
    try:
        items = samples_below(images)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if not items:
        raise stop("the folders hold no image; name image files or other folders", WRONG_USAGE)
    for item in items:
        try:
            with on_this_machine(item) as here:
                facts.append({**describe(here.path), **({"file": item.place} if item.url else {})})
        except RilievoError as exc:
            failed += 1
            say(f"rilievo: {exc}")
    if as_json:
        typer.echo(json.dumps(facts, indent=2, ensure_ascii=False, allow_nan=False))
    else:
        for image in facts:
            _print_facts(image)
    if failed:
        raise typer.Exit(failed_status(len(facts), failed))


def _print_facts(image: dict[str, Any]) -> None:
    size = "no pixel size"
    if image["pixel_size"]:
        wide, high = image["pixel_size"], image["pixel_height"]
        size = f"{wide:g}{'' if wide == high else f' × {high:g}'} {image['unit']}/px"
    planes = image["planes"]
    counts = (("depth", "depths"), ("time", "times"), ("pages of unknown meaning", "pages"))
    words = [f"{planes[key]} {word}" for key, word in counts if planes[key] > 1]
    several = f", {' × '.join(words)}" if words else ""
    typer.echo(
        f"{image['file']}: {image['width']}×{image['height']}, {image['dtype']}, {size}{several}"
    )
    for channel in image["channels"]:
        numbers = ", ".join(
            f"{key} {'–' if channel[key] is None else format(channel[key], '.6g')}"
            for key in ("min", "median", "mean", "max", "sd")
        )
        typer.echo(f"  {channel['name']}: {numbers}")
    for check in image["checks"]:
        typer.echo(f"  ! {check['channel']} {check['text']}".replace("!  ", "! "))
