"""Files that a study or method from someone else leads to: refused until the user allows them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from rilievo.core.method.method import Method
    from rilievo.core.study.study import StudyState
    from rilievo.core.study.study_file import StudyContent

AllowOutside = Annotated[
    bool,
    typer.Option(
        "--allow-outside",
        help="Also read files that are not below the folder of the study or method.",
    ),
]
_REMEDY = "add --allow-outside if you trust it"


def load_own_study(path: Path, *, allow: bool) -> StudyContent:
    """Read a study that leads to files below its folder, or to ones that the user chose in it.

    As `load_study`. Raises StudyError, FileOutside.
    """
    from rilievo.core.study.outside_files import (  # noqa: PLC0415
        chosen_files,
        files_of_study,
        outside,
        refuse,
    )
    from rilievo.core.study.study_file import load_study  # noqa: PLC0415

    content = load_study(path)
    if not allow:
        led = outside(files_of_study(content.state), [path.parent], chosen_files(path))
        refuse(path, led, _REMEDY)
    return content


def refuse_blinded(path: Path, state: StudyState) -> None:
    """Raise StudyError for a study whose names and groups are hidden from who measures."""
    from rilievo.core.errors import StudyError  # noqa: PLC0415

    if state.blinding.is_on:
        raise StudyError(
            f"“{path.name}” is blinded, and tables and reports name files and groups; unblind it "
            "in the window first."
        )


def check_method(
    path: Path, method: Method, images: Sequence[Path], samples: Sequence[str]
) -> None:
    """Raise FileOutside where a method leads out of its folder and of those of the images."""
    from rilievo.core.study.outside_files import (  # noqa: PLC0415
        files_of_method,
        outside,
        refuse,
    )

    folders = [path.parent, *(one if one.is_dir() else one.parent for one in images)]
    refuse(path, outside(files_of_method(method, samples), folders), _REMEDY)
