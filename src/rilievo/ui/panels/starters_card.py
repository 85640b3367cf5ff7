"""Begin with a job: whole methods, each with a small picture of what it finds on this sample."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QIcon, QImage, QPixmap
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from rilievo.core.errors import RilievoError
from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.method_suggestions import (
    STARTERS,
    PictureFacts,
    is_fresh,
    offered,
    small_copy,
)
from rilievo.core.pipeline.sample_pictures import Shot, small_pictures
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.progress import checkpoint
from rilievo.core.report.page_pictures import shot_pixels
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, clear_rows, faint

_SIDE = 96
_BUDGET = 200_000_000
Preview = tuple[NDArray[np.uint8], int]


def preview(sample: Sample, method: Method, cache: AnalysisCache) -> Preview:
    """Return a small picture of what a method finds, and how many regions that are."""
    classes = tuple(range(len(method.outlines)))
    channel = channel_of(sample, method.outlines[0].channel)
    shot = Shot("", channel, "signal", classes)
    analysis = Analysis(sample, method, cache)
    small = small_pictures(analysis, _SIDE, [shot])
    count = sum(analysis.regions(k).count for k in classes)
    return shot_pixels(small, shot, small.planes[shot.key].ends), count


class StartersCard(Card):
    """Shown as long as nothing was chosen; choosing one sets the whole method, undoable."""

    def __init__(self, session: StudySession, compute: Compute) -> None:
        super().__init__("Begin with a job", "or go on by hand")
        self._session, self._compute = session, compute
        self.buttons: dict[str, QPushButton] = {}
        self._facts: PictureFacts | None = None
        self._sample: Sample | None = None
        self._shown_for = ""
        self.add(
            faint(
                "Each is a whole method that can be changed; the pictures show what it finds on "
                "this sample."
            )
        )
        holder = QWidget()
        self._rows = QVBoxLayout(holder)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(4)
        self.add(holder)

    def refresh(self) -> None:
        """Show it where the method is still as at the beginning, for the focused sample."""
        sample = self._compute.store.focused
        wanted = is_fresh(self._session.state.method) and sample is not None
        self.setVisible(wanted)
        if not wanted or sample is None or sample.content == self._shown_for:
            return
        self._shown_for = sample.content
        self._compute.jobs.run(
            "starters", partial(self._look, sample), self._offer, lambda _: self.hide()
        )

    @staticmethod
    def _look(sample: Sample) -> tuple[Sample, PictureFacts]:
        small = small_copy(sample)
        return small, PictureFacts.of(small)

    def _offer(self, found: tuple[Sample, PictureFacts]) -> None:
        self._sample, self._facts = found
        clear_rows(self._rows)
        self.buttons = {}
        for key, why in offered(self._facts):
            starter = STARTERS[key]
            button = QPushButton(starter.title)
            button.setProperty("role", "starter")
            button.setToolTip(starter.about)
            button.setAccessibleName(f"Begin with: {starter.title}. {why}")
            button.setIconSize(QSize(scaled(72), scaled(54)))
            button.setIcon(_blank())
            button.clicked.connect(partial(self.choose, key))
            self._rows.addWidget(button)
            self.buttons[key] = button
            if why:
                self._rows.addWidget(faint(why))
        self._draw(list(self.buttons))

    def _draw(self, keys: list[str]) -> None:
        """Draw the previews one after another, so that the first is there soon."""
        sample, facts = self._sample, self._facts
        if not keys or sample is None or facts is None:
            return
        key, *others = keys
        if not is_fresh(self._session.state.method):
            # Nobody waits for these any more.
            self._shown_for = ""
            return
        why_not = STARTERS[key].why_not(facts)
        if why_not:
            self.buttons[key].setText(f"{STARTERS[key].title}\n{why_not}")
            self._draw(others)
            return

        def work() -> Preview:
            checkpoint()
            return preview(sample, STARTERS[key].make(sample, facts), AnalysisCache(_BUDGET))

        def done(found: Preview) -> None:
            if self._sample is sample and key in self.buttons:
                pixels, count = found
                self.buttons[key].setIcon(_icon(pixels))
                self.buttons[key].setText(f"{STARTERS[key].title}\n{self._count_text(count)}")
                self._draw(others)

        def failed(error: RilievoError) -> None:
            if self._sample is sample and key in self.buttons:
                self.buttons[key].setEnabled(False)
                self.buttons[key].setToolTip(str(error))
                self._draw(others)

        self._compute.jobs.run("starter preview", work, done, failed, background=True)

    def _count_text(self, count: int) -> str:
        focused = self._compute.store.focused
        whole = focused is not None and self._sample is not None and (
            focused.first.shape == self._sample.first.shape
        )  # fmt: skip
        word = "region" if count == 1 else "regions"
        # Of a large picture a smaller copy was looked at.
        return f"{'' if whole else 'about '}{count} {word} here"

    def choose(self, key: str, _checked: bool = False) -> None:
        """Set the method of a job, made for the focused sample at its full size."""
        sample, facts = self._compute.store.focused, self._facts
        if sample is None or facts is None:
            return
        starter = STARTERS[key]
        now = self._session.state.method
        made = starter.make(sample, facts)
        method = made.changed(reading=now.reading, measure=now.measure, picks=now.picks)
        self._session.change_method(f"Begin with {starter.title.lower()}", method)


def _icon(pixels: NDArray[np.uint8]) -> QIcon:
    height, width, _ = pixels.shape
    data = np.ascontiguousarray(pixels)
    image = QImage(data.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888)
    return QIcon(QPixmap.fromImage(image))


def _blank() -> QIcon:
    """What stands where a preview will be."""
    picture = QPixmap(_SIDE, _SIDE)
    picture.fill(Qt.GlobalColor.transparent)
    return QIcon(picture)
