"""How files become samples: names split into fields by a pattern, files joined, planes chosen.

A pattern is a file name without its ending in which named fields in braces stand for what varies:

    {sample}_{channel}            cells-01_dye.tif        → sample “cells-01”, channel “dye”
    {group}/{sample}              treated/07.tif          → group “treated”, sample “07”
    {group}-{replicate#}_{dose}   low-3_20mM.tif          → … and an attribute “dose”

`#` inside the braces stands for digits only, `*` for anything, `/` parts folders. The fields
sample, channel, group and replicate have their meaning; every other one becomes an attribute.
Files that agree in all fields but the channel are one sample. Of two fields around a separator that
is met several times the earlier is the shorter; only the sample's is the longer one.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from rilievo.core.files import sample_name
from rilievo.core.files.grouping import groups_for, trimmed
from rilievo.core.files.sample_parts import Part, chosen_planes
from rilievo.core.files.sample_ref import SampleRef

MEANINGS = ("sample", "channel", "group", "replicate")
_MOST_FIELDS = 8
_GREEDY = "([^/]+)"
_FIELD = re.compile(r"\{([^{}]*)\}|(\*)|([^{}*]+)|([{}])")

Planes = Literal["together", "apart"]


class PatternError(ValueError):
    """A name pattern that cannot be understood; the message says why."""


@dataclass(frozen=True)
class NamePattern:
    """A pattern ready to be matched. fields : names in their order."""

    text: str
    fields: tuple[str, ...]
    expression: re.Pattern[str]
    folders: int

    @classmethod
    def parse(cls, text: str) -> NamePattern:
        """Return the pattern of a text. Raises PatternError with what is wrong."""
        fields: list[str] = []
        parts: list[str] = []
        varying = digits_before = False
        pieces = [match.groups() for match in _FIELD.finditer(text.strip())]
        for k, (name, star, plain, brace) in enumerate(pieces):
            if brace:
                raise PatternError(f"A “{brace}” has no partner.")
            if plain is not None:
                parts.append(re.escape(plain))
                varying = False
                continue
            digits = not star and name.endswith("#")
            # Where letters and digits meet, two fields tell themselves apart.
            if varying and digits_before == digits:
                raise PatternError("Two fields need something between them, such as _ or -.")
            varying, digits_before = True, digits
            if star:
                parts.append("[^/]*?")
                continue
            field = name.removesuffix("#").strip()
            if not field:
                raise PatternError("A field needs a name, such as {sample}.")
            if field in fields:
                raise PatternError(f"The field “{field}” stands there twice.")
            fields.append(field)
            if digits:
                # All digits are the number's, where the next field could take some of them.
                before_field = k + 1 < len(pieces) and pieces[k + 1][2] is None
                parts.append(r"(\d++)" if before_field else r"(\d+?)")
            else:
                parts.append(_GREEDY if field == "sample" else "([^/]+?)")
        if not fields:
            raise PatternError("The pattern needs a field, such as {sample}.")
        if len(fields) > _MOST_FIELDS:
            raise PatternError(f"A pattern has at most {_MOST_FIELDS} fields.")
        expression = re.compile("".join(parts))
        return cls(text, tuple(fields), expression, text.count("/"))

    def match(self, path: Path) -> dict[str, str] | None:
        """Return the fields in a file's name, or None when it does not fit."""
        folders = path.parts[:-1][-self.folders :] if self.folders else ()
        name = "/".join((*folders, sample_name(path)))
        fitting = self.expression.fullmatch(name)
        return None if fitting is None else dict(zip(self.fields, fitting.groups(), strict=True))


def propose(paths: Sequence[Path], pattern: NamePattern | None = None) -> list[SampleRef]:
    """Return how files become samples, in the order of the files.

    Without a pattern each file is a sample, grouped by its name or folder. With one, files that
    do not fit are listed with the problem.
    """
    if pattern is None:
        guessed = groups_for(list(paths))
        return [
            SampleRef(path, sample_name(path), group, (Part(path),), replicate=replicate)
            for path, (group, replicate) in zip(paths, guessed, strict=True)
        ]
    samples: dict[tuple[tuple[str, str], ...], SampleRef] = {}
    for path in paths:
        fields = pattern.match(path)
        if fields is None:
            samples[("", str(path)),] = SampleRef(
                path, sample_name(path), parts=(Part(path),), problem="does not fit the pattern"
            )
            continue
        channel = fields.pop("channel", "")
        key = tuple(sorted(fields.items()))
        part = Part(path, channel=channel)
        if key in samples:
            samples[key] = _joined(samples[key], part)
        else:
            samples[key] = _proposal(fields, part)
    return list(samples.values())


def _joined(proposal: SampleRef, part: Part) -> SampleRef:
    if not part.channel or any(
        part_before.channel == part.channel for part_before in proposal.parts
    ):
        return replace(
            proposal,
            parts=(*proposal.parts, part),
            problem="several files have these fields; add {channel} or another field",
        )
    return replace(proposal, parts=(*proposal.parts, part))


def _proposal(fields: Mapping[str, str], part: Part) -> SampleRef:
    group, replicate = fields.get("group", ""), fields.get("replicate", "")
    name = fields.get("sample", "")
    if not name:
        rest = [value for key, value in fields.items() if key != "channel"]
        name = "-".join(rest) or sample_name(part.path)
    elif group and replicate == "" and part.path.parent.name == group:
        # “07” of several folders would be the same name again and again.
        name = f"{group}-{name}" if name.isdigit() else name
    attributes = {key: value for key, value in fields.items() if key not in MEANINGS}
    return SampleRef(
        part.path, name, trimmed(group), (part,), attributes=attributes, replicate=replicate
    )


def with_planes(
    proposal: SampleRef, names: Sequence[str], choice: str, planes: Planes
) -> list[SampleRef]:
    """Return a one-file proposal with a choice of its planes, together or each a sample.

    names : the planes the file has. choice : as `chosen_planes` reads it. Raises ValueError.
    """
    if len(proposal.parts) != 1:
        return [proposal]
    part = proposal.parts[0]
    planes_chosen = chosen_planes(choice, names)
    if planes == "apart" and len(planes_chosen) > 1:
        return [
            replace(
                proposal,
                name=f"{proposal.name} {plane}",
                parts=(replace(part, planes=(plane,), channel="gray"),),
            )
            for plane in planes_chosen
        ]
    if planes_chosen == tuple(names):
        return [proposal]
    return [replace(proposal, parts=(replace(part, planes=planes_chosen),))]
