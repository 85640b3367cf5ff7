"""`rilievo new`: a study file made without the window, opened in it later."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, stop
from rilievo.cli.image_inputs import SampleOptions, local_paths
from rilievo.cli.overrides import MethodOptions, apply_overrides
from rilievo.cli.sample_sheet import apply_sample_sheet


def new(
    images: Annotated[list[str], typer.Argument(metavar="IMAGE...", help="Images or folders.")],
    out: Annotated[Path, typer.Option("--out", "-o", help="The study file, .rilievo.")],
    sampling: SampleOptions,
    settings: MethodOptions,
    method_file: Annotated[
        str, typer.Option("--method", "-m", metavar="METHOD", help="A method (JSON), or its name.")
    ] = "",
    force: Annotated[bool, typer.Option("--force", help="Replace a study of that name.")] = False,
) -> None:
    """Make a study of images, which the window opens and `rilievo run` measures."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.method.library import find_method  # noqa: PLC0415
    from rilievo.core.method.method import Method  # noqa: PLC0415
    from rilievo.core.study.study import StudyState  # noqa: PLC0415
    from rilievo.core.study.study_file import SUFFIX, save_study  # noqa: PLC0415

    if out.suffix != SUFFIX:
        raise stop(f"“{out.name}” must end in {SUFFIX}", WRONG_USAGE)
    if out.exists() and not force:
        raise stop(f"{out} is there already; choose another name, or add --force", WRONG_USAGE)
    if len(local_paths(images)) < len(images):
        raise stop("a study is of files on this machine, not of URLs", WRONG_USAGE)
    overrides = settings.overrides()
    try:
        method = find_method(method_file)[0] if method_file else Method()
        method = settings.changed(method)
        rows_told: set[str] = set()
        items = apply_sample_sheet(sampling.samples(images), sampling.sheet(), rows_told)
        if not items:
            raise stop("the folders hold no image; name image files or other folders", WRONG_USAGE)
        sampling.check_rows(rows_told)
        state = StudyState(name=out.stem, method=method).with_samples(
            apply_overrides(items, overrides)
        )
        save_study(state, out)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    groups_of = len(state.groups)
    several = f" in {groups_of} groups" if groups_of > 1 else ""
    typer.echo(f"{len(items)} samples{several}: {out}")
