"""Where the intensities of a region are: extremes and centre of brightness."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from rilievo.core.measure.quantity import Column, listed
from rilievo.core.measure.region_values import RegionValues

_position = partial(listed, "intensity", order=30)


def _extreme(highest: bool, axis: int) -> Callable[[RegionValues], Column]:
    return lambda values: values.extreme(highest)[axis]


def _centre(axis: int) -> Callable[[RegionValues], Column]:
    return lambda values: values.brightness_centre[axis]


for _end, _highest, _word in (("min", False, "minimum"), ("max", True, "maximum")):
    for _axis, _line in ((1, "column"), (2, "row")):
        _name = "xy"[_axis - 1]
        _position(
            f"{_end}_{_name}", f"{_end.capitalize()} {_name}", f"{_name}({_end} v)", "px",
            f"{_line} of the first {_word} in row order", f"{_name} where v = {_end} v",
            _extreme(_highest, _axis), whole=True,
        )  # fmt: skip

for _axis, _line in ((0, "column"), (1, "row")):
    _name = "xy"[_axis]
    _position(
        f"iw_{_name}", f"Bright {_name}", f"{_name}(v)", "px",
        f"{_line} of the centre of brightness; undefined if the sum is ≤ 0",
        f"Σ v·{_name} / Σ v", _centre(_axis),
    )  # fmt: skip
