"""Counts and lists in words."""

from __future__ import annotations

from collections.abc import Sequence


def counted(count: int, noun: str, plural: str = "") -> str:
    """Return how many there are, with the noun: “1 region”, “3 regions”.

    plural : where it is not the noun with an s.

    Examples
    --------
    >>> counted(1, "region"), counted(0, "dish", "dishes")
    ('1 region', '0 dishes')
    """
    return f"{count} {noun if count == 1 else plural or noun + 's'}"


def enumerated(words: Sequence[str], most: int = 0) -> str:
    """Return words as people list them; of more than `most` the first, and how many more.

    Examples
    --------
    >>> enumerated(["area", "mean", "sum"])
    'area, mean and sum'
    >>> enumerated(["a", "b", "c", "d"], 2)
    'a, b and 2 more'
    """
    if most and len(words) > most:
        return f"{', '.join(words[:most])} and {len(words) - most} more"
    return f"{', '.join(words[:-1])} and {words[-1]}" if len(words) > 1 else "".join(words)
