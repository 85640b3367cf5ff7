"""Which samples are shown in which order: by group, attribute, checks, count or a summary.

Works on plain values, so that thousands of samples are arranged in a moment.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from rilievo.core.study.study import SampleEntry
from rilievo.core.table.summaries import SUMMARY_TITLES, sample_frame
from rilievo.core.table.table import RegionTable

STUDY, NAME, CHECKS, COUNT = "study", "name", "checks", "count"
_ATTRIBUTE, SUMMARY = "attribute:", "summary:"
_PARTS = re.compile(r"(\d+)")
# Of summaries, what samples can be sorted by.
_NUMBERS = tuple(
    key
    for key in SUMMARY_TITLES
    if key not in ("sample", "group", "channel", "class", "marks", "threshold")
)


@dataclass(frozen=True)
class SampleFacts:
    """What is known of samples beside the study: number of checks and of regions, summaries.

    counts : None where regions are not known. summaries : sample's id → key → value.
    """

    checks: Mapping[int, int]
    counts: Mapping[int, int | None]
    summaries: Mapping[int, Mapping[str, float]]


@dataclass(frozen=True)
class Section:
    """Samples under one heading. title : name of the group; None where all are in one row."""

    title: str | None
    entries: tuple[SampleEntry, ...]


def orders(entries: Sequence[SampleEntry], tables: Iterable[RegionTable]) -> dict[str, str]:
    """Return what samples can be sorted by: key → words."""
    found = {STUDY: "study order", NAME: "name", COUNT: "regions", CHECKS: "checks"}
    names = dict.fromkeys(name for entry in entries for name in entry.attributes)
    found |= {f"{_ATTRIBUTE}{name}": name for name in names}
    if any(True for _ in tables):
        found |= {
            f"{SUMMARY}{key}": SUMMARY_TITLES[key].split(" (")[0].lower()
            for key in _NUMBERS
            if key != "region_count"
        }
    return found


def summaries_of(tables: Mapping[int, RegionTable]) -> dict[int, dict[str, float]]:
    """Return the summaries of the first class and channel of each sample."""
    if not tables:
        return {}
    frame = sample_frame(list(tables.values()))
    keys = [key for key in _NUMBERS if key in frame]
    rows: dict[str, dict[str, float]] = {}
    for row in frame.records():
        rows.setdefault(row["sample"], {key: float(row[key]) for key in keys})
    return {k: rows[table.sample] for k, table in tables.items() if table.sample in rows}


def arranged(
    entries: Sequence[SampleEntry], order: str, words: str, facts: SampleFacts
) -> list[Section]:
    """Return the samples that match, in order; under their groups where they are as in the study.

    words : each must be met in the name, group, replicate or an attribute; “check” those with
    checks, “none” those without regions.
    """
    shown = [entry for entry in entries if _matches(entry, words, facts)]
    if order in (STUDY, NAME):
        members: dict[str, list[SampleEntry]] = {}
        for entry in shown:
            members.setdefault(entry.group, []).append(entry)
        return [
            Section(group, tuple(_by_name(own) if order == NAME else own))
            for group, own in members.items()
        ]
    key = {entry.id: _key(entry, order, facts) for entry in shown}
    # What has no value comes last, whichever way the others go.
    known = [entry for entry in shown if key[entry.id] is not None]
    others = [entry for entry in shown if key[entry.id] is None]
    falls = order in (CHECKS, COUNT) or order.startswith(SUMMARY)
    known.sort(key=lambda entry: key[entry.id], reverse=falls)  # type: ignore[arg-type,return-value]
    return [Section(None, (*known, *others))] if shown else []


def _by_name(entries: Sequence[SampleEntry]) -> list[SampleEntry]:
    return sorted(entries, key=lambda entry: natural(entry.name))


def natural(text: str) -> tuple[tuple[int, float, str], ...]:
    """Return a key that sorts 2 before 10."""
    return tuple(
        (0, float(part), "") if part.isdigit() else (1, 0.0, part.lower())
        for part in _PARTS.split(text)
        if part
    )


def _key(entry: SampleEntry, order: str, facts: SampleFacts) -> object:
    if order == CHECKS:
        return facts.checks.get(entry.id, 0)
    if order == COUNT:
        return facts.counts.get(entry.id)
    if order.startswith(_ATTRIBUTE):
        value = entry.attributes.get(order.removeprefix(_ATTRIBUTE), "")
        return natural(value) if value else None
    number = facts.summaries.get(entry.id, {}).get(order.removeprefix(SUMMARY), math.nan)
    return number if math.isfinite(number) else None


def _matches(entry: SampleEntry, words: str, facts: SampleFacts) -> bool:
    texts = (entry.name, entry.group, entry.replicate, *entry.attributes.values())
    together = " ".join(texts).lower()
    for word in words.lower().split():
        if word in together:
            continue
        if word in ("check", "checks") and facts.checks.get(entry.id, 0):
            continue
        if word == "none" and facts.counts.get(entry.id) == 0:
            continue
        return False
    return True
