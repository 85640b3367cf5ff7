"""`rilievo camera`: gain and read noise from flat and dark frames, by photon transfer."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, stop


def camera(
    flats: Annotated[
        list[Path], typer.Argument(metavar="FLAT...", help="Two frames at each of several levels.")
    ],
    darks: Annotated[
        list[Path], typer.Option("--dark", help="A dark frame; two at least, or more pairs.")
    ],
    channel: Annotated[str, typer.Option("--channel", help="The first for none.")] = "",
    out: Annotated[
        Path | None, typer.Option("--out", "-o", help="The curve: .svg, .png or .pdf.")
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print it as JSON.")] = False,
) -> None:
    """Find gain, read noise and dark level of a camera from pairs of frames."""
    from rilievo.core.atomic_write import write_bytes_safely  # noqa: PLC0415
    from rilievo.core.compare.plots.figure_look import PLAIN  # noqa: PLC0415
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.report.camera_noise_report import camera_from_files, transfer_figure  # noqa: PLC0415
    from rilievo.core.report.figures import FIGURE_KINDS, figure_bytes  # noqa: PLC0415

    kind = out.suffix.lower().lstrip(".") if out is not None else "svg"
    if kind not in FIGURE_KINDS:
        raise stop("the curve's name must end in .svg, .png or .pdf", WRONG_USAGE)
    try:
        transfer = camera_from_files(flats, darks, channel)
        if out is not None:
            write_bytes_safely(out, figure_bytes(lambda: transfer_figure(transfer), kind, PLAIN))
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    if as_json:
        facts = {**vars(transfer.noise), "gain_error": transfer.gain_error,
                 "read_noise_error": transfer.read_noise_error}  # fmt: skip
        typer.echo(json.dumps(facts, indent=2))
    else:
        typer.echo(transfer.sentence())
