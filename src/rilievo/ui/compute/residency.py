"""Which samples have their pixels in memory: all, or of a large study a part around the focus."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from rilievo.core.image.image import Sample
from rilievo.core.study.resident_samples import choose_resident
from rilievo.core.study.study import StudyState


class Residency:
    """Decides which samples are wanted, and knows which are on their way or cannot be read."""

    def __init__(self, samples: Mapping[int, Sample]) -> None:
        """samples : those in memory; changed by their owner."""
        self._samples = samples
        self.wanted: frozenset[int] = frozenset()
        self._order: list[int] = []
        self._seen: tuple[int, ...] = ()
        self._loading: set[int] = set()
        self._refused: set[int] = set()

    @property
    def count(self) -> int:
        """How many samples are held."""
        return len(self.wanted)

    def holds_all(self, state: StudyState) -> bool:
        """Whether there is room for the pixels of all samples."""
        return len(self.wanted) == len(state.samples) or not self.wanted

    def look_at(self, sample_ids: Collection[int]) -> bool:
        """Note which samples are seen beside the focused one; return whether they are others."""
        before, self._seen = self._seen, tuple(sample_ids)
        return before != self._seen

    def choose(self, state: StudyState, focus: int | None, budget: int) -> None:
        """Choose which samples are wanted within a budget of bytes."""
        known = {i: sample.nbytes for i, sample in self._samples.items()}
        usual = sum(known.values()) // len(known) if known else 0
        sizes = {e.id: known.get(e.id) or max(usual, e.size) for e in state.samples}
        self._order = choose_resident(sizes, focus, budget, self._seen)
        self.wanted = frozenset(self._order)

    def missing(self) -> list[int]:
        """Return the samples that are wanted, not here and not under way; the first first."""
        there = self._samples.keys() | self._loading | self._refused
        return [sample_id for sample_id in self._order if sample_id not in there]

    def is_loading(self, sample_id: int | None) -> bool:
        """Whether a sample is on its way."""
        return sample_id in self._loading

    def begin(self, sample_id: int) -> None:
        """Note that a sample is being read."""
        self._loading.add(sample_id)

    def end(self, sample_id: int, *, good: bool) -> None:
        """Note that it was read, or cannot be; then it is not tried again by itself."""
        self._loading.discard(sample_id)
        if not good:
            self._refused.add(sample_id)

    def forget(self, sample_id: int) -> None:
        """Try a sample again that could not be read: its file is another now."""
        self._refused.discard(sample_id)
