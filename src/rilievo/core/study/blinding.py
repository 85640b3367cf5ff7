"""A blinded study: samples have codes for names and stand in a random order, without groups.

What was hidden stays in the study under seal, and comes back when it is unblinded, which is a
change of its own in the history.
"""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from dataclasses import replace

from rilievo.core.errors import StudyError
from rilievo.core.method.diff import Difference
from rilievo.core.method.method import Method, checked_copy
from rilievo.core.method.named_files import files_named
from rilievo.core.study.sealed_study import Blinding, Sealed
from rilievo.core.study.study import SampleEntry, StudyState


def blinded(state: StudyState, rng: random.Random | None = None) -> StudyState:
    """Return the study with codes for names, in a random order, without groups and attributes.

    rng : gives the order; the system's own where it is None. Raises StudyError for a study that
    is blinded already or has nothing to hide, and where files are found by names of samples.
    """
    if state.blinding.is_on:
        raise StudyError("The study is blinded already.")
    if len(state.samples) < 2:
        raise StudyError("A study is blinded once it has two samples at least; add images first.")
    if any("{sample}" in str(file) for file in files_named(state.method)):
        raise StudyError(
            "A class takes its regions from label images that are named by the sample, which codes "
            "would not be; give the study regions of another source before it is blinded."
        )
    shuffled = list(state.samples)
    (rng or random.SystemRandom()).shuffle(shuffled)
    digits = max(len(str(len(shuffled))), 2)
    codes = {entry.id: f"blind {k:0{digits}}" for k, entry in enumerate(shuffled, start=1)}
    sealed = tuple(
        Sealed(
            id=entry.id,
            code=codes[entry.id],
            name=entry.name,
            group=entry.group,
            replicate=entry.replicate,
            attributes=dict(entry.attributes),
        )
        for entry in state.samples
    )
    names = {sealed_sample.name: sealed_sample.code for sealed_sample in sealed}
    hidden = tuple(
        replace(entry, name=codes[entry.id], group="", replicate="", attributes={})
        for entry in shuffled
    )
    return replace(
        state,
        samples=hidden,
        method=renamed(state.method, names),
        preregistration=state.preregistration.with_method(lambda method: renamed(method, names)),
        blinding=Blinding(is_on=True, sealed=sealed),
    )


def unblinded(state: StudyState) -> StudyState:
    """Return the study with the names, groups, attributes and order that it had.

    Samples that came in while it was blinded stand at the end. Raises StudyError for one that is
    not blinded.
    """
    if not state.blinding.is_on:
        raise StudyError("The study is not blinded.")
    by_id = {entry.id: entry for entry in state.samples}
    sealed_ids = {sealed_sample.id for sealed_sample in state.blinding.sealed}
    opened = [
        replace(
            by_id[sealed_sample.id],
            name=sealed_sample.name,
            group=sealed_sample.group,
            replicate=sealed_sample.replicate,
            attributes=dict(sealed_sample.attributes),
        )
        for sealed_sample in state.blinding.sealed
        if sealed_sample.id in by_id
    ]
    later = [entry for entry in state.samples if entry.id not in sealed_ids]
    return replace(
        state,
        samples=tuple(_apart(opened, later)),
        method=renamed(state.method, state.blinding.names),
        preregistration=state.preregistration.with_method(
            lambda method: renamed(method, state.blinding.names)
        ),
        blinding=checked_copy(state.blinding, is_on=False),
    )


def _apart(opened: Sequence[SampleEntry], later: Sequence[SampleEntry]) -> list[SampleEntry]:
    """All samples, those that came later under another name where theirs is taken."""
    taken = {entry.name for entry in opened}
    entries = list(opened)
    for entry in later:
        name, k = entry.name, 1
        while name in taken:
            k += 1
            name = f"{entry.name} {k}"
        taken.add(name)
        entries.append(replace(entry, name=name))
    return entries


def renamed(method: Method, names: Mapping[str, str]) -> Method:
    """Return a method that means the same of samples with other names. names : old → new."""

    outlines = []
    for outline in method.outlines:
        renamed_picks = (
            checked_copy(p, sample=names.get(p.sample, p.sample)) for p in outline.picks
        )
        outlines.append(
            checked_copy(outline, picks=tuple(renamed_picks)) if outline.picks else outline
        )
    picks = (
        pick
        if pick.sample is None
        else checked_copy(pick, sample=names.get(pick.sample, pick.sample))
        for pick in method.picks
    )
    return method.changed(
        exceptions={
            names.get(name, name): exception for name, exception in method.exceptions.items()
        },
        picks=tuple(picks),
        outlines=tuple(outlines),
    )


def opened_names(state: StudyState) -> list[Difference]:
    """Return which code was which sample, as the history tells it."""
    return [
        Difference("Sample", "name", sealed_sample.code, sealed_sample.name, sealed_sample.name)
        for sealed_sample in state.blinding.sealed
    ]
