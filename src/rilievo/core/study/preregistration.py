"""A method that was fixed beforehand, and what was changed since."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from rilievo.core.compare.question import Question
from rilievo.core.errors import MethodError
from rilievo.core.method.diff import Difference, differences
from rilievo.core.method.method import Method, SampleException, checked_copy
from rilievo.core.pipeline.provenance import method_checksum
from rilievo.core.untrusted_json import parsed

_EDITS = "Regions changed by hand"


@dataclass(frozen=True)
class Preregistration:
    """A method and a comparison, fixed at a time; a date of "" for none."""

    date: str = ""
    method: Method = field(default_factory=Method)
    question: Question = field(default_factory=Question)

    @property
    def is_made(self) -> bool:
        """Whether anything was fixed."""
        return bool(self.date)

    @property
    def checksum(self) -> str:
        """The name of all of the method on which measurements depend."""
        return method_checksum(self.method)

    def with_method(self, change: Callable[[Method], Method]) -> Preregistration:
        """Return it with another method that means the same, such as of files moved elsewhere."""
        return replace(self, method=change(self.method)) if self.is_made else self

    def to_json(self, folder: Path) -> str:
        """Return it as JSON; paths of files are relative to a folder."""
        if not self.is_made:
            return "{}"
        body = {
            "date": self.date,
            "question": self.question.model_dump(mode="json"),
            "method": json.loads(self.method.to_json(folder)),
        }
        return json.dumps(body, ensure_ascii=False)

    @classmethod
    def from_json(cls, text: str, folder: Path) -> Preregistration:
        """Return it from JSON. Raises MethodError, ValueError and KeyError for other text."""
        data = parsed(text)
        if not data:
            return cls()
        method = Method.from_json(json.dumps(data["method"]), folder)
        return cls(str(data["date"]), method, Question.model_validate(data["question"]))


@dataclass(frozen=True)
class Deviation:
    """One part of the method that is not as agreed.

    lines : what differs, agreed and now. taken_back : the method with this part as agreed; None
    where that is no method any more.
    """

    title: str
    lines: tuple[Difference, ...]
    taken_back: Method | None


def deviations(preregistration: Preregistration, method: Method) -> list[Deviation]:
    """Return what differs from the agreed method, a part at a time."""
    agreed = preregistration.method
    by_part: dict[str, list[Difference]] = {}
    for line in differences(agreed, method):
        by_part.setdefault(_part_of(line), []).append(line)
    return [
        Deviation(title, tuple(by_part[title]), _taken_back(method, fields))
        for title, fields in _parts(agreed, method)
        if title in by_part
    ]


def _part_of(line: Difference) -> str:
    if line.part.startswith("Only for "):
        return _EDITS if line.what == _EDITS else "Settings of single samples"
    if line.part == "Outline" or line.part.startswith("Outline "):
        return "Regions"
    title_of = {"Reading": "Reading", "Measure": "Measuring", "Picks": "Picks"}
    return title_of.get(line.part, "Steps")


def _parts(agreed: Method, method: Method) -> Iterator[tuple[str, dict[str, Any]]]:
    """What each part is called, and the fields of the method as agreed."""
    yield "Reading", {"reading": agreed.reading}
    yield "Steps", {"steps": agreed.steps}
    yield "Regions", {"outlines": agreed.outlines}
    yield "Measuring", {"measure": agreed.measure}
    yield "Picks", {"picks": agreed.picks}
    names = list(dict.fromkeys([*method.exceptions, *agreed.exceptions]))
    for title, what in (("Settings of single samples", "parameters"), (_EDITS, "edits")):
        changed = {
            name: checked_copy(
                method.exception_for(name), **{what: getattr(agreed.exception_for(name), what)}
            )
            for name in names
        }
        yield title, {"exceptions": _some(changed)}


def _some(exceptions: Mapping[str, SampleException]) -> dict[str, SampleException]:
    return {name: exception for name, exception in exceptions.items() if not exception.is_nothing}


def _taken_back(method: Method, fields: Mapping[str, Any]) -> Method | None:
    try:
        return method.changed(**fields)
    except MethodError:
        # Such as steps that need a class which is there no more.
        return None
