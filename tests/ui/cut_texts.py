"""Which labels and buttons of a window have less room than their text needs."""

from __future__ import annotations

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLabel, QWidget

from rilievo.ui.shell.window import Window
from rilievo.ui.widgets.card import ElidedLabel


def texts_without_room(window: Window) -> list[str]:
    """Return what is cut, with its text; what scrolls out of view below is not."""
    found = []
    for widget in window.findChildren(QWidget):
        if not isinstance(widget, QLabel | QAbstractButton | QComboBox):
            continue
        if not widget.isVisible() or isinstance(widget, ElidedLabel) or _is_meant(widget):
            continue
        text = widget.currentText() if isinstance(widget, QComboBox) else widget.text()
        if not text:
            continue
        needed = widget.sizeHint()
        wraps = isinstance(widget, QLabel) and widget.wordWrap()
        if wraps:
            high = widget.heightForWidth(widget.width())
            if widget.height() < high - 1:
                found.append(f"{text[:40]!r}: {widget.height()} of {high} px high")
        elif widget.width() < needed.width() - _slack(widget):
            found.append(f"{text[:40]!r}: {widget.width()} of {needed.width()} px wide")
        elif widget.height() < _height(widget):
            found.append(f"{text[:40]!r}: {widget.height()} of {_height(widget)} px high")
        else:
            at = widget.mapTo(window, QPoint(widget.width(), 0))
            if at.x() > window.width() + 1:
                found.append(f"{text[:40]!r}: ends at {at.x()} of {window.width()} px")
    return found


def _slack(widget: QWidget) -> int:
    """Combo boxes ask for their longest entry; buttons keep a margin that may go."""
    if isinstance(widget, QComboBox):
        metrics = widget.fontMetrics()
        return widget.sizeHint().width() - metrics.horizontalAdvance(widget.currentText()) - 30
    return 12 if isinstance(widget, QAbstractButton) else 1


def _height(widget: QWidget) -> int:
    """What a line of its text needs; buttons ask for more around it."""
    if isinstance(widget, QAbstractButton):
        return widget.fontMetrics().height()
    return widget.sizeHint().height() - 2


def _is_meant(widget: QWidget) -> bool:
    """The read-out under the pointer is cut before the switches at its right."""
    return widget.accessibleName() == "Read-out under the pointer"
