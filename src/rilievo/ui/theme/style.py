"""The style sheet and the font, made from the colour roles."""

from __future__ import annotations

import functools
import re
from dataclasses import asdict
from pathlib import Path

from PyQt6.QtCore import QPoint, QRect, QRectF, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QFont,
    QFontDatabase,
    QIcon,
    QIconEngine,
    QPainter,
    QPalette,
    QPixmap,
)
from PyQt6.QtWidgets import QApplication

from rilievo.core.report.page_style import FONTS
from rilievo.ui.theme.roles import PAPER, Roles

ICON_FOLDER = Path(__file__).parent / "icons"


class _IconColour:
    """The colour in which line icons are drawn."""

    def __init__(self) -> None:
        self.name = PAPER.ink

    def use(self, name: str) -> None:
        """Draw icons in another colour from now on."""
        self.name = name


icon_colour = _IconColour()


class _LineIcon(QIconEngine):
    """A line icon that is drawn in the ink in force."""

    def __init__(self, drawing: bytes) -> None:
        super().__init__()
        self._drawing = drawing

    def paint(
        self, painter: QPainter | None, rect: QRect, mode: QIcon.Mode, state: QIcon.State
    ) -> None:
        colour = icon_colour.name if mode != QIcon.Mode.Disabled else icon_colour.name + "66"
        drawing = self._drawing
        for drawn in (PAPER.ink, PAPER.faint):
            drawing = drawing.replace(drawn.encode(), _svg_colour(colour))
        # Loaded with the first icon that is painted.
        from PyQt6.QtSvg import QSvgRenderer  # noqa: PLC0415

        QSvgRenderer(drawing).render(painter, QRectF(rect))

    def pixmap(self, size: QSize, mode: QIcon.Mode, state: QIcon.State) -> QPixmap:
        picture = QPixmap(size)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        self.paint(painter, QRect(QPoint(0, 0), size), mode, state)
        painter.end()
        return picture

    def clone(self) -> QIconEngine:
        return _LineIcon(self._drawing)


def _svg_colour(name: str) -> bytes:
    """A colour with its opacity as SVG attributes know them."""
    opacity = "" if len(name) < 9 else f'" stroke-opacity="{int(name[7:], 16) / 255:.2f}'
    return (name[:7] + opacity).encode()


def icon(name: str) -> QIcon:
    """Return one of the window's line icons."""
    return QIcon(_LineIcon((ICON_FOLDER / f"{name}.svg").read_bytes()))


FAMILY = "Inter"
TEXT_PIXELS = 13

