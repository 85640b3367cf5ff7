"""What a part of the window is explained by: a page of the guide and a heading in it."""

from __future__ import annotations

from typing import Protocol, runtime_checkable

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QWidget

_PROPERTY = "topic"


@runtime_checkable
class HasTopics(Protocol):
    """A widget whose parts have topics of their own, such as the columns of a table."""

    def topic_at(self, position: QPoint) -> str:
        """Return the topic at a position in the widget; "" for none."""


def set_topic(widget: QWidget, page: str, heading: str = "") -> None:
    """Have a widget, and all in it without a topic of its own, explained by a heading."""
    widget.setProperty(_PROPERTY, f"{page}#{heading}")


def topic_of(widget: QWidget | None, position: QPoint | None = None) -> str:
    """Return the topic of a widget, or of the nearest around it; "" for none.

    position : global, of the pointer.
    """
    while widget is not None:
        if position is not None and isinstance(widget, HasTopics):
            found = widget.topic_at(widget.mapFromGlobal(position))
            if found:
                return found
        topic = widget.property(_PROPERTY)
        if topic:
            return str(topic)
        widget = widget.parentWidget()
    return ""
