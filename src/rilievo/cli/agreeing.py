"""`rilievo agree`: the same samples measured by two methods, or with the changes of two people."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rilievo.cli.saying import WRONG_USAGE, prepare_loops, stop
from rilievo.cli.trust import AllowOutside, load_own_study

if TYPE_CHECKING:
    from rilievo.core.files.sample_ref import SampleRef
    from rilievo.core.method.method import Method


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

    prepare_loops()
    names = (first.stem, second.stem) if first.stem != second.stem else ("first", "second")
    try:
        one, items = _read(first, allow_outside)
        other, others = _read(second, allow_outside)
        items = samples_below(images) if images else items or others
        if not items:
            raise stop("neither is a study: name the images too", WRONG_USAGE)
        found = measure_twice(
            items, one, other, names, quantity=quantity, channel=channel, region_class=region_class
        )
        if out is not None:
            write_agreement(found, out)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    typer.echo("\n".join(sentences(found)))


def _read(path: Path, allow: bool) -> tuple[Method, list[SampleRef]]:
    """A method, and the samples of a study. Raises StudyError, MethodError."""
    from rilievo.core.files.sample_ref import labelled  # noqa: PLC0415
    from rilievo.core.method.method import Method  # noqa: PLC0415
    from rilievo.core.study.study_file import SUFFIX  # noqa: PLC0415

    if path.suffix != SUFFIX:
        return Method.load(path), []
    state = load_own_study(path, allow=allow).state
    return state.method, labelled(state.samples)
