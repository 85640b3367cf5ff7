"""Colours and font of a figure."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class FigureLook:
    """Colours and font of a figure."""

    ground: str = "#FFFFFF"
    ink: str = "#26302E"
    faint: str = "#5F645F"
    hairline: str = "#DAD5C8"
    check: str = "#8A5A00"
    font: str = "Inter"


PLAIN = FigureLook()
