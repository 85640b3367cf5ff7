"""Colour roles. Widgets name a role, never a colour."""

from __future__ import annotations

from dataclasses import dataclass, replace

from PyQt6.QtGui import QColor

from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.report.style import LOOKS
from rilievo.core.view.palettes import Rgb
from rilievo.core.view.render import Looks


@dataclass(frozen=True)
class Theme:
    """One value a role, as #RRGGBB."""

    ground: str
    panel: str
    field: str
    ink: str
    faint: str
    hairline: str
    accent: str
    accent_dark: str
    on_accent: str
    water: str
    good: str
    check: str
    check_text: str
    hover: str
    picture_ground: str
    over_picture: str

    def colour(self, role: str, alpha: int = 255) -> QColor:
        """Return a role as a colour."""
        colour = QColor(getattr(self, role))
        colour.setAlpha(alpha)
        return colour

    def rgb(self, role: str) -> Rgb:
        """Return a role as red, green, blue."""
        colour = QColor(getattr(self, role))
        return colour.red(), colour.green(), colour.blue()

    def looks(self) -> Looks:
        """Return the colours of what is drawn over the picture."""
        return replace(LOOKS, ground=self.rgb("picture_ground"))

    def figure_look(self) -> FigureLook:
        """Return the colours of figures in the window."""
        return FigureLook(ground=self.panel, ink=self.ink, faint=self.faint, hairline="#E2DCCD")


PAPER = Theme(
    ground="#F3EFE6",
    panel="#FAF7F0",
    field="#FFFFFF",
    ink="#26302E",
    faint="#62675F",
    hairline="#CFC8B8",
    accent="#9C5B2E",
    accent_dark="#7F4822",
    on_accent="#FFF9F0",
    water="#2E6E8E",
    good="#4C6E2E",
    check="#C98A12",
    check_text="#7A5200",
    hover="#EAE3D4",
    picture_ground="#787872",
    over_picture="#F6F2E9",
)


# Gray classes from dark to bright, told apart by hue and by lightness.
_TINTS = (
    (46, 66, 84),
    (46, 110, 142),
    (95, 127, 58),
    (176, 142, 62),
    (201, 138, 18),
    (190, 106, 72),
    (214, 158, 140),
    (244, 232, 204),
)


def class_tints(k: int) -> list[tuple[int, int, int]]:
    """Return the flat tints of k classes, darkest first."""
    if k < 2:
        return [_TINTS[0]]
    return [_TINTS[round(i * (len(_TINTS) - 1) / (k - 1))] for i in range(k)]
