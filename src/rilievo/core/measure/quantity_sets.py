"""Sets of quantities to choose at once: ready ones, and what the user keeps."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping

from rilievo.core.measure import QUANTITIES, STANDARD_QUANTITIES
from rilievo.core.untrusted_json import JsonError, parsed

READY_SETS: dict[str, tuple[str, ...]] = {
    "Basic": STANDARD_QUANTITIES,
    "Intensity": tuple(q.key for q in QUANTITIES.values() if q.family == "intensity"),
    "Shape": tuple(q.key for q in QUANTITIES.values() if q.family == "shape"),
    "Stars": tuple(q.key for q in QUANTITIES.values() if q.family == "star"),
    "Everything": tuple(QUANTITIES),
}


def sets_from_json(text: str) -> dict[str, tuple[str, ...]]:
    """Return kept sets from their JSON; what cannot be read or is not known is left out."""
    try:
        data = parsed(text)
    except JsonError:
        return {}
    if not isinstance(data, dict):
        return {}
    sets = {}
    for name, keys in data.items():
        if isinstance(name, str) and isinstance(keys, list):
            sets[name] = tuple(k for k in keys if isinstance(k, str) and k in QUANTITIES)
    return {name: keys for name, keys in sets.items() if keys}


def sets_to_json(sets: Mapping[str, Iterable[str]]) -> str:
    """Return sets as JSON; `sets_from_json` gives them back."""
    return json.dumps({name: list(keys) for name, keys in sets.items()}, ensure_ascii=False)


def found_quantities(search: str) -> tuple[str, ...]:
    """Return the keys of quantities whose name, key, symbol or definition has all the words."""
    words = search.casefold().split()
    keys = [
        q.key
        for q in QUANTITIES.values()
        if all(word in f"{q.key} {q.title} {q.symbol} {q.definition}".casefold() for word in words)
    ]
    # A percentile is there as soon as it is asked for.
    if len(words) == 1 and not keys and words[0] in QUANTITIES:
        keys = [words[0]]
    return tuple(keys)