_SHEET = """
QWidget {{ color: {ink}; }}
QMainWindow, QDialog, #header, #statusLine {{ background: {ground}; }}
#panel, #drawer, #drawer QStackedWidget, #compareView, #scrolled {{ background: {panel}; }}
QSplitter {{ background: {panel}; }}
#header {{ border-bottom: 1px solid {hairline}; }}
#statusLine {{ border-top: 1px solid {hairline}; }}
#panel {{ border-left: 1px solid {hairline}; }}
#drawer {{ border-top: 1px solid {hairline}; }}
#card {{ background: transparent; border-bottom: 1px solid {hairline}; }}
#lastCard {{ background: transparent; }}
QLabel {{ background: transparent; }}
QLabel[role="title"] {{ font-weight: 600; }}
QLabel[role="heading"] {{ font-weight: 600; font-size: 16px; }}
QLabel[role="faint"] {{ color: {faint}; font-size: 12px; }}
QLabel[role="check"] {{ color: {check_text}; font-size: 12px; }}
QMenuBar {{ background: {ground}; padding: 2px 6px; }}
QMenuBar::item {{ padding: 4px 8px; border-radius: 4px; background: transparent; }}
QMenuBar::item:selected {{ background: {hover}; }}
QMenu {{ background: {panel}; border: 1px solid {hairline}; padding: 4px; }}
QMenu::item {{ padding: 5px 24px 5px 12px; border-radius: 4px; }}
QMenu::item:selected {{ background: {hover}; }}
QMenu::item:disabled {{ color: {disabled}; }}
QMenu::separator {{ height: 1px; background: {hairline}; margin: 4px 8px; }}
QPushButton, QToolButton {{ background: {field}; border: 1px solid {hairline}; border-radius: 5px;
    padding: 0 10px; min-height: 23px; }}
QPushButton:hover, QToolButton:hover {{ background: {hover}; }}
QPushButton:pressed, QToolButton:pressed {{ background: {hairline}; }}
QPushButton:disabled, QToolButton:disabled {{ color: {disabled}; background: {panel}; }}
QPushButton:focus, QToolButton:focus {{ border: 1px solid {accent}; }}
QPushButton[role="main"] {{ background: {accent}; border: 1px solid {accent}; color: {on_accent};
    font-weight: 600; padding: 0 14px; }}
QPushButton[role="main"]:hover {{ background: {accent_dark}; }}
QPushButton[role="main"]:focus {{ border: 2px solid {ink}; }}
QPushButton[role="main"]:disabled {{ background: {main_disabled}; color: {panel};
    border-color: {main_disabled}; }}
QPushButton[role="link"] {{ background: transparent; border: none; color: {accent_dark};
    padding: 0 2px; min-height: 20px; font-size: 12px; }}
QPushButton[role="link"]:hover {{ text-decoration: underline; }}
QPushButton[role="link"]:focus {{ text-decoration: underline; }}
QPushButton[role="link"]:disabled {{ color: {disabled}; }}
QToolButton[role="thumbnail"] {{ background: transparent; border: 1px solid transparent;
    border-radius: 5px; padding: 3px; font-size: 12px; color: {faint}; }}
QToolButton[role="thumbnail"]:hover {{ background: {hover}; }}
QToolButton[role="thumbnail"]:focus {{ border: 1px solid {accent}; }}
QToolButton[role="thumbnail"]:checked {{ border: 2px solid {accent}; color: {ink}; }}
QToolButton[role="bare"] {{ background: transparent; border: 1px solid transparent; padding: 0 4px;
    min-height: 20px; font-weight: 600; }}
QToolButton[role="bare"]:focus, QToolButton[role="bare"]:hover {{ border: 1px solid {hairline}; }}
QToolButton[role="bare"]::menu-indicator {{ image: none; }}
QLabel[apart="true"] {{ color: {check_text}; font-weight: 600; }}
#compareView QListWidget {{ background: {panel}; border: 1px solid {hairline}; border-radius: 5px;
    padding: 4px; }}
#compareView QListWidget::item {{ padding: 4px 6px; border-radius: 4px; }}
#compareView QListWidget::item:selected {{ background: {hover}; color: {ink}; }}
#dropLine {{ background: {accent}; border-radius: 1px; }}
QPlainTextEdit {{ background: {field}; border: 1px solid {hairline}; border-radius: 5px;
    padding: 2px 4px; selection-background-color: {accent}; selection-color: {on_accent}; }}
QPlainTextEdit:focus {{ border: 1px solid {accent}; }}
QPushButton[role="starter"] {{ text-align: left; padding: 4px 10px 4px 4px; }}
QPushButton[role="tight"] {{ padding: 0 6px; font-size: 12px; }}
QPushButton[role="title"] {{ background: transparent; border: none; font-weight: 600;
    padding: 0; min-height: 20px; text-align: left; }}
QPushButton[role="title"]:hover, QPushButton[role="title"]:focus {{ color: {accent_dark}; }}
QPushButton[role="choice"]:checked {{ background: {ink}; color: {panel}; border-color: {ink}; }}
QPushButton[role="choice"]:checked:focus {{ border: 2px solid {accent}; }}
QLineEdit, QComboBox, QSpinBox, QDoubleSpinBox {{ background: {field}; border: 1px solid {hairline};
    border-radius: 5px; padding: 0 8px; min-height: 23px; selection-background-color: {accent};
    selection-color: {on_accent}; }}
QLineEdit:focus, QComboBox:focus {{ border: 1px solid {accent}; }}
QLineEdit:disabled, QComboBox:disabled {{ color: {disabled}; background: {panel}; }}
QLineEdit[wrong="true"] {{ border: 1px solid {check}; background: {wrong}; }}
QComboBox::drop-down {{ border: none; width: 22px; }}
QComboBox::down-arrow {{ image: url({icons}/chevron-down.svg); width: 12px; height: 12px; }}
QComboBox QAbstractItemView {{ background: {panel}; border: 1px solid {hairline}; outline: none;
    selection-background-color: {hover}; selection-color: {ink}; padding: 4px; }}
QCheckBox {{ spacing: 8px; min-height: 22px; }}
QCheckBox::indicator {{ width: 16px; height: 16px; border: 1px solid {box}; border-radius: 3px;
    background: {field}; }}
QCheckBox::indicator:checked {{ background: {accent}; border-color: {accent};
    image: url({icons}/tick.svg); }}
QCheckBox::indicator:focus {{ border: 1px solid {accent_dark}; }}
QCheckBox:focus {{ text-decoration: underline; }}
QTabBar {{ background: transparent; }}
QTabBar::tab {{ background: transparent; padding: 7px 0 6px 0; margin: 0 18px 0 0;
    border-bottom: 2px solid transparent; color: {ink}; }}
QTabBar::tab:selected {{ border-bottom: 2px solid {accent}; font-weight: 600; }}
QTabBar::tab:hover {{ color: {accent_dark}; }}
QTabBar::tab:focus {{ color: {accent_dark}; }}
QTabBar QToolButton {{ border: none; padding: 0; background: {panel}; }}
QTabBar QToolButton::right-arrow {{ image: url({icons}/chevron-right.svg); }}
QTabBar QToolButton::left-arrow {{ image: url({icons}/chevron-left.svg); }}
QTreeView {{ background: {panel}; border: none; outline: none; alternate-background-color: {stripe};
    selection-background-color: {selected}; selection-color: {ink}; }}
QTreeView::item {{ min-height: 22px; }}
QPushButton:checked {{ background: {ink}; color: {panel}; border-color: {ink}; }}
QTableView {{ background: {panel}; border: none; gridline-color: {table_line}; outline: none;
    selection-background-color: {selected}; selection-color: {ink};
    alternate-background-color: {stripe}; }}
QTableView::item {{ padding: 0 8px; }}
QTableView[role="close"], QTableView[role="close"] QHeaderView {{ font-size: 12px; }}
QTableView[role="close"] QHeaderView::section {{ padding: 4px 7px; }}
QTableView[role="close"]::item {{ padding: 0 4px; }}
QHeaderView {{ background: {panel}; border: none; }}
QHeaderView::section {{ background: {panel}; color: {faint}; border: none; padding: 4px 11px;
    border-bottom: 1px solid {hairline}; }}
QScrollArea {{ border: none; background: transparent; }}
QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
QScrollBar::handle {{ background: {handle}; border-radius: 4px; min-height: 28px; min-width: 28px;
    margin: 1px; }}
QScrollBar::handle:hover {{ background: {handle_hover}; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QSplitter::handle {{ background: transparent; }}
QToolTip {{ background: {ink}; color: {panel}; border: none; padding: 4px 11px; }}
QProgressBar {{ background: {hairline}; border: none; border-radius: 2px; max-height: 4px;
    min-height: 4px; }}
QProgressBar::chunk {{ background: {accent}; border-radius: 2px; }}
#notice {{ background: {notice}; border-bottom: 1px solid {notice_line}; }}
#notice QLabel {{ color: {notice_text}; }}
#chip {{ border-radius: 4px; padding: 0 9px; min-height: 22px; border: none;
    background: rgba(246, 242, 233, 200); color: {on_picture}; }}
#chip:hover {{ background: {over_picture}; }}
#chip:checked {{ background: {on_picture}; color: {over_picture}; }}
#chip:focus {{ border: 1px solid {accent}; }}
#sampleChip {{ border-radius: 4px; padding: 0 9px; background: {over_picture}; color: {on_picture};
    font-weight: 600; }}
#search {{ background: {panel}; border: 1px solid {hairline}; border-radius: 8px; }}
#search QListWidget {{ background: transparent; border: none; outline: none; }}
#search QListWidget::item {{ padding: 6px 10px; border-radius: 4px; }}
#search QListWidget::item:selected {{ background: {hover}; color: {ink}; }}
#studyTitle {{ border: none; background: transparent; font-size: 15px; font-weight: 600;
    padding: 0 18px 0 4px; text-align: left; min-height: 24px; margin: 0; }}
#studyTitle::menu-indicator {{ image: url({icons}/chevron-down.svg); width: 10px; height: 10px;
    subcontrol-position: right center; right: 2px; }}
"""


