"""Paper and Night: texts can be read, and everything follows when one is put in force."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PyQt6.QtCore import QSettings, QSize
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QApplication

from rilievo.ui.shell.window import Window
from rilievo.ui.theme.choice import chosen_percent, chosen_theme, dress
from rilievo.ui.theme.roles import NIGHT, PAPER, Roles
from rilievo.ui.theme.style import ICON_FOLDER, icon, scaled, style_sheet, text_font


@pytest.fixture
def dressed() -> bool:
    """Sizes are those that people see."""
    return True


def luminance(name: str) -> float:
    """Relative luminance of WCAG 2."""

    def linear(value: float) -> float:
        return value / 12.92 if value <= 0.03928 else ((value + 0.055) / 1.055) ** 2.4

    colour = QColor(name)
    red, green, blue = (linear(v) for v in (colour.redF(), colour.greenF(), colour.blueF()))
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one: str, other: str) -> float:
    bright, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (bright + 0.05) / (dark + 0.05)


TEXTS = [
    *((text, ground) for text in ("ink", "faint", "accent_dark", "check_text", "good", "water")
      for ground in ("ground", "panel")),
    ("ink", "field"), ("ink", "hover"), ("ink", "selected"), ("ink", "stripe"), ("ink", "wrong"),
    ("on_accent", "accent"), ("notice_text", "notice"), ("on_picture", "over_picture"),
    ("panel", "ink"), ("accent_dark", "ground"),
]  # fmt: skip


@pytest.mark.parametrize("roles", [PAPER, NIGHT], ids=lambda roles: roles.name)
@pytest.mark.parametrize(("text", "ground"), TEXTS)
def test_texts_can_be_read(roles: Roles, text: str, ground: str) -> None:
    assert contrast(getattr(roles, text), getattr(roles, ground)) >= 4.5


def test_contrast_is_that_of_the_standard() -> None:
    assert contrast("#000000", "#FFFFFF") == pytest.approx(21.0)
    assert contrast("#777777", "#FFFFFF") == pytest.approx(4.48, abs=0.01)


@pytest.fixture
def restored() -> Iterator[None]:
    """Dress the application as before, for the other tests."""
    yield
    QSettings().remove("theme")
    QSettings().remove("text size")
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    dress(application)


@pytest.mark.usefixtures("restored")
def test_night_reaches_plots_and_icons_and_is_remembered(study: Window) -> None:
    ridges, undo = study.views.ridges, study.views.header.find_button
    before = ridges.plot.backgroundBrush().color().name()
    bright = undo.icon().pixmap(QSize(16, 16)).toImage()
    study.menus.actions["window.night"].trigger()
    assert study.theme.roles is NIGHT and chosen_theme() == "night"
    assert ridges.plot.backgroundBrush().color() == QColor(NIGHT.panel)
    assert before == QColor(PAPER.panel).name()
    assert study.views.drawer.palette().windowText().color() == QColor(NIGHT.ink)
    assert undo.icon().pixmap(QSize(16, 16)).toImage() != bright
    # The figures of Compare are drawn on the theme's ground.
    assert study.theme.figure_look().ground == NIGHT.panel
    assert study.menus.actions["window.night"].isChecked()
    assert not study.menus.actions["window.paper"].isChecked()
    study.menus.actions["window.paper"].trigger()
    assert ridges.plot.backgroundBrush().color() == QColor(PAPER.panel)


@pytest.mark.usefixtures("restored")
def test_texts_grow_with_what_holds_them(window: Window) -> None:
    height = window.views.header.find_button.sizeHint().height()
    window.menus.actions["window.text_150"].trigger()
    assert chosen_percent() == 150
    assert scaled(20) == 30 and text_font(12).pixelSize() == 18
    assert window.views.header.find_button.sizeHint().height() > 1.25 * height


def test_a_setting_that_is_none_counts_as_none() -> None:
    QSettings().setValue("theme", "zebra")
    QSettings().setValue("text size", "1000000")
    assert chosen_theme() == "desktop" and chosen_percent() == 100
    QSettings().remove("theme")
    QSettings().remove("text size")


@pytest.mark.parametrize("roles", [PAPER, NIGHT], ids=lambda roles: roles.name)
def test_the_icons_of_the_style_sheet_are_there(roles: Roles) -> None:
    sheet = style_sheet(roles)
    paths = {part.split(")")[0] for part in sheet.split("url(")[1:]}
    assert paths and all(path.startswith(str(ICON_FOLDER)) for path in paths)
    assert all((ICON_FOLDER / path).is_file() for path in paths)


def test_a_disabled_icon_is_paler(window: Window) -> None:
    from PyQt6.QtGui import QIcon  # noqa: PLC0415 (only here)

    drawn = icon("find").pixmap(QSize(32, 32), QIcon.Mode.Normal).toImage()
    pale = icon("find").pixmap(QSize(32, 32), QIcon.Mode.Disabled).toImage()
    strongest = [
        max(image.pixelColor(x, y).alpha() for x in range(32) for y in range(32))
        for image in (drawn, pale)
    ]
    assert strongest[0] > 240 and 60 < strongest[1] < 190
