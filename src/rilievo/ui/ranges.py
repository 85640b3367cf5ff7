"""Display ranges that suit all samples, kept until something new is known of one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from rilievo.core.image.image import Lane
from rilievo.core.pipeline.sample_summary import Facts

Ends = dict[tuple[str, Lane], tuple[float, float]]


class Ranges:
    """From the lowest low to the highest high end of the samples.

    samples : those in memory. facts, quick : what is known of each, exactly or from few pixels.
    """

    def __init__(
        self,
        samples: Mapping[int, object],
        facts: Mapping[int, Facts],
        quick: Mapping[int, Ends],
    ) -> None:
        self._samples, self._facts, self._quick = samples, facts, quick
        self._kept: Ends = {}

    def forget(self) -> None:
        """Find them anew when they are asked for again."""
        self._kept.clear()

    def of_all(self, channel: str, lane: Lane) -> tuple[float, float]:
        """Return the range of a channel over all samples."""
        if (channel, lane) not in self._kept:
            self._kept[channel, lane] = self.of(self._samples, channel, lane)
        return self._kept[channel, lane]

    def of(self, ids: Iterable[int], channel: str, lane: Lane) -> tuple[float, float]:
        """Return the range of a channel over some samples."""
        ends = [
            known[channel, lane]
            for i in ids
            for known in (self._known(i),)
            if (channel, lane) in known
        ]
        if not ends:
            return 0.0, 1.0
        low, high = min(e[0] for e in ends), max(e[1] for e in ends)
        return (low, high) if high > low else (low, low + 1.0)

    def _known(self, sample_id: int) -> Ends:
        facts, quick = self._facts.get(sample_id), self._quick.get(sample_id, {})
        return quick if facts is None else {**quick, **facts.ends}