# Lengths that follow the size of texts.
_LENGTHS = re.compile(r"(font-size|min-height|indicator width|indicator height): (\d+)px")


def style_sheet(roles: Roles) -> str:
    """Return the style sheet for roles."""
    icons = ICON_FOLDER if roles is PAPER else ICON_FOLDER / roles.name
    sheet = _SHEET.format(icons=icons.as_posix(), **asdict(roles))
    return _LENGTHS.sub(lambda found: f"{found[1]}: {scaled(int(found[2]))}px", sheet)


class _TextSize:
    """How large texts are."""

    def __init__(self) -> None:
        self.percent = 100


_size = _TextSize()


def set_text_percent(percent: int) -> None:
    """Make texts, and what holds them, larger or smaller from now on."""
    _size.percent = percent


def scaled(pixels: int) -> int:
    """Return a length that holds texts in their present size."""
    return max(1, round(pixels * _size.percent / 100))


def text_font(pixels: int = TEXT_PIXELS, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Return the window's font; its figures are of equal width. Shared: do not change it."""
    return _font(scaled(pixels), weight)


@functools.cache
def _font(pixels: int, weight: QFont.Weight) -> QFont:
    font = QFont(FAMILY)
    font.setPixelSize(pixels)
    font.setWeight(weight)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


def load_fonts() -> None:
    """Load the bundled font."""
    for file in sorted(FONTS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))


