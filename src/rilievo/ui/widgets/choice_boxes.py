"""Boxes to choose from that are filled anew without telling anybody."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtWidgets import QComboBox


def fill(box: QComboBox, entries: Iterable[tuple[str, str]], current: str) -> None:
    """Offer entries of key and text, with one of them chosen."""
    wanted = list(entries)
    box.blockSignals(True)
    if [(box.itemData(i), box.itemText(i)) for i in range(box.count())] != wanted:
        box.clear()
        for key, text in wanted:
            box.addItem(text, key)
    box.setCurrentIndex(max(box.findData(current), 0) if wanted else -1)
    box.blockSignals(False)
