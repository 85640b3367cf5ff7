"""`rilievo new`: a study file made without the window, opened in it later."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rilievo.cli.facts import read_facts, with_rows
from rilievo.cli.given_images import (
    Groups,
    Names,
    Planes,
    Unmatched,
    by_plane,
    given_items,
    local_paths,
    named_items,
)
from rilievo.cli.given_words import method_of
from rilievo.cli.saying import UNMATCHED, WRONG_USAGE, stop
from rilievo.cli.typed_settings import (
    Channels,
    Columns,
    PixelSize,
    Saturation,
    Set,
    changed_method,
    declared_of,
)

if TYPE_CHECKING:
    from rilievo.core.batch import BatchItem
    from rilievo.core.study.study import SampleEntry


def new(
    images: Annotated[list[str], typer.Argument(metavar="IMAGE...", help="Images or folders.")],
    out: Annotated[Path, typer.Option("--out", "-o", help="The study file, .rilievo.")],
    method_file: Annotated[
        str, typer.Option("--method", "-m", metavar="METHOD", help="A method (JSON), or its name.")
    ] = "",
    names: Names = "",
    planes: Planes = "channels",
    groups: Groups = None,
    unmatched: Unmatched = False,
    sets: Set = None,
    channels: Channels = "",
    columns: Columns = "",
    pixel_size: PixelSize = "",
    saturation: Saturation = None,
    force: Annotated[bool, typer.Option("--force", help="Replace a study of that name.")] = False,
) -> None:
    """Make a study of images, which the window opens and `rilievo run` measures."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.method.method import Method  # noqa: PLC0415
    from rilievo.core.study.study import StudyState, in_group_order  # noqa: PLC0415
    from rilievo.core.study.study_file import SUFFIX, save_study  # noqa: PLC0415

    if out.suffix != SUFFIX:
        raise stop(f"“{out.name}” must end in {SUFFIX}", WRONG_USAGE)
    if out.exists() and not force:
        raise stop(f"{out} is there already; choose another name, or add --force", WRONG_USAGE)
    paths = local_paths(images)
    if len(paths) < len(images):
        raise stop("a study is of files on this machine, not of URLs", WRONG_USAGE)
    declared = declared_of(pixel_size, saturation)
    try:
        method = method_of(method_file)[0] if method_file else Method()
        method = changed_method(method, sets or (), channels, columns)
        found = by_plane(named_items(paths, names) if names else given_items(images), planes)
        told: set[str] = set()
        items = with_rows(found, read_facts(groups) if groups else {}, told)
        if not items:
            raise stop("the folders hold no image; name image files or other folders", WRONG_USAGE)
        if told and not unmatched:
            raise stop("rows and files do not fit together; mend the table", UNMATCHED)
        entries = tuple(
            replace(_entry(item, number), declared=declared)
            for number, item in enumerate(items, start=1)
        )
        state = StudyState(name=out.stem, method=method, samples=in_group_order(entries))
        save_study(state, out)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    groups_of = len(state.groups)
    several = f" in {groups_of} groups" if groups_of > 1 else ""
    typer.echo(f"{len(items)} samples{several}: {out}")


def _entry(item: BatchItem, number: int) -> SampleEntry:
    from rilievo.core.study.study import SampleEntry  # noqa: PLC0415

    attributes = dict(item.attributes)
    return SampleEntry(
        id=number,
        name=item.name,
        path=item.path.absolute(),
        size=sum(part.path.stat().st_size for part in item.sources if part.path.is_file()),
        group=item.group,
        replicate=attributes.pop("replicate", ""),
        parts=tuple(replace(part, path=part.path.absolute()) for part in item.parts),
        attributes=attributes,
    )
