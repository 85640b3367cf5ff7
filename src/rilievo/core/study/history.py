"""The history of a study: what was changed when, from what to what, and in which sample."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from rilievo.core.method.describe import NOTHING
from rilievo.core.method.diff import Difference, differences
from rilievo.core.method.method import Method
from rilievo.core.result_frame import ResultFrame
from rilievo.core.study.sealed_study import BLIND, UNBLIND
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.untrusted_json import parsed

_MOST_LINES = 40


@dataclass(frozen=True)
class HistoryEntry:
    """One change.

    time : ISO 8601 with the offset from UTC. sample : the one it concerns, empty for all or
    several. changes : what was changed. method : as it was after the change.
    """

    time: str
    text: str
    sample: str
    changes: tuple[Difference, ...]
    method: Method

    def concerns(self, sample: str) -> bool:
        """Whether it changes something for a sample."""
        return self.sample in ("", sample)

    @property
    def summary(self) -> str:
        """The changes in one line."""
        parts = [
            f"{line.part} · {line.what}: {line.one} → {line.other}" for line in self.changes[:3]
        ]
        more = len(self.changes) - 3
        return "; ".join(parts) + (f"; and {more} more" if more > 0 else "")


def entry_for(text: str, time: str, old: StudyState, new: StudyState) -> HistoryEntry:
    """Return the entry for a change of the study."""
    lines = differences(old.method, new.method)
    lines += _of_samples(old.samples, new.samples)
    concerned = {line.sample for line in lines}
    sample = concerned.pop() if len(concerned) == 1 else ""
    return HistoryEntry(time, text, sample, tuple(lines[:_MOST_LINES]), new.method)


def _of_samples(old: Sequence[SampleEntry], new: Sequence[SampleEntry]) -> list[Difference]:
    before, after = {e.id: e for e in old}, {e.id: e for e in new}
    lines = []
    for key in dict.fromkeys([*before, *after]):
        earlier, other = before.get(key), after.get(key)
        if earlier is None or other is None:
            name = next(entry.name for entry in (earlier, other) if entry is not None)
            sides = ("in the study", NOTHING) if earlier else (NOTHING, "in the study")
            lines.append(Difference("Sample", name, *sides, name))
            continue
        for what, left, right in (
            ("name", earlier.name, other.name),
            ("group", earlier.group, other.group),
            ("replicate", earlier.replicate, other.replicate),
            ("declared", _plain(earlier), _plain(other)),
        ):
            if left != right:
                lines.append(
                    Difference("Sample", what, left or NOTHING, right or NOTHING, other.name)
                )
    return lines


def _plain(entry: SampleEntry) -> str:
    typed = entry.overrides.model_dump(exclude_none=True)
    return ", ".join(f"{name.replace('_', ' ')} {value}" for name, value in typed.items())


def changes_as_text(entry: HistoryEntry) -> str:
    """Return the changes as JSON, as study files keep them."""
    return json.dumps(
        [[line.part, line.what, line.one, line.other, line.sample] for line in entry.changes],
        ensure_ascii=False,
    )


def changes_from_text(text: str) -> tuple[Difference, ...]:
    """Return the changes from a study file. Raises ValueError."""
    data: Any = parsed(text)
    if not isinstance(data, list) or any(
        not isinstance(line, list) or len(line) != 5 for line in data
    ):
        raise ValueError("a change of the history has another form")
    return tuple(Difference(*(str(part) for part in line)) for line in data)


def were_blind(history: Sequence[HistoryEntry]) -> list[bool]:
    """Return of each change whether it was made while the study was blinded."""
    states, is_on = [], False
    for entry in history:
        if entry.text == UNBLIND:
            is_on = False
        states.append(is_on)
        if entry.text == BLIND:
            is_on = True
    return states


def edits_made(history: Sequence[HistoryEntry]) -> tuple[int, int]:
    """Return how many changes of regions by hand were made blind, and how many not."""
    counts, before = [0, 0], 0
    for entry, blind in zip(history, were_blind(history), strict=True):
        now = sum(len(exception.edits) for exception in entry.method.exceptions.values())
        counts[not blind] += max(now - before, 0)
        before = now
    return counts[0], counts[1]


def history_frame(entries: Sequence[HistoryEntry]) -> ResultFrame:
    """Return the history as a table, a row a setting that was changed."""
    rows = []
    blind = were_blind(entries)
    for number, entry in enumerate(entries, start=1):
        for line in entry.changes or (Difference("", "", "", ""),):
            sample = line.sample or entry.sample
            rows.append(
                (
                    number,
                    entry.time,
                    entry.text,
                    sample,
                    line.part,
                    line.what,
                    line.one,
                    line.other,
                    blind[number - 1],
                )
            )
    columns = ["number", "time", "change", "sample", "part", "what", "before", "after", "blind"]
    return ResultFrame.of_rows(columns, rows)