def apply_roles(application: QApplication, roles: Roles) -> None:
    """Dress the application; every widget is dressed anew."""
    application.setStyle("Fusion")
    application.setFont(text_font())
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, roles.ground),
        (QPalette.ColorRole.Base, roles.field),
        (QPalette.ColorRole.AlternateBase, roles.stripe),
        (QPalette.ColorRole.Text, roles.ink),
        (QPalette.ColorRole.WindowText, roles.ink),
        (QPalette.ColorRole.ButtonText, roles.ink),
        (QPalette.ColorRole.Button, roles.panel),
        (QPalette.ColorRole.Highlight, roles.accent),
        (QPalette.ColorRole.HighlightedText, roles.on_accent),
        (QPalette.ColorRole.ToolTipBase, roles.ink),
        (QPalette.ColorRole.ToolTipText, roles.panel),
        (QPalette.ColorRole.PlaceholderText, roles.faint),
        (QPalette.ColorRole.Mid, roles.hairline),
        (QPalette.ColorRole.Link, roles.accent_dark),
        (QPalette.ColorRole.LinkVisited, roles.accent_dark),
    ):
        palette.setColor(role, QColor(name))
    application.setPalette(palette)
    application.setStyleSheet(style_sheet(roles))
    icon_colour.use(roles.ink)
