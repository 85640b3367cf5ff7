"""Colour roles. Widgets name a role, never a colour."""

from __future__ import annotations

from dataclasses import dataclass, replace

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor

from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.report.page_style import LOOKS
from rilievo.core.view.palettes import Rgb
from rilievo.core.view.render import Looks


@dataclass(frozen=True)
class Roles:
    """One value a role, as #RRGGBB."""

    name: str
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
    ruler: str
    on_picture: str
    disabled: str
    main_disabled: str
    wrong: str
    stripe: str
    selected: str
    table_line: str
    box: str
    handle: str
    handle_hover: str
    notice: str
    notice_line: str
    notice_text: str
    plot_line: str


PAPER = Roles(
    name="paper",
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
    ruler="#5C5C57",
    on_picture="#26302E",
    disabled="#9A9A90",
    main_disabled="#CDB8A6",
    wrong="#FFF6E0",
    stripe="#F6F2E9",
    selected="#F0DFCB",
    table_line="#E6E0D2",
    box="#A9A294",
    handle="#C9C2B2",
    handle_hover="#ADA695",
    notice="#FFF3D6",
    notice_line="#E5C987",
    notice_text="#5A3D00",
    plot_line="#E2DCCD",
)

# For dark rooms. What lies over the picture stays as it is: a picture has its own brightness.
NIGHT = Roles(
    name="night",
    ground="#1B2024",
    panel="#21272C",
    field="#2B3238",
    ink="#DFE3E0",
    faint="#9DA7A8",
    hairline="#3D464C",
    accent="#D08A55",
    accent_dark="#E0A274",
    on_accent="#1E1712",
    water="#7DB4D0",
    good="#9CBF74",
    check="#D9A441",
    check_text="#E2B45C",
    hover="#323A41",
    picture_ground="#101315",
    over_picture="#F6F2E9",
    ruler="#262D32",
    on_picture="#26302E",
    disabled="#6C7578",
    main_disabled="#5A4636",
    wrong="#463A20",
    stripe="#252C31",
    selected="#45382D",
    table_line="#30383E",
    box="#6E787C",
    handle="#4A545A",
    handle_hover="#5E696F",
    notice="#40351D",
    notice_line="#6B5528",
    notice_text="#F0D79B",
    plot_line="#353D43",
)


class Theme(QObject):
    """The roles in force; whoever keeps a colour follows `changed`."""

    changed = pyqtSignal()

    def __init__(self, roles: Roles = PAPER, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.roles = roles

    def take(self, roles: Roles) -> None:
        """Put roles in force, and have everything drawn anew."""
        self.roles = roles
        self.changed.emit()

    def value(self, role: str) -> str:
        """Return a role as #RRGGBB."""
        return str(getattr(self.roles, role))

    def colour(self, role: str, alpha: int = 255) -> QColor:
        """Return a role as a colour."""
        colour = QColor(self.value(role))
        colour.setAlpha(alpha)
        return colour

    def rgb(self, role: str) -> Rgb:
        """Return a role as red, green, blue."""
        colour = self.colour(role)
        return colour.red(), colour.green(), colour.blue()

    def looks(self) -> Looks:
        """Return the colours of what is drawn over the picture."""
        return replace(LOOKS, ground=self.rgb("picture_ground"))

    def figure_look(self) -> FigureLook:
        """Return the colours of figures in the window."""
        roles = self.roles
        return FigureLook(
            ground=roles.panel,
            ink=roles.ink,
            faint=roles.faint,
            hairline=roles.plot_line,
            check=roles.check_text,
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
