"""Facts about an image file as plain data, for the command line."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from rilievo.core.checks import check_sample
from rilievo.core.evaluate import signal_of
from rilievo.core.files import read_sample
from rilievo.core.image import Plane
from rilievo.core.measures import QUANTITIES, RegionValues, whole_plane_index
from rilievo.core.method import Method


def whole_plane_statistics(signal: Plane, native: Plane) -> dict[str, float | int | None]:
    """Return every intensity quantity of a whole plane; None where it is undefined."""
    values = RegionValues(whole_plane_index(native.shape), signal, native)
    result: dict[str, float | int | None] = {}
    for quantity in QUANTITIES.values():
        if quantity.family != "intensity":
            continue
        number = float(quantity.measure(values)[0])
        if not math.isfinite(number):
            result[quantity.key] = None
        else:
            result[quantity.key] = int(number) if quantity.whole else number
    return result


def describe(path: Path) -> dict[str, Any]:
    """Return size, number type, calibration, statistics and checks. Raises FileError."""
    sample = read_sample(path)
    first = sample.first
    return {
        "file": str(path),
        "width": first.shape[1],
        "height": first.shape[0],
        "dtype": str(first.pixels.dtype),
        "channels": [
            {"name": name, **whole_plane_statistics(signal_of(sample, name, Method()), plane)}
            for name, plane in sample.channels.items()
        ],
        "pixel_size": first.calibration.pixel_size,
        "unit": first.calibration.unit,
        "checks": [
            {"kind": check.kind, "channel": check.channel, "text": check.text}
            for check in check_sample(sample)
        ],
    }
