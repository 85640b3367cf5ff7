"""Colour and marker of each group, always used together.

Colours: Okabe & Ito 2008, distinguishable with any common colour vision.
"""

from __future__ import annotations

from typing import NamedTuple


class GroupStyle(NamedTuple):
    """Colour as #RRGGBB and a marker by its Matplotlib letter."""

    colour: str
    marker: str


_STYLES = (
    GroupStyle("#0072B2", "o"),
    GroupStyle("#E69F00", "s"),
    GroupStyle("#009E73", "^"),
    GroupStyle("#D55E00", "D"),
    GroupStyle("#CC79A7", "v"),
    GroupStyle("#56B4E9", "p"),
    GroupStyle("#8A7F00", "h"),
    GroupStyle("#333333", "P"),
)

# The colours alone, for curves of one sample.
COLOURS = tuple(style.colour for style in _STYLES)
_NO_GROUP = GroupStyle("#6B6F6A", "o")


def group_style(groups: tuple[str, ...], group: str) -> GroupStyle:
    """Return the style of a group by its index among the groups of the study."""
    if not group or group not in groups:
        return _NO_GROUP
    return _STYLES[groups.index(group) % len(_STYLES)]
