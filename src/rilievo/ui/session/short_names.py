"""Names that fit where there is little room, shortened so that what differs is seen."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

_SEPARATORS = " _-./"
_HEAD = 3


def without_common_beginning(names: Sequence[str]) -> list[str]:
    """Return names without what all of them begin with, cut at a separator.

    A name that would be left empty, and a single name, stay whole.
    """
    if len(set(names)) < 2:
        return list(names)
    first, last = min(names), max(names)
    same = next((k for k, (a, b) in enumerate(zip(first, last, strict=False)) if a != b), None)
    start = first[:same]
    cut = max((start.rfind(sign) for sign in _SEPARATORS), default=-1) + 1
    short = [name[cut:] for name in names]
    return short if all(short) else list(names)


def shortened(names: Sequence[str], most: int) -> list[str]:
    """Return names of at most so many characters, each still unlike the others.

    What all begin with is left out in the middle, then what lies in the middle of the rest. Where
    even that leaves two alike, they get numbers.
    """
    if max(map(len, names), default=0) <= most:
        return list(names)
    rest = without_common_beginning(names)
    found = []
    for name, own in zip(names, rest, strict=True):
        cut = len(name) - len(own)
        if len(name) <= most:
            found.append(name)
        elif cut > _HEAD and len(own) + _HEAD + 1 <= most:
            found.append(f"{name[:_HEAD]}…{own}")
        elif len(own) <= most:
            found.append(own)
        else:
            found.append(in_the_middle(own, most))
    return _told_apart(found, most)


def in_the_middle(name: str, most: int) -> str:
    """Return a name without its middle where it is too long."""
    if len(name) <= most:
        return name
    tail = most // 2
    return f"{name[: most - 1 - tail]}…{name[len(name) - tail :]}"


def _told_apart(names: list[str], most: int) -> list[str]:
    often, met, found = Counter(names), Counter[str](), []
    for name in names:
        if often[name] == 1:
            found.append(name)
            continue
        met[name] += 1
        number = f"·{met[name]}"
        found.append(f"{name[: max(most - len(number), 1)]}{number}")
    return found
