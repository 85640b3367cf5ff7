"""`rilievo methods`, `quantities`, `steps`, and `method …`: what there is, and what is wrong."""

from __future__ import annotations

import json
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, failed_status, say, stop

of_methods = typer.Typer(help="Check, list and describe method files.")


def methods() -> None:
    """List the methods that come with the program, and your own, by name."""
    from rilievo.core.method.library import own_methods, shipped  # noqa: PLC0415

    for method in (*shipped(), *own_methods()):
        typer.echo(f"{method.name}\t{'your own' if method.own else 'shipped'}\t{method.path}")


def quantities() -> None:
    """List what can be measured: key, name, unit, definition."""
    from rilievo.core.measure import QUANTITIES  # noqa: PLC0415

    for quantity in QUANTITIES.values():
        typer.echo(
            f"{quantity.key}\t{quantity.title}\t{quantity.unit or '–'}\t{quantity.definition}"
        )


def steps() -> None:
    """List the steps of corrections: key, name, what it does."""
    from rilievo.core.signal.steps import STEPS  # noqa: PLC0415

    for key in STEPS:
        typer.echo(f"{key}\t{STEPS[key].title}\t{STEPS[key].explanation}")


def plugins() -> None:
    """List what other packages add, with their versions, and what could not be loaded."""
    from rilievo.core.cleaning import CLEANERS  # noqa: PLC0415
    from rilievo.core.compare.plots import PLOTS  # noqa: PLC0415
    from rilievo.core.files import READERS  # noqa: PLC0415
    from rilievo.core.measure import QUANTITIES  # noqa: PLC0415
    from rilievo.core.regions.thresholds import THRESHOLDS  # noqa: PLC0415
    from rilievo.core.registry import additions, left_out  # noqa: PLC0415
    from rilievo.core.signal.steps import STEPS  # noqa: PLC0415
    from rilievo.core.table.writers import WRITERS  # noqa: PLC0415

    kinds = (READERS, STEPS, THRESHOLDS, CLEANERS, QUANTITIES, PLOTS, WRITERS)
    extensions = additions()
    for extension in extensions:
        typer.echo(
            f"{extension.provider.package} {extension.provider.version}\t"
            f"{extension.kind}\t{extension.key}"
        )
    if not extensions:
        words = ", ".join(registry.kind for registry in kinds)
        typer.echo(f"No other package adds a {words}.")
    # The sentences themselves are said at the end of every command.
    if left_out():
        raise typer.Exit(failed_status(len(extensions), len(left_out())))


@of_methods.command("check")
def check(
    files: Annotated[list[str], typer.Argument(metavar="FILE...", help="Methods.")],
) -> None:
    """Read method files as a run would, and say what is wrong with them."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.method.library import find_method  # noqa: PLC0415

    wrong = 0
    for file in files:
        try:
            method, _ = find_method(file)
        except RilievoError as exc:
            wrong += 1
            say(f"{file}: {exc}")
        else:
            classes = ", ".join(method.class_names)
            typer.echo(f"{file}: “{method.name}”, {len(method.steps)} steps, regions {classes}")
    if wrong:
        raise typer.Exit(failed_status(len(files) - wrong, wrong))


@of_methods.command("values")
def values(
    method_file: Annotated[str, typer.Argument(metavar="METHOD", help="A method, or its name.")],
) -> None:
    """List every value that --set changes, as it stands in a method."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.method.library import find_method  # noqa: PLC0415
    from rilievo.core.method.typed_values import settable  # noqa: PLC0415

    try:
        method, _ = find_method(method_file)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    for place, value in settable(method).items():
        typer.echo(f"{place}={json.dumps(value, ensure_ascii=False)}")


@of_methods.command("schema")
def schema() -> None:
    """Print the JSON Schema of method files, with the meaning of every field."""
    from rilievo.core.method.schema import method_schema  # noqa: PLC0415

    typer.echo(json.dumps(method_schema(), indent=2, ensure_ascii=False))
