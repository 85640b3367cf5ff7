"""The card of known patches that the open step of Correct marks on the picture."""

from __future__ import annotations

from dataclasses import dataclass

from rilievo.core.signal.cards import CardLayout

Point = tuple[float, float]


@dataclass(frozen=True)
class MarkedCard:
    """Where it lies. of : the step and the sample. corners : four or none.

    layout : None where typed values are no card. inner : share of a patch that is read.
    """

    of: tuple[str, str]
    corners: tuple[Point, ...]
    layout: CardLayout | None
    inner: float
