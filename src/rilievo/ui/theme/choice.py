"""Which theme is in force: by day, by night, or as the desktop has it; and how large texts are."""

from __future__ import annotations

from typing import Literal, get_args

from PyQt6.QtCore import QObject, QSettings, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QApplication, QWidget

from rilievo.ui.theme.roles import NIGHT, PAPER, Roles, Theme
from rilievo.ui.theme.style import apply_roles, set_text_percent

Choice = Literal["desktop", "paper", "night"]
CHOICES: tuple[Choice, ...] = get_args(Choice)
TEXT_PERCENTS = (90, 100, 115, 130, 150)


def chosen_theme() -> Choice:
    """Return what was chosen last; the desktop's theme where nothing was."""
    kept = str(QSettings().value("theme", "desktop"))
    return kept if kept in CHOICES else "desktop"


def chosen_percent() -> int:
    """Return how large texts are."""
    kept = str(QSettings().value("text size", "100"))
    return int(kept) if kept.isdigit() and int(kept) in TEXT_PERCENTS else 100


def roles_for(chosen: Choice) -> Roles:
    """Return the roles of a choice."""
    if chosen == "desktop":
        hints = QGuiApplication.styleHints()
        is_dark = hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
        return NIGHT if is_dark else PAPER
    return NIGHT if chosen == "night" else PAPER


def dress(application: QApplication) -> None:
    """Dress the application as it was chosen."""
    set_text_percent(chosen_percent())
    apply_roles(application, roles_for(chosen_theme()))


def _rescale(widget: QWidget, factor: float) -> None:
    """Give what has a width or height of its own another one, so that its text has room."""
    least, most = widget.minimumSize(), widget.maximumSize()
    if least.width():
        fixed = least.width() == most.width()
        width = round(least.width() * factor)
        (widget.setFixedWidth if fixed else widget.setMinimumWidth)(width)
    if least.height():
        fixed = least.height() == most.height()
        height = round(least.height() * factor)
        (widget.setFixedHeight if fixed else widget.setMinimumHeight)(height)


class Appearance(QObject):
    """Puts theme and size of texts in force in the whole application; follows the desktop."""

    def __init__(self, theme: Theme, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._theme = theme
        hints = QGuiApplication.styleHints()
        if hints is not None:
            hints.colorSchemeChanged.connect(self._follow)

    @property
    def chosen(self) -> Choice:
        """The theme that was chosen."""
        return chosen_theme()

    def choose(self, chosen: Choice) -> None:
        """Put a theme in force and remember it."""
        QSettings().setValue("theme", chosen)
        self._follow()

    @property
    def text_percent(self) -> int:
        """How large texts are."""
        return chosen_percent()

    def choose_text(self, percent: int) -> None:
        """Make texts larger or smaller, and remember it."""
        before = chosen_percent()
        if percent != before:
            QSettings().setValue("text size", percent)
            for widget in QApplication.allWidgets():
                _rescale(widget, percent / before)
            self._dress()

    def _follow(self) -> None:
        if roles_for(chosen_theme()) is not self._theme.roles:
            self._dress()

    def _dress(self) -> None:
        application = QApplication.instance()
        if isinstance(application, QApplication):
            dress(application)
        self._theme.take(roles_for(chosen_theme()))
