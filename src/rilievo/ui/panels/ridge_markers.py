"""Which markers stand on the Ridges at each stage, and what their flags say."""

from __future__ import annotations

import math

from rilievo.core.signal.steps.background_level import LevelBackground
from rilievo.core.wording.numbers import share_text, shown
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.widgets.markers import Marker


class StageMarkers:
    """Display range in Look, typed background levels in Correct, threshold from Outline on."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        self._session, self._compute = session, compute

    def on(self, channel: str) -> list[Marker]:
        """Return the markers of the present stage on a channel."""
        if not channel:
            return []
        stage = self._session.stage
        if stage == "look":
            return self._display_markers(channel)
        if stage == "correct":
            return self._background_markers(channel)
        return self._outline_markers(channel)

    def _display_markers(self, channel: str) -> list[Marker]:
        """Both ends of the display range, with the share of pixels below."""
        low, high = self._compute.ranges.display_range(
            channel, "native", self._session.focus.sample_id
        )
        return [
            Marker(f"display {end}", value, self._percentile(channel, value))
            for end, value in (("low", low), ("high", high))
        ]

    def _background_markers(self, channel: str) -> list[Marker]:
        """Typed levels, which can be dragged; what is estimated stands on its card."""
        levels = [
            (use.id, use.parameters.level)
            for use in self._session.state.method.steps
            if use.applies_to(channel) and isinstance(use.parameters, LevelBackground)
        ]
        return [
            Marker(f"background {step_id}", level, self.printed(channel, level), "water")
            for step_id, level in levels
        ]

    def _outline_markers(self, channel: str) -> list[Marker]:
        """The threshold, or both ends of a band."""
        if channel != self._compute.store.outline_channel:
            return []
        band = self._compute.drag.band
        if band is not None:
            return [
                Marker(end, band[end], self.printed(channel, band[end]))
                for end in ("lower", "upper")
            ]
        level = self._compute.regions.level(self._session.focus.sample_id)
        if level is None or not math.isfinite(level):
            return []
        return [Marker("threshold", level, self.printed(channel, level))]

    def _percentile(self, channel: str, value: float) -> str:
        summary = self._compute.queue.focused
        histogram = summary.native.get(channel) if summary else None
        if histogram is None:
            return self.printed(channel, value)
        share = 100 * histogram.share_at_or_below(value)
        return f"{self.printed(channel, value)} · {share_text(share)}"

    def printed(self, channel: str, value: float) -> str:
        """Return a level on the number scale in force."""
        return shown(self._compute.ranges.number_scale(channel).value(value))
