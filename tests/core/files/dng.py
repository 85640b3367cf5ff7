"""Raw photographs made for tests: a DNG with the numbers and the tags that are asked for."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

MOSAIC, LINEAR = 32803, 34892
_BYTE, _ASCII, _SHORT, _LONG, _RATIONAL, _SIGNED = 1, 2, 3, 4, 5, 10


def write_dng(
    path: Path,
    values: np.ndarray,
    *,
    pattern: Sequence[int] = (0, 1, 1, 2),
    side: int = 2,
    black: Sequence[int] = (512, 512, 512, 512),
    white: int = 16_000,
    orientation: int = 1,
    photometric: int = MOSAIC,
    **more: Any,
) -> Path:
    """Write sensor numbers.

    pattern : colours of a tile of side × side sites; 0 is red, 1 green, 2 blue.
    """
    ones = (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1)
    tags: list[tuple[int, int, int, Any, bool]] = [
        (271, _ASCII, 0, "Bench", True),
        (272, _ASCII, 0, "Camera", True),
        (274, _SHORT, 1, orientation, True),
        (33434, _RATIONAL, 1, (1, 250), True),
        (33437, _RATIONAL, 1, (56, 10), True),
        (34855, _SHORT, 1, 400, True),
        (37386, _RATIONAL, 1, (50, 1), True),
        (42036, _ASCII, 0, "Bench 50 mm", True),
        (50706, _BYTE, 4, (1, 4, 0, 0), True),
        (50707, _BYTE, 4, (1, 1, 0, 0), True),
        (50708, _ASCII, 0, "Bench camera", True),
        (50717, _SHORT, 1, white, True),
        (50721, _SIGNED, 9, ones, True),
        (50728, _RATIONAL, 3, (1, 1, 1, 1, 1, 1), True),
        (50778, _SHORT, 1, 21, True),
    ]
    if photometric == MOSAIC:
        tags += [
            (33421, _SHORT, 2, (side, side), True),
            (33422, _BYTE, side * side, tuple(pattern), True),
            (50713, _SHORT, 2, (2, 2), True),
            (50714, _LONG, 4, tuple(black), True),
        ]
    tifffile.imwrite(path, values, photometric=photometric, metadata=None, extratags=tags, **more)
    return path
