"""The same check of many samples in one line, and what tells samples from each other first."""

from __future__ import annotations

from collections.abc import Iterable, Set
from dataclasses import dataclass

from rilievo.core.pipeline.checks import Check

# A check that so large a share of the samples has in common tells none of them from the others.
_COMMON = 0.8
_FEWEST = 4
_HOW_BAD = ("serious", "caution", "note")

# What names a check of a sample for good: sample, kind, channel.
CheckName = tuple[str, str, str]


@dataclass(frozen=True)
class GatheredCheck:
    """One kind of check on one channel. checks : of each sample, in their order.

    is_common : whether nearly all samples have it.
    """

    kind: str
    channel: str
    severity: str
    checks: tuple[Check, ...]
    is_common: bool

    @property
    def names(self) -> frozenset[CheckName]:
        """The names of its checks."""
        return frozenset(name_of(check) for check in self.checks)

    def text(self, samples: int) -> str:
        """Return the line: what it is, and in which of so many samples."""
        first = self.checks[0].text
        if samples < 2:
            return first
        if len(self.checks) == samples:
            return f"all {samples} samples: {first}"
        listed = ", ".join(check.sample for check in self.checks[:3])
        more = f" and {len(self.checks) - 3} more" if len(self.checks) > 3 else ""
        return f"{listed}{more}: {first}"


def name_of(check: Check) -> CheckName:
    """Return what names a check for good."""
    return check.sample, check.kind, check.channel


def gathered(checks: Iterable[Check], samples: int) -> list[GatheredCheck]:
    """Return checks by kind and channel: what differs between samples first, then the worst.

    samples : how many there are.
    """
    groups: dict[tuple[str, str], list[Check]] = {}
    for check in checks:
        groups.setdefault((check.kind, check.channel), []).append(check)
    found = []
    for (kind, channel), group_checks in groups.items():
        concerned = len({check.sample for check in group_checks})
        found.append(
            GatheredCheck(
                kind,
                channel,
                min((check.severity for check in group_checks), key=_HOW_BAD.index),
                tuple(group_checks),
                samples >= _FEWEST and concerned >= _COMMON * samples,
            )
        )
    return sorted(
        found,
        key=lambda gathered_check: (
            gathered_check.is_common,
            _HOW_BAD.index(gathered_check.severity),
            len(gathered_check.checks),
        ),
    )


def telling(lines: Iterable[GatheredCheck], seen: Set[CheckName]) -> dict[str, int]:
    """Return how many checks tell each sample from the others, sample → number; not those seen.

    What is serious counts in every sample; what nearly all have in common, in none.
    """
    count_of: dict[str, int] = {}
    for line in lines:
        for check in line.checks:
            counts = check.severity == "serious" or not line.is_common
            if counts and check.severity != "note" and name_of(check) not in seen:
                count_of[check.sample] = count_of.get(check.sample, 0) + 1
    return count_of
