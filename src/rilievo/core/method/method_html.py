"""A method as a notebook shows it: the way of the data as a drawing, and its settings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape
from typing import Any

Box = tuple[str, str]
_WIDE, _HIGH, _GAP = 150, 34, 18
_GROUNDS = {"step": "#EFEADD", "class": "#DDE8E4", "measure": "#F3E3D3"}
_MOST_LETTERS = 22
_MOST_SETTING = 60


def method_html(name: str, boxes: Sequence[Box], settings: Sequence[tuple[str, str]]) -> str:
    """Return a method as HTML: boxes in the order of the data, then each with its settings.

    boxes : kind (step, class or measure) and title. settings : title → settings, in words.
    """
    table = "".join(
        f"<tr><td>{escape(title)}</td><td>{escape(text)}</td></tr>" for title, text in settings
    )
    return (
        f"<div><p><b>{escape(name)}</b></p>{_drawing(boxes)}"
        f"<details><summary>Settings</summary><table>{table}</table></details></div>"
    )


def in_words(values: Mapping[str, Any]) -> str:
    """Return plain values in one line; what is not set is left out."""
    return ", ".join(
        f"{key.replace('_', ' ')} {_short(value)}"
        for key, value in values.items()
        if value not in (None, "", [], (), {})
    )


def _short(value: Any) -> str:
    text = str(value)
    return text if len(text) <= _MOST_SETTING else text[: _MOST_SETTING - 1] + "…"


def _drawing(boxes: Sequence[Box]) -> str:
    parts = []
    for k, (kind, text) in enumerate(boxes):
        x = k * (_WIDE + _GAP)
        short = text if len(text) <= _MOST_LETTERS else text[: _MOST_LETTERS - 1] + "…"
        parts.append(
            f'<rect x="{x}" y="1" width="{_WIDE}" height="{_HIGH}" rx="4" '
            f'fill="{_GROUNDS[kind]}"/><text x="{x + _WIDE / 2:g}" y="{_HIGH / 2 + 6:g}" '
            f'text-anchor="middle" font-size="12" fill="#26302E">{escape(short)}</text>'
        )
        if k:
            y = _HIGH / 2 + 1
            parts.append(
                f'<path d="M{x - _GAP + 3} {y} h{_GAP - 6}" stroke="#5F645F" fill="none"/>'
            )
    width = len(boxes) * (_WIDE + _GAP)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{_HIGH + 2}" '
        f'font-family="sans-serif">{"".join(parts)}</svg>'
    )
