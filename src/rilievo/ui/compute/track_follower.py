"""Follows regions of stacks through time, in a thread, once measurements have come in."""

from __future__ import annotations

import time

from PyQt6.QtCore import QObject, QTimer

from rilievo.core.table.table import RegionTable
from rilievo.core.table.track_columns import with_tracks
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.session.study_session import StudySession

# Tables come in one after another; they are followed once for all that come together, and while
# a batch goes on for no more than a part of the time.
_TOGETHER_MS, _REST = 200, 4


class TrackFollower(QObject):
    """Gives the measurements the tracks of their regions."""

    def __init__(self, session: StudySession, jobs: Jobs, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._measurements, self._jobs = session.measurements, jobs
        # The tables that were followed last.
        self._followed: list[RegionTable] = []
        self._wait_ms = _TOGETHER_MS
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._follow)
        self._measurements.changed.connect(self._on_measured)

    def _on_measured(self) -> None:
        if not self._soon.isActive():
            self._soon.start(self._wait_ms)

    def _follow(self) -> None:
        planes = self._measurements.planes_of_stacks()
        measured = [table for _, table, _ in planes]
        same = len(measured) == len(self._followed) and all(
            a is b for a, b in zip(measured, self._followed, strict=True)
        )
        if same:
            return
        self._followed = measured
        told = [table for _, _, table in planes]

        def work() -> tuple[list[RegionTable], float]:
            start = time.perf_counter()
            return with_tracks(told), time.perf_counter() - start

        def done(result: tuple[list[RegionTable], float]) -> None:
            found, seconds = result
            self._wait_ms = max(_TOGETHER_MS, round(1000 * _REST * seconds))
            self._measurements.take_tracks(
                {
                    sample_id: (table, own.known)
                    for (sample_id, table, _), own in zip(planes, found, strict=True)
                }
            )

        self._jobs.run("tracks", work, done, background=True)
