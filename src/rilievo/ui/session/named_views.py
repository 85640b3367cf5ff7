"""Views of one's own under a name: a display range and a style, kept for all studies."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass

from pydantic import ValidationError
from PyQt6.QtCore import QSettings

from rilievo.core.view.palettes import ViewStyle

_KEY = "named views"
_MOST = 40
_LONGEST = 40


@dataclass(frozen=True)
class NamedView:
    """A view as it is kept. ends : the display range, native or signal units."""

    name: str
    ends: tuple[float, float]
    style: ViewStyle

    def to_json(self) -> str:
        """Return it as one line of settings."""
        return json.dumps({"name": self.name, "ends": self.ends, "style": self.style.model_dump()})

    @classmethod
    def from_json(cls, text: str) -> NamedView | None:
        """Return what a line of settings holds; None for what is no view."""
        try:
            data = json.loads(text)
            low, high = (float(end) for end in data["ends"])
            style = ViewStyle.model_validate(data["style"])
            name = str(data["name"])[:_LONGEST]
        except (ValueError, KeyError, TypeError, ValidationError):
            return None
        good = name and math.isfinite(low) and math.isfinite(high) and low < high
        return cls(name, (low, high), style) if good else None


def named_views() -> list[NamedView]:
    """Return the views that are kept, in the order in which they were."""
    kept = QSettings().value(_KEY, [])
    lines = [kept] if isinstance(kept, str) else list(kept or [])
    found = (NamedView.from_json(str(line)) for line in lines)
    return [view for view in found if view is not None]


def keep_view(view: NamedView) -> None:
    """Keep a view; one of the same name is replaced."""
    others = [known for known in named_views() if known.name != view.name]
    _write([*others, view][-_MOST:])


def forget_view(name: str) -> None:
    """Keep a view no longer."""
    _write([known for known in named_views() if known.name != name])


def _write(views: list[NamedView]) -> None:
    QSettings().setValue(_KEY, [view.to_json() for view in views])
