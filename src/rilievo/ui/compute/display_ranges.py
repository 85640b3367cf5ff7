"""How channels are shown: ranges that suit all samples, styles, and the scale of numbers."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Literal

from PyQt6.QtCore import QObject

from rilievo.core.image.image import ValueSource
from rilievo.core.image.number_scale import NumberScale, scale_for
from rilievo.core.pipeline.sample_summary import Ends
from rilievo.core.view.palettes import ViewStyle
from rilievo.ui.compute.displayed_image import DisplayedImage
from rilievo.ui.compute.evaluation_queue import EvaluationQueue
from rilievo.ui.compute.sample_store import SampleStore
from rilievo.ui.session.study_session import StudySession


class DisplayRanges(QObject):
    """Ranges set by hand, or from the lowest low to the highest high end of the samples.

    Those of all samples are kept until something new is known of one.
    """

    def __init__(
        self,
        session: StudySession,
        store: SampleStore,
        queue: EvaluationQueue,
        displayed: DisplayedImage,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._store, self._queue = session, store, queue
        self._displayed = displayed
        self._of_all: Ends = {}
        for signal in (store.loaded, store.evicted, store.dropped, queue.changed):
            signal.connect(lambda *_: self._of_all.clear())

    def display_range(
        self, channel: str, source: ValueSource, sample_id: int | None = None
    ) -> tuple[float, float]:
        """Return the range set by hand, or one that suits all samples loaded so far.

        sample_id : the sample that is shown; it may have a view of its own.
        """
        state = self._session.state
        own = self._displayed.ends(channel) if source == "signal" else None
        if own is not None:
            return own
        chosen = state.range_of(sample_id, channel, source)
        if chosen is not None:
            return chosen
        return self.automatic_range(channel, source, sample_id in state.own_views and sample_id)

    def automatic_range(
        self, channel: str, source: ValueSource, alone: int | Literal[False] | None = None
    ) -> tuple[float, float]:
        """Return the lowest and highest of the samples' own 0.2 and 99.8 % levels.

        alone : a sample whose own levels are wanted and no other's.
        """
        if alone:
            return self._range_over([alone], channel, source)
        if (channel, source) not in self._of_all:
            self._of_all[channel, source] = self._range_over(self._store.samples, channel, source)
        return self._of_all[channel, source]

    def _range_over(
        self, ids: Iterable[int], channel: str, source: ValueSource
    ) -> tuple[float, float]:
        key = (channel, source)
        summaries, quick = self._queue.summaries, self._store.quick_ends
        low, high = math.inf, -math.inf
        for sample_id in ids:
            summary = summaries.get(sample_id)
            ends = summary.ends.get(key) if summary is not None else None
            if ends is None:
                ends = quick[sample_id].get(key) if sample_id in quick else None
            if ends is not None:
                low, high = min(low, ends[0]), max(high, ends[1])
        if low > high:
            return 0.0, 1.0
        return (low, high) if high > low else (low, low + 1.0)

    def style(self, channel: str, sample_id: int | None = None) -> ViewStyle:
        """Return how a channel is shown, in a sample that may have a view of its own."""
        return self._session.state.style_of(sample_id, channel)

    # -- numbers of the focused sample

    def number_scale(self, channel: str | None = None) -> NumberScale:
        """Return the scale on which numbers of a channel are printed."""
        kind, sample = self._session.view.scale, self._store.focused
        if kind == "native" or sample is None:
            return NumberScale()
        known = channel is not None and channel in sample.channels
        name = channel if known and channel is not None else self._store.channel_for(sample)
        return scale_for(kind, sample.channels[name], self._native_ends(name))

    def unit_share(self, channel: str, native: float) -> float:
        """Return where a native value lies from 0 to 1; NaN if unknown."""
        sample = self._store.focused
        if sample is None:
            return math.nan
        return sample.channels[channel].unit_share(native, self._native_ends(channel))

    def _native_ends(self, channel: str) -> tuple[float, float]:
        summary = self._queue.focused
        histogram = summary.native.get(channel) if summary is not None else None
        return (0.0, 0.0) if histogram is None else (histogram.lowest, histogram.highest)
