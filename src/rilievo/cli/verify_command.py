"""`rilievo verify`: everything measured again, and compared with what was recorded."""

from __future__ import annotations

import dataclasses
import json
from functools import partial
from pathlib import Path
from typing import Annotated

import typer

from rilievo.cli.console import SOME_FAILED, WRONG_USAGE, prepare_loops, stop
from rilievo.cli.image_inputs import AllowOutside


def verify(
    what: Annotated[
        Path, typer.Argument(metavar="WHAT", help="A study, a packed one, or a folder of results.")
    ],
    jobs: Annotated[int, typer.Option("--jobs", min=1, help="Worker processes.")] = 1,
    as_json: Annotated[bool, typer.Option("--json", help="Print it as JSON.")] = False,
    allow_outside: AllowOutside = False,
) -> None:
    """Measure everything again, and say whether numbers, files and versions are the same."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.report.verify import verify as measure_again  # noqa: PLC0415
    from rilievo.core.study.run_inputs import load_trusted_study  # noqa: PLC0415

    prepare_loops()
    try:
        # Results are never beside their images; a study from someone else may lead anywhere.
        load = partial(load_trusted_study, allow=allow_outside or what.is_dir())
        verdict = measure_again(what, jobs=jobs, load=load)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if as_json:
        facts = {"same": verdict.is_same, **dataclasses.asdict(verdict)}
        typer.echo(json.dumps(facts, indent=2, ensure_ascii=False))
    else:
        typer.echo("\n".join(verdict.sentences()))
        typer.echo("Everything is the same." if verdict.is_same else "Not everything is the same.")
    if not verdict.is_same:
        raise typer.Exit(SOME_FAILED)
