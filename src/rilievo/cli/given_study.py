"""A study in place of a method: its samples are measured with its method."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from rilievo.cli.saying import WRONG_USAGE, stop
from rilievo.cli.trust import load_own_study, refuse_blinded

if TYPE_CHECKING:
    from rilievo.core.files.sample_ref import SampleRef
    from rilievo.core.study.study import StudyState


def is_study(word: str) -> bool:
    """Whether a word names a study rather than a method."""
    from rilievo.core.study.archive import PACKED_SUFFIX  # noqa: PLC0415
    from rilievo.core.study.study_file import SUFFIX  # noqa: PLC0415

    return word.endswith((SUFFIX, PACKED_SUFFIX))


def study_of(word: str, *, allow: bool) -> StudyState:
    """Return a study. Raises StudyError, FileOutside; ends with wrong usage for a packed one."""
    from rilievo.core.study.archive import PACKED_SUFFIX  # noqa: PLC0415

    if word.endswith(PACKED_SUFFIX):
        raise stop(
            f"“{word}” is packed; “rilievo report” and “rilievo verify” read it, or open it in "
            "the window and save it",
            WRONG_USAGE,
        )
    state = load_own_study(Path(word), allow=allow).state
    refuse_blinded(Path(word), state)
    return state


def items_of_study(state: StudyState) -> list[SampleRef]:
    """Return the samples of a study. Ends with wrong usage where there is none."""
    from rilievo.core.files.sample_ref import labelled  # noqa: PLC0415

    if not state.samples:
        raise stop("the study has no sample; name images beside it", WRONG_USAGE)
    return labelled(state.samples)
