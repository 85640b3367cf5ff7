"""How a number is named in reports and files, so that it can be found again in the window.

field-1 / cell 12 / lipid dye / mean      sample, region (with its class), channel, quantity
"""

from __future__ import annotations

from collections.abc import Sequence

from rilievo.core.measure import QUANTITIES
from rilievo.core.regions.region_set import number_in_class
from rilievo.core.table.table import RegionTable

SEPARATOR = " / "


def reference_of(table: RegionTable, region: int, channel: str, key: str) -> str:
    """Return the name of a number."""
    number = f"{table.class_of(region)} {number_in_class(region)}"
    return SEPARATOR.join((table.sample, number, channel, key))


def find_reference(text: str, tables: Sequence[RegionTable]) -> tuple[str, int, str, str] | str:
    """Return sample, region, channel and key that a name stands for, or why there is none.

    Channel and quantity may be left out: the first of each is taken.
    """
    parts = [part.strip() for part in text.split("/")]
    table = next((t for t in tables if t.sample == parts[0]), None)
    if table is None:
        return f"No measured sample is called “{parts[0]}”; write: sample / class number."
    if len(parts) < 2:
        return "Write sample / class number / channel / quantity."
    region = _region(parts[1], table)
    if region is None:
        return f"Sample “{table.sample}” has no region “{parts[1]}”; write its class and number."
    channel = parts[2] if len(parts) > 2 else table.channels[0]
    if channel not in table.channels:
        return f"“{channel}” was not measured; channels are {', '.join(table.channels)}."
    key = parts[3] if len(parts) > 3 else next(iter(table.quantities), "")
    if key not in table.quantities:
        is_quantity = key in QUANTITIES
        return f"“{key}” was not measured." if is_quantity else f"“{key}” is no quantity."
    return table.sample, region, channel, key


def _region(text: str, table: RegionTable) -> int | None:
    for region in table.ids.tolist():
        number = number_in_class(region)
        name = table.class_of(region)
        if text in (table.label_of(region), f"{name} {number}") or (
            len(table.classes) == 1 and text == str(number)
        ):
            return int(region)
    return None
