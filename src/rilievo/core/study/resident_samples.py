"""Which samples of a large study are held in memory: the focused one, those near it, a few more."""

from __future__ import annotations

from collections.abc import Collection, Mapping

# What is known of a sample (regions, histograms) takes more than its pixels do.
_WITH_FACTS = 2.5
_LEAST = 4


def choose_resident(
    sizes: Mapping[int, int], focus: int | None, room: int, seen: Collection[int] = ()
) -> list[int]:
    """Return the samples that are held, the most wanted first.

    sizes : sample → bytes of its pixels, in the order of the study. room : bytes for all. seen :
    samples that are shown beside the focused one; they come first, as many as there is room. All of
    them if they fit; else half of the room is for those around the focus, half for some spread
    evenly over the study, so that a setting is still seen on every kind of sample.
    """
    ids = list(sizes)
    whole = sum(sizes.values()) * _WITH_FACTS
    if whole <= room:
        shown = set(seen)
        return sorted(ids, key=lambda sample_id: (sample_id != focus, sample_id not in shown))
    count = max(int(len(ids) * room / whole), _LEAST)
    spread = max(count // 2, 1)
    few = [ids[round((k + 0.5) * len(ids) / spread - 0.5)] for k in range(spread)]
    middle = ids.index(focus) if focus is not None and focus in sizes else 0
    near = sorted(range(len(ids)), key=lambda k: abs(k - middle))
    first = [] if focus is None or focus not in sizes else [focus]
    first += [sample_id for sample_id in seen if sample_id in sizes]
    resident = dict.fromkeys([*first, *(ids[k] for k in near[: count - spread]), *few])
    return list(resident)[:count]
