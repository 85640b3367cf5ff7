"""What results keep so that they can be verified: their samples as a study, and a short code."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rilievo.core.batch import Outcome
from rilievo.core.errors import StudyError
from rilievo.core.method.method import Method
from rilievo.core.pipeline.fingerprints import numbers_digest, whole_code
from rilievo.core.pipeline.provenance import method_checksum
from rilievo.core.study.study import SampleEntry
from rilievo.core.study.study_file import role_of

STUDY_NAME, RESULTS = "study.rilievo", "results"


def may_write(path: Path) -> bool:
    """Return whether a record may be written here: nothing is there, or a record."""
    if not path.exists():
        return True
    try:
        return role_of(path) == RESULTS
    except StudyError:
        return False


def entry_of(outcome: Outcome, number: int) -> SampleEntry:
    """Return a measured sample as one of a study. number : names it there, from 1."""
    path = outcome.item.path.absolute()
    return SampleEntry.of(
        outcome.item,
        number,
        size=path.stat().st_size if path.is_file() else 0,
        checksum=outcome.checksum,
    )


def code_of(method: Method, outcomes: Sequence[Outcome]) -> str:
    """Return the short code of a method, the files and the numbers of its outcomes."""
    return whole_code(
        method_checksum(method),
        (
            (o.item.name, o.checksum, numbers_digest(o.table) if o.table is not None else "")
            for o in outcomes
        ),
    )
