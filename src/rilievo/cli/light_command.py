"""`rilievo light`: an uneven field that all images share, estimated from them, as a frame."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, prepare_loops, say, stop


def light(
    images: Annotated[
        list[str], typer.Argument(metavar="IMAGE...", help="Images or folders of one size.")
    ],
    out: Annotated[Path, typer.Option("--out", "-o", help="The frame: .tif, .fits or .npy.")],
    channel: Annotated[str, typer.Option("--channel", help="The first for none.")] = "",
    dark: Annotated[float, typer.Option("--dark", help="Counts without light.")] = 0.0,
    offset: Annotated[
        bool, typer.Option("--offset", help="A pattern to subtract, not one to divide by.")
    ] = False,
) -> None:
    """Estimate the light that images have in common; write it as a flat frame of mean 1."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.files.sample_ref import samples_below  # noqa: PLC0415
    from rilievo.core.files.writer import write_plane  # noqa: PLC0415
    from rilievo.core.report.common_light import light_of  # noqa: PLC0415

    prepare_loops()
    try:
        found = light_of(samples_below(images), channel, "offset" if offset else "flat", dark)
        write_plane(out, found.plane, channel)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    for name, why in found.left_out.items():
        say(f"left out: {name}: {why}")
    typer.echo(f"{found.light.sentence()} {out}")
