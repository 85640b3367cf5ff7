"""What a word names that is measured with: a study with its samples, or a method.

Files that a study or method from someone else leads to are refused until the user allows them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from rilievo.core.compare.question import Question
from rilievo.core.errors import StudyError
from rilievo.core.files.sample_ref import SampleRef, labelled
from rilievo.core.method.library import find_method
from rilievo.core.method.method import Method
from rilievo.core.study.archive import PACKED_SUFFIX
from rilievo.core.study.outside_files import (
    chosen_files,
    files_of_method,
    files_of_study,
    outside,
    refuse,
)
from rilievo.core.study.preregistration import Preregistration
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import SUFFIX, StudyContent, load_study

_REMEDY = "add --allow-outside if you trust it"


@dataclass(frozen=True, eq=False)
class RunInputs:
    """A method, and of a study its samples, of which it is known that their files may be read.

    preregistration : what was fixed beforehand. options, question : of the study's report and
    comparison.
    """

    method: Method
    path: Path
    samples: Sequence[SampleRef] = ()
    preregistration: Preregistration = field(default_factory=Preregistration)
    options: ReportOptions = field(default_factory=ReportOptions)
    question: Question = field(default_factory=Question)


def read_run_inputs(word: str, agreed: Path | None = None, *, allow: bool = False) -> RunInputs:
    """Return what a word names: a study, a method's file, or the name of a method.

    agreed : a method's file, which is what was agreed when it was written. allow : whether files
    elsewhere may be read. Raises StudyError, MethodError, FileError.
    """
    preregistration = _agreement_of(agreed) if agreed is not None else None
    if not word.endswith((SUFFIX, PACKED_SUFFIX)):
        method, path = find_method(word)
        return RunInputs(method, path, preregistration=preregistration or Preregistration())
    if word.endswith(PACKED_SUFFIX):
        raise StudyError(
            f"“{word}” is packed; “rilievo report” and “rilievo verify” read it, or open it in "
            "the window and save it"
        )
    path = Path(word)
    state = load_trusted_study(path, allow=allow).state
    refuse_blinded(path, state)
    return RunInputs(
        state.method, path, labelled(state.samples), preregistration or state.preregistration,
        state.report, state.question,
    )  # fmt: skip


def _agreement_of(path: Path) -> Preregistration:
    method = Method.load(path)
    written = datetime.fromtimestamp(path.stat().st_mtime).astimezone()
    return Preregistration(written.isoformat(timespec="seconds"), method)


def load_trusted_study(path: Path, *, allow: bool) -> StudyContent:
    """Read a study that leads to files below its folder, or to ones that the user chose in it.

    As `load_study`. Raises StudyError, FileOutside.
    """
    content = load_study(path)
    if not allow:
        led = outside(files_of_study(content.state), [path.parent], chosen_files(path))
        refuse(path, led, _REMEDY)
    return content


def refuse_blinded(path: Path, state: StudyState) -> None:
    """Raise StudyError for a study whose names and groups are hidden from who measures."""
    if state.blinding.is_on:
        raise StudyError(
            f"“{path.name}” is blinded, and tables and reports name files and groups; unblind it "
            "in the window first."
        )


def check_method(
    path: Path, method: Method, images: Sequence[Path], samples: Sequence[str]
) -> None:
    """Raise FileOutside where a method leads out of its folder and of those of the images."""
    folders = [path.parent, *(image if image.is_dir() else image.parent for image in images)]
    refuse(path, outside(files_of_method(method, samples), folders), _REMEDY)
