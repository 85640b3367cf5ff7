"""The planes of arrays that are in memory already: NumPy, xarray, or a mapping of planes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import ArrayError
from rilievo.core.image.lengths import LENGTH_UNITS, unit_name

_X, _Y, _CHANNEL = ("x", "column"), ("y", "row"), ("channel", "c", "band")


def planes_of(array: Any, channels: Sequence[str], axes: str) -> dict[str, NDArray[Any]]:
    """Return the planes of an array by channel, as copies; see `Sample.from_array`.

    Raises ArrayError where it is no image.
    """
    planes = {key: _checked(pixels) for key, pixels in _split(array, channels, axes).items()}
    shapes = sorted({plane.shape for plane in planes.values()})
    if len(shapes) != 1:
        raise ArrayError(f"Channels of one sample have one size. Got {shapes}.")
    return planes


def sides_of(size: float | Sequence[float], unit: str) -> tuple[float, float]:
    """Return width and height of a pixel. Raises ArrayError where these are no lengths."""
    sides = tuple(size) if isinstance(size, Sequence) else (size, size)
    wide, high = sides if len(sides) == 2 else (0.0, 0.0)
    units = [length_unit for length_unit in LENGTH_UNITS if length_unit != "px"]
    if not (wide > 0 and high > 0) or unit_name(unit) not in units:
        unit_names = ", ".join(units)
        raise ArrayError(f"A pixel size is above 0, in one of {unit_names}. Got {size} “{unit}”.")
    return float(wide), float(high)


def _split(array: Any, channels: Sequence[str], axes: str) -> dict[str, NDArray[Any]]:
    if isinstance(array, Mapping):
        return {str(key): np.asarray(plane) for key, plane in array.items()}
    if hasattr(array, "dims") and hasattr(array, "coords"):
        array, axes, channels = _of_named_axes(array, channels)
    values = np.asarray(array)
    axes = axes or _guessed(values.shape, channels)
    if len(axes) != values.ndim or set(axes) not in ({"y", "x"}, {"y", "x", "c"}):
        raise ArrayError(
            f"An image has the axes y and x, and may have c. Got the shape {values.shape} and the "
            f'axes “{axes}”; name them, such as axes="cyx".'
        )
    values = values.transpose([axes.index(axis) for axis in sorted(axes, key="cyx".index)])
    if values.ndim == 2:
        values = values[np.newaxis]
    names = list(channels) or (
        ["gray"] if len(values) == 1 else [f"channel {k + 1}" for k in range(len(values))]
    )
    if len(names) != len(values) or len(set(names)) != len(names):
        raise ArrayError(f"{len(values)} channels need as many different names. Got {names}.")
    return dict(zip(names, values, strict=True))


def _of_named_axes(array: Any, channels: Sequence[str]) -> tuple[Any, str, Sequence[str]]:
    """The values of an array with named axes, the axes as letters, and names of its channels."""
    letters = []
    for dim in map(str, array.dims):
        low = dim.lower()
        letter = next(
            (one for one, words in (("x", _X), ("y", _Y), ("c", _CHANNEL)) if low in words), ""
        )
        if not letter:
            raise ArrayError(
                f"The axis “{dim}” is not known; rename it to x, y or channel, or take one plane."
            )
        letters.append(letter)
    if "c" in letters and not channels:
        dim = array.dims[letters.index("c")]
        if dim in array.coords:
            channels = [str(label) for label in np.asarray(array.coords[dim])]
    return array.values, "".join(letters), channels


def _guessed(shape: tuple[int, ...], channels: Sequence[str]) -> str:
    if len(shape) == 2:
        return "yx"
    if len(shape) != 3:
        return ""
    count = len(channels)
    if count:
        fits = [axes for axes, length in (("cyx", shape[0]), ("yxc", shape[2])) if length == count]
        return fits[0] if len(fits) == 1 else ""
    # Few along one end and many along the other: those few are channels.
    if shape[0] <= 4 < shape[2]:
        return "cyx"
    return "yxc" if shape[2] <= 4 < shape[0] else ""


def _checked(pixels: NDArray[Any]) -> NDArray[Any]:
    if pixels.dtype.kind not in "biuf" or pixels.ndim != 2 or pixels.size == 0:
        raise ArrayError(
            f"A plane is a two-dimensional array of numbers. Got {pixels.dtype} of {pixels.shape}."
        )
    # A copy: what is measured stays as it was when the array changes.
    return np.array(pixels, np.float32 if pixels.dtype == np.float16 else None)
