"""Whether regions were rejected more often in one group than in another."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from rilievo.core.batch import Outcome
from rilievo.core.compare.hypotheses import kruskal_wallis, mann_whitney
from rilievo.core.method.method import Method
from rilievo.core.wording.numbers import p_text

_LESS = 0.05


@dataclass(frozen=True)
class GroupRejections:
    """Regions of a group that were rejected by hand, and those that were kept."""

    group: str
    samples: int
    rejected: int
    kept: int

    @property
    def share(self) -> float:
        """Rejected of all; NaN without any region."""
        total = self.rejected + self.kept
        return self.rejected / total if total else math.nan


@dataclass(frozen=True)
class Rejections:
    """By group, and p that the samples of all groups have like shares; NaN where not known."""

    groups: tuple[GroupRejections, ...]
    p: float

    @property
    def sentence(self) -> str:
        """What follows, "" where nothing was rejected or there is one group."""
        if len(self.groups) < 2 or not any(group.rejected for group in self.groups):
            return ""
        shares = "; ".join(
            f"{group.group}: {group.rejected} of {group.rejected + group.kept} "
            f"({100 * group.share:.1f} %)"
            for group in self.groups
            if not math.isnan(group.share)
        )
        summary = f"Regions rejected by hand: {shares}."
        if math.isnan(self.p):
            return f"{summary} Too few samples to tell whether the groups differ."
        if self.p < _LESS:
            return (
                f"{summary} The groups differ ({p_text(self.p)}, by ranks of samples): rejecting "
                "may be the cause of what is compared."
            )
        test_words = f"{p_text(self.p)}, by ranks of samples"
        return f"{summary} The groups do not differ demonstrably ({test_words})."


def rejections_of(outcomes: Sequence[Outcome], method: Method) -> Rejections:
    """Return the regions that were rejected by hand, by group, and whether groups differ.

    The unit is the sample with its share; p by Mann & Whitney, or Kruskal & Wallis.
    """
    rows: dict[str, list[tuple[int, int]]] = {}
    for outcome in outcomes:
        if outcome.table is None:
            continue
        edits = method.exception_for(outcome.item.name).edits
        rejected = sum(edit.kind == "reject" for edit in edits)
        rows.setdefault(outcome.item.group or "no group", []).append(
            (rejected, int(outcome.table.ids.size))
        )
    groups = tuple(
        GroupRejections(name, len(counts), sum(r for r, _ in counts), sum(k for _, k in counts))
        for name, counts in rows.items()
    )
    shares = [
        np.array([r / (r + k) for r, k in counts if r + k], np.float64) for counts in rows.values()
    ]
    if len(shares) < 2 or min(group_shares.size for group_shares in shares) < 2:
        return Rejections(groups, math.nan)
    test = mann_whitney(*shares) if len(shares) == 2 else kruskal_wallis(shares)
    return Rejections(groups, test.p)
