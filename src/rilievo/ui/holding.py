"""Which samples have their pixels in memory: all, or of a large study a part around the focus."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from rilievo.core.study.residency import held
from rilievo.core.study.study import SampleEntry

if TYPE_CHECKING:
    from rilievo.ui.workbench import Workbench


class Holding:
    """Asks for samples to be loaded, and lets others go."""

    def __init__(self, bench: Workbench, load: Callable[[SampleEntry], None]) -> None:
        self._bench, self._load = bench, load
        self._wanted: frozenset[int] = frozenset()
        self._loading: set[int] = set()
        self._refused: set[int] = set()

    @property
    def all(self) -> bool:
        """Whether there is room for the pixels of all samples."""
        return len(self._wanted) == len(self._bench.model.state.samples) or not self._wanted

    def __contains__(self, sample_id: int) -> bool:
        """Whether a sample's pixels are in memory, or will be."""
        return sample_id in self._wanted

    def update(self) -> None:
        """Have those in memory that are wanted now."""
        bench, state = self._bench, self._bench.model.state
        known = {i: sample.nbytes for i, sample in bench.samples.items()}
        usual = sum(known.values()) // len(known) if known else 0
        sizes = {e.id: known.get(e.id) or max(usual, e.size) for e in state.samples}
        wanted = held(sizes, bench.model.sample_id, bench.evaluator.budget)
        if len(wanted) < len(sizes) and self.all:
            bench.held_partly.emit(len(wanted), len(sizes))
        self._wanted = frozenset(wanted)
        bench.let_go(bench.samples.keys() - self._wanted)
        there = bench.samples.keys() | self._loading | self._refused
        for sample_id in wanted:
            if sample_id not in there:
                self._load(state.entry(sample_id))

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
