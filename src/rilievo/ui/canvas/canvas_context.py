"""What tools and overlays know of the picture: a small part of it."""

from __future__ import annotations

from typing import Protocol

from PyQt6.QtCore import QObject, QRect, QRectF, pyqtSignal

from rilievo.core.image.line_profile import Line
from rilievo.core.parameters import Rectangle
from rilievo.ui.canvas.marked_card import MarkedCard
from rilievo.ui.canvas.navigator import Navigator
from rilievo.ui.canvas.split import SplitView
from rilievo.ui.compute.region_editor import RegionEditor


class CanvasSignals(QObject):
    """What tools say was done with them; positions are those of the image."""

    pick_wanted = pyqtSignal(int, int)
    line_drawn = pyqtSignal(float, float, float, float)
    length_drawn = pyqtSignal(float, float)
    repair_wanted = pyqtSignal(object)  # Rectangle
    patch_drawn = pyqtSignal(object, int)  # Rectangle; which was moved, −1 anew, −2 one more
    card_marked = pyqtSignal(object)  # four positions, of a card's corners
    tool_done = pyqtSignal()


class CanvasContext(Protocol):
    """The picture as a tool sees it.

    signals : what tools say. editor : takes what is drawn. patches : rectangles of the open card.
    card : the card of known patches that it marks.
    """

    signals: CanvasSignals
    editor: RegionEditor
    patches: tuple[Rectangle, ...]
    card: MarkedCard | None

    @property
    def line(self) -> Line | None:
        """The line of the profile."""

    def zoom_to_box(self, box: QRectF) -> None:
        """Show a box of image positions as large as it fits."""


class OverlayContext(CanvasContext, Protocol):
    """The picture as what is drawn over it sees it."""

    patch_label: str
    covered: tuple[QRectF, ...]
    margin: float
    chosen_picks: frozenset[int]
    line_cursor: float | None
    under: tuple[int, int] | None
    beside: SplitView
    navigator: Navigator

    @property
    def shows_before(self) -> bool:
        """Whether the picture as it entered the stage is shown."""

    def width(self) -> int:
        """Width of the picture on the screen."""

    def rect(self) -> QRect:
        """The picture on the screen."""

    def hasFocus(self) -> bool:
        """Whether keys go to the picture."""
