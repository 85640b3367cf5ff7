"""Facts about an image file as plain data, for the command line."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from rilievo.core.files import read_sample
from rilievo.core.files.plane_choice import is_stack
from rilievo.core.files.reader import read_layout
from rilievo.core.image.image import Plane
from rilievo.core.measure import QUANTITIES
from rilievo.core.measure.plane_statistics import plane_statistics
from rilievo.core.pipeline.checks import check_sample


def _numbers(plane: Plane) -> dict[str, float | int | None]:
    """Every intensity quantity of a whole plane; None where it is undefined."""
    result: dict[str, float | int | None] = {}
    for key, number in plane_statistics(plane).numbers.items():
        if not math.isfinite(number):
            result[key] = None
        else:
            result[key] = int(number) if QUANTITIES[key].whole else number
    return result


def describe(path: Path) -> dict[str, Any]:
    """Return size, number type, calibration, statistics and checks. Raises FileError."""
    layout = read_layout(path)
    # Of a stack one plane; a few pages of unknown meaning are channels.
    frame = layout.taken_as("time").frames()[0] if is_stack(layout) else None
    sample = read_sample(path, 0, frame)
    first = sample.first
    return {
        "file": str(path),
        "width": first.shape[1],
        "height": first.shape[0],
        "dtype": str(first.file_dtype),
        "channels": [{"name": name, **_numbers(plane)} for name, plane in sample.channels.items()],
        "pixel_size": first.calibration.pixel_size,
        "pixel_height": first.calibration.sides and first.calibration.sides[1],
        "unit": first.calibration.unit,
        "planes": {
            "depth": layout.z,
            "time": layout.time,
            "pages of unknown meaning": layout.pages,
            "distance in depth": layout.z_step,
        },
        "attributes": dict(sample.attributes),
        "checks": [
            {
                "kind": check.kind,
                "severity": check.severity,
                "channel": check.channel,
                "text": check.text,
            }
            for check in check_sample(sample)
        ],
    }
