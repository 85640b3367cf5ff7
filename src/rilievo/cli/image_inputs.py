"""The images that a command is given: files, folders of this machine, and URLs of both."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rilievo.cli.console import UNMATCHED, stop
from rilievo.cli.sample_sheet import SampleSheet, read_sample_sheet

if TYPE_CHECKING:
    from rilievo.core.files.sample_ref import SampleRef


@dataclass(frozen=True, kw_only=True)
class SampleOptions:
    """How image files become samples, and what a table says of them."""

    groups: Annotated[
        Path | None,
        typer.Option(
            "--groups", help="CSV with the columns file and group; others are attributes."
        ),
    ] = None
    names: Annotated[
        str,
        typer.Option(
            "--names",
            metavar="PATTERN",
            help="How names become samples, such as {group}_{replicate#}_{channel}.",
        ),
    ] = ""
    planes: Annotated[
        str,
        typer.Option(
            "--planes",
            metavar="CHOICE",
            help="How planes in depth and time are taken: channels, each, z, time, “max of z” …",
        ),
    ] = "channels"
    unmatched: Annotated[
        bool,
        typer.Option(
            "--unmatched", help="Go on where rows of --groups and the files do not fit together."
        ),
    ] = False

    def samples(self, words: Sequence[str]) -> list[SampleRef]:
        """Return images and folders as samples. Raises FileError, RemoteError."""
        from rilievo.core.files.sample_ref import samples_below  # noqa: PLC0415

        named = named_items(local_paths(words), self.names) if self.names else samples_below(words)
        return by_plane(named, self.planes)

    def sheet(self) -> SampleSheet:
        """Return what the table says. Raises FileError."""
        return read_sample_sheet(self.groups) if self.groups else {}

    def check_rows(self, problems: Collection[str]) -> None:
        """End where rows of the table do not fit the files, unless that may be."""
        if problems and not self.unmatched:
            hint = "mend the table, or go on with --unmatched"
            raise stop(f"rows and files do not fit together; {hint}", UNMATCHED)


AllowOutside = Annotated[
    bool,
    typer.Option(
        "--allow-outside",
        help="Also read files that are not below the folder of the study or method.",
    ),
]

_MOST_READ = 20_000


def local_paths(given: Sequence[str]) -> list[Path]:
    """Return those that are no URLs."""
    from rilievo.core.files.remote import is_url  # noqa: PLC0415

    return [Path(text) for text in given if not is_url(text)]


def named_items(paths: Sequence[Path], names: str) -> list[SampleRef]:
    """Return images as samples, as a pattern splits their names; files may be joined.

    Raises FileError for a pattern that cannot be understood, or that a name does not fit.
    """
    from rilievo.core.errors import FileUnreadable  # noqa: PLC0415
    from rilievo.core.files import images_below  # noqa: PLC0415
    from rilievo.core.files.grouping import file_labels  # noqa: PLC0415
    from rilievo.core.files.import_naming import NamePattern, PatternError, propose  # noqa: PLC0415
    from rilievo.core.files.sample_ref import uniquely_named  # noqa: PLC0415

    files = [path.absolute() for path in images_below(paths)]
    try:
        proposals = propose(files, NamePattern.parse(names))
    except PatternError as exc:
        raise FileUnreadable(names, f"is no pattern of names: {exc}", "mend --names") from exc
    for proposal in proposals:
        if proposal.problem:
            raise FileUnreadable(proposal.path, proposal.problem, "mend --names")
    labels = dict(zip(files, file_labels(files, list(paths)), strict=True))
    return uniquely_named([replace(ref, file=labels[ref.path]) for ref in proposals])


def by_plane(items: Sequence[SampleRef], planes: str) -> list[SampleRef]:
    """Return images as samples of their planes in depth and time, as a choice has them.

    planes : see `PlaneChoice.parse`. Raises FileError for a file that cannot be read, and for a
    choice that cannot be understood or does not fit one.
    """
    from rilievo.core.errors import FileUnreadable  # noqa: PLC0415
    from rilievo.core.files.plane_choice import PlaneChoice, with_frames  # noqa: PLC0415
    from rilievo.core.files.reader import read_layout  # noqa: PLC0415
    from rilievo.core.files.sample_ref import uniquely_named  # noqa: PLC0415
    from rilievo.core.files.stage_positions import further_positions, with_positions  # noqa: PLC0415

    try:
        choice = PlaneChoice.parse(planes)
    except ValueError as exc:
        raise FileUnreadable("--planes", str(exc), "mend --planes") from exc
    if choice.kind == "channels":
        return list(items)
    samples: list[SampleRef] = []
    for item in items:
        if item.url:
            raise FileUnreadable(item.place, "is a URL, of which no planes are taken", "copy it")
        first = item.sources[0]
        try:
            layout = read_layout(first.path, first.image)
            alone = len(item.sources) == 1 and first.image == 0
            positions = further_positions(first.path, layout) if alone else ()
            samples += [
                plane
                for at_position in with_positions(replace(item, parts=item.sources), positions)
                for plane in with_frames(at_position, layout, choice)
            ]
        except ValueError as exc:
            raise FileUnreadable(item.path, f"has no such planes: {exc}", "mend --planes") from exc
    return uniquely_named(samples)


def telling_names(paths: Sequence[Path]) -> str:
    """Return the pattern of names that tell of channels in files of their own; "" for others."""
    from rilievo.core.files.name_reading import read_names  # noqa: PLC0415

    # Of very many files it would take longer than it helps.
    reading = read_names(paths) if len(paths) <= _MOST_READ else None
    if reading is None or all(part.meaning != "channel" for part in reading.parts):
        return ""
    return reading.pattern
