"""Blocks of a Zarr array that are not there, which the format fills with one value.

A writer may leave out blocks that hold nothing but that value; one cannot tell them from blocks
that were lost, so that neither is a measurement.
"""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import NotAnImage

_MOST_BLOCKS = 4_000_000


def check_shape(path: Path, array: Any) -> None:
    """Raise NotAnImage for more blocks than one could go through."""
    blocks = math.prod(-(-int(n) // max(int(c), 1)) for n, c in _sizes(array))
    if blocks > _MOST_BLOCKS:
        raise NotAnImage(
            path, f"claims to have {blocks} blocks", "export it again with larger blocks"
        )


def _sizes(array: Any) -> zip[tuple[int, int]]:
    return zip(array.shape, array.chunks, strict=True)


def absent_blocks(
    folder: Path, array: Any, values: NDArray[Any], taken: tuple[int | slice, ...]
) -> NDArray[np.bool_] | None:
    """Return which values of an array are filled in, in their shape; None where all are there.

    folder : of the array. values : what is `taken` of it, as read. It is read once more with
    another filling where blocks can be missing: what differs then is not in the files.
    """
    if array.shards is None and array.nchunks_initialized == array.nchunks:
        return None
    import zarr  # noqa: PLC0415 (slow to import, needed for this format only)

    other = zarr.open_array(_filled_otherwise(folder), mode="r")
    again = np.asarray(other[taken])
    differ = values != again
    if values.dtype.kind == "f":
        differ &= ~(np.isnan(values) & np.isnan(again))
    return np.asarray(differ, np.bool_) if differ.any() else None


def _filled_otherwise(folder: Path) -> Any:
    """The store of an array whose metadata say another value for missing blocks."""
    from zarr.storage import LocalStore  # noqa: PLC0415

    class OtherFilling(LocalStore):
        async def get(self, key: str, prototype: Any = None, byte_range: Any = None) -> Any:
            content = await super().get(key, prototype, byte_range)
            if key not in ("zarr.json", ".zarray") or content is None:
                return content
            facts = json.loads(content.to_bytes())
            facts["fill_value"] = 0 if _is_one(facts.get("fill_value")) else 1
            return type(content).from_bytes(json.dumps(facts).encode())

    return OtherFilling(folder, read_only=True)


def _is_one(value: Any) -> bool:
    return isinstance(value, int | float) and value == 1
