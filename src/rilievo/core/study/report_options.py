"""What goes into a report, as data: stored with the study, the same from the command line."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, field_validator

from rilievo.core.compare.question import Question
from rilievo.core.parameters import Parameters

SECTIONS = {
    "plots": "Comparisons",
    "statistics": "Statistics",
    "samples": "Samples",
    "pictures": "Pictures",
    "methods": "Methods in sentences",
    "steadiness": "How much depends on the threshold",
    "checks": "Checks and marks",
    "edits": "Changes by hand",
    "extremes": "Numbers furthest out",
    "definitions": "Definitions",
    "method": "The method, whole",
    "history": "History",
    "origin": "Versions and checksums",
}


class ReportOptions(Parameters):
    """What goes into a report.

    title : "" for the study's name. left_out : keys of SECTIONS. questions : comparisons; none
    takes the mean (or flux) of every channel. note : the author's own words, at the top. authors :
    of the study, an ORCID in brackets behind a name. licence : of its data, an address or words.
    with_choices : whether the first comparison is made again under other choices, which takes as
    long as measuring many times.
    """

    title: str = Field("", max_length=300, title="Title")
    note: str = Field("", max_length=20_000, title="Remarks")
    authors: tuple[Annotated[str, Field(max_length=300)], ...] = Field(
        (), max_length=200, title="Authors"
    )
    licence: str = Field("", max_length=500, title="Licence")
    with_choices: bool = Field(False, title="What would change the answer")
    left_out: tuple[str, ...] = Field((), title="Left out")
    questions: tuple[Question, ...] = Field((), max_length=50, title="Comparisons")

    @field_validator("left_out")
    @classmethod
    def _known(cls, keys: tuple[str, ...]) -> tuple[str, ...]:
        unknown = [key for key in keys if key not in SECTIONS]
        if unknown:
            raise ValueError(f"names no section {unknown[0]!r}; there are {', '.join(SECTIONS)}")
        return keys

    def has(self, section: str) -> bool:
        """Whether a section goes in."""
        return section not in self.left_out
