"""The style sheet and the font, made from the colour roles."""

from __future__ import annotations

import functools
from pathlib import Path

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPalette
from PyQt6.QtWidgets import QApplication

from rilievo.core.report.style import FONTS
from rilievo.ui.theme.roles import Theme

ICON_FOLDER = Path(__file__).parent / "icons"


def icon(name: str) -> QIcon:
    """Return one of the window's line icons."""
    return QIcon(str(ICON_FOLDER / f"{name}.svg"))


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
QMenu::item:disabled {{ color: #9A9A90; }}
QMenu::separator {{ height: 1px; background: {hairline}; margin: 4px 8px; }}
QPushButton, QToolButton {{ background: {field}; border: 1px solid {hairline}; border-radius: 5px;
    padding: 0 10px; min-height: 26px; }}
QPushButton:hover, QToolButton:hover {{ background: {hover}; }}
QPushButton:pressed, QToolButton:pressed {{ background: {hairline}; }}
QPushButton:disabled, QToolButton:disabled {{ color: #9A9A90; background: {panel}; }}
QPushButton:focus, QToolButton:focus {{ border: 1px solid {accent}; }}
QPushButton[role="main"] {{ background: {accent}; border: 1px solid {accent}; color: {on_accent};
    font-weight: 600; padding: 0 14px; }}
QPushButton[role="main"]:hover {{ background: {accent_dark}; }}
QPushButton[role="main"]:focus {{ border: 2px solid {ink}; }}
QPushButton[role="main"]:disabled {{ background: #CDB8A6; border-color: #CDB8A6; color: {panel}; }}
QPushButton[role="link"] {{ background: transparent; border: none; color: {accent_dark};
    padding: 0 2px; min-height: 20px; font-size: 12px; }}
QPushButton[role="link"]:hover {{ text-decoration: underline; }}
QPushButton[role="link"]:focus {{ text-decoration: underline; }}
QPushButton[role="link"]:disabled {{ color: #9A9A90; }}
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
QPushButton[role="tight"] {{ padding: 0 6px; font-size: 12px; }}
QPushButton[role="title"] {{ background: transparent; border: none; font-weight: 600;
    padding: 0; min-height: 20px; text-align: left; }}
QPushButton[role="title"]:hover, QPushButton[role="title"]:focus {{ color: {accent_dark}; }}
QPushButton[role="choice"]:checked {{ background: {ink}; color: {panel}; border-color: {ink}; }}
QPushButton[role="choice"]:checked:focus {{ border: 2px solid {accent}; }}
QLineEdit, QComboBox, QSpinBox, QDoubleSpinBox {{ background: {field}; border: 1px solid {hairline};
    border-radius: 5px; padding: 0 8px; min-height: 26px; selection-background-color: {accent};
    selection-color: {on_accent}; }}
QLineEdit:focus, QComboBox:focus {{ border: 1px solid {accent}; }}
QLineEdit:disabled, QComboBox:disabled {{ color: #9A9A90; background: {panel}; }}
QLineEdit[wrong="true"] {{ border: 1px solid {check}; background: #FFF6E0; }}
QComboBox::drop-down {{ border: none; width: 22px; }}
QComboBox::down-arrow {{ image: url({icons}/chevron-down.svg); width: 12px; height: 12px; }}
QComboBox QAbstractItemView {{ background: {panel}; border: 1px solid {hairline}; outline: none;
    selection-background-color: {hover}; selection-color: {ink}; padding: 4px; }}
QCheckBox {{ spacing: 8px; min-height: 24px; }}
QCheckBox::indicator {{ width: 16px; height: 16px; border: 1px solid #A9A294; border-radius: 3px;
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
QTreeView {{ background: {panel}; border: none; outline: none; alternate-background-color: #F6F2E9;
    selection-background-color: #F0DFCB; selection-color: {ink}; }}
QTreeView::item {{ min-height: 22px; }}
QPushButton:checked {{ background: {ink}; color: {panel}; border-color: {ink}; }}
QTableView {{ background: {panel}; border: none; gridline-color: #E6E0D2; outline: none;
    selection-background-color: #F0DFCB; selection-color: {ink};
    alternate-background-color: #F6F2E9; }}
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
QScrollBar::handle {{ background: #C9C2B2; border-radius: 4px; min-height: 28px; min-width: 28px;
    margin: 1px; }}
QScrollBar::handle:hover {{ background: #ADA695; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QSplitter::handle {{ background: transparent; }}
QToolTip {{ background: {ink}; color: {panel}; border: none; padding: 4px 11px; }}
QProgressBar {{ background: {hairline}; border: none; border-radius: 2px; max-height: 4px;
    min-height: 4px; }}
QProgressBar::chunk {{ background: {accent}; border-radius: 2px; }}
#notice {{ background: #FFF3D6; border-bottom: 1px solid #E5C987; }}
#notice QLabel {{ color: #5A3D00; }}
#chip {{ border-radius: 4px; padding: 0 9px; min-height: 22px; border: none;
    background: rgba(246, 242, 233, 200); color: {ink}; }}
#chip:hover {{ background: {over_picture}; }}
#chip:checked {{ background: {ink}; color: {panel}; }}
#chip:focus {{ border: 1px solid {accent}; }}
#sampleChip {{ border-radius: 4px; padding: 0 9px; background: {over_picture}; font-weight: 600; }}
#search {{ background: {panel}; border: 1px solid {hairline}; border-radius: 8px; }}
#search QListWidget {{ background: transparent; border: none; outline: none; }}
#search QListWidget::item {{ padding: 6px 10px; border-radius: 4px; }}
#search QListWidget::item:selected {{ background: {hover}; color: {ink}; }}
#studyTitle {{ border: none; background: transparent; font-size: 15px; font-weight: 600;
    padding: 0 18px 0 4px; text-align: left; min-height: 24px; margin: 0; }}
#studyTitle::menu-indicator {{ image: url({icons}/chevron-down.svg); width: 10px; height: 10px;
    subcontrol-position: right center; right: 2px; }}
"""


def style_sheet(theme: Theme) -> str:
    """Return the style sheet of a theme."""
    roles = {name: getattr(theme, name) for name in theme.__dataclass_fields__}
    return _SHEET.format(icons=ICON_FOLDER.as_posix(), **roles)


@functools.cache
def text_font(pixels: int = TEXT_PIXELS, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Return the window's font; its figures are of equal width. Shared: do not change it."""
    font = QFont(FAMILY)
    font.setPixelSize(pixels)
    font.setWeight(weight)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


def apply_theme(application: QApplication, theme: Theme) -> None:
    """Load the bundled font and dress the application."""
    for file in sorted(FONTS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))
    application.setStyle("Fusion")
    application.setFont(text_font())
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, theme.ground),
        (QPalette.ColorRole.Base, theme.field),
        (QPalette.ColorRole.Text, theme.ink),
        (QPalette.ColorRole.WindowText, theme.ink),
        (QPalette.ColorRole.ButtonText, theme.ink),
        (QPalette.ColorRole.Button, theme.panel),
        (QPalette.ColorRole.Highlight, theme.accent),
        (QPalette.ColorRole.HighlightedText, theme.on_accent),
        (QPalette.ColorRole.ToolTipBase, theme.ink),
        (QPalette.ColorRole.ToolTipText, theme.panel),
        (QPalette.ColorRole.PlaceholderText, theme.faint),
    ):
        palette.setColor(role, QColor(name))
    application.setPalette(palette)
    application.setStyleSheet(style_sheet(theme))
