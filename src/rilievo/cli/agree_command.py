"""`rilievo agree`: the same samples measured by two methods, or with the changes of two people."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, prepare_loops, stop
from rilievo.cli.image_inputs import AllowOutside


def agree(
    first: Annotated[Path, typer.Argument(metavar="FIRST", help="A study or a method.")],
    second: Annotated[Path, typer.Argument(metavar="SECOND", help="The other one.")],
    images: Annotated[
        list[str] | None,
        typer.Argument(metavar="[IMAGE...]", help="Images or folders, where neither is a study."),
    ] = None,
    out: Annotated[
        Path | None, typer.Option("--out", "-o", help="Folder for tables and plot.")
    ] = None,
    quantity: Annotated[str, typer.Option("--quantity", help="What is compared.")] = "mean",
    channel: Annotated[str, typer.Option("--channel", help="The first for none.")] = "",
    region_class: Annotated[str, typer.Option("--class", help="The first for none.")] = "",
    allow_outside: AllowOutside = False,
) -> None:
    """Measure samples twice; print limits of agreement, correlation, and how regions match."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.files.sample_ref import samples_below  # noqa: PLC0415
    from rilievo.core.report.two_measurers import (  # noqa: PLC0415
        measure_twice,
        sentences,
        write_agreement,
    )
    from rilievo.core.study.run_inputs import read_run_inputs  # noqa: PLC0415

    prepare_loops()
    names = (first.stem, second.stem) if first.stem != second.stem else ("first", "second")
    try:
        first_inputs, other = (
            read_run_inputs(str(path), allow=allow_outside) for path in (first, second)
        )
        items = samples_below(images) if images else first_inputs.samples or other.samples
        if not items:
            raise stop("neither is a study: name the images too", WRONG_USAGE)
        measurements = measure_twice(
            items,
            (first_inputs.method, other.method),
            names,
            quantity=quantity,
            channel=channel,
            region_class=region_class,
        )
        if out is not None:
            write_agreement(measurements, out)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    typer.echo("\n".join(sentences(measurements)))
