"""A plane of pixels with what is needed to read it rightly, and a sample made of planes.

Reading files is left to `files`, correcting to `steps`, drawing to `view`.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, Literal, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import StepError
from rilievo.core.image.array_input import planes_of, sides_of
from rilievo.core.image.lengths import conversion, unit_name
from rilievo.core.image.metadata import MetadataNode
from rilievo.core.image.notebook_html import sample_html
from rilievo.core.image.stack import Along, PlaneRange

FloatPixels = NDArray[np.floating[Any]]
Pixels = NDArray[Any]
# Native values are those of the file; signal values are those after the method's corrections.
ValueSource = Literal["native", "signal"]
# Sides that differ by less than this share are rounded differently.
_SAME_SIDES = 1e-6


class Lattice(NamedTuple):
    """All finite values of a plane lie on `origin + k · spacing` with whole k.

    Integer files do, and still do after a constant is subtracted; histograms use it to keep
    one bin a level.
    """

    origin: float
    spacing: float


Placement = tuple[float, float, float, float, float, float]
UNMOVED: Placement = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0)


def placed(placement: Placement, x: float, y: float) -> tuple[float, float]:
    """Return where a position of the file lies under a placement."""
    a, b, c, d, e, f = placement
    return a * x + b * y + c, d * x + e * y + f


def unplaced(placement: Placement, x: float, y: float) -> tuple[float, float]:
    """Return the position of the file that lies at (x, y) under a placement."""
    a, b, c, d, e, f = placement
    det = a * e - b * d
    return (e * (x - c) - b * (y - f)) / det, (a * (y - f) - d * (x - c)) / det


def compose(first: Placement, second: Placement) -> Placement:
    """Return the placement that is `first`, compose `second`."""
    a, b, c, d, e, f = first
    g, h, i, k, m, n = second
    return (
        g * a + h * d,
        g * b + h * e,
        g * c + h * f + i,
        k * a + m * d,
        k * b + m * e,
        k * c + m * f + n,
    )


@dataclass(frozen=True)
class Calibration:
    """Sides of a pixel in `unit`; None when the file does not say.

    pixel_size : the side along x. pixel_height : the side along y, where pixels are not square.
    """

    pixel_size: float | None = None
    unit: str = "px"
    pixel_height: float | None = None

    @classmethod
    def of_sides(cls, width: float, height: float, unit: str) -> Calibration:
        """Return the calibration of pixels of two sides; none where a side is no length.

        Sides within a millionth of each other are the same, as headers round them.
        """
        name = unit_name(unit)
        if not (math.isfinite(width) and width > 0) or name == "px":
            return cls()
        if not (math.isfinite(height) and height > 0):
            return cls()
        other = None if abs(height - width) <= _SAME_SIDES * width else height
        return cls(width, name, other)

    @property
    def is_square(self) -> bool:
        """Whether both sides are alike, as far as one knows."""
        return self.pixel_height is None

    @property
    def sides(self) -> tuple[float, float] | None:
        """Width and height of a pixel; None without a calibration."""
        if self.pixel_size is None:
            return None
        return self.pixel_size, self.pixel_size if self.is_square else float(self.pixel_height or 0)

    @property
    def area_factor(self) -> float | None:
        """Square units per pixel."""
        return None if self.sides is None else self.sides[0] * self.sides[1]

    @property
    def ratio(self) -> float:
        """Height over width of a pixel; 1 where it is not known."""
        return 1.0 if self.sides is None else self.sides[1] / self.sides[0]

    def scaled(self, factor: float) -> Calibration:
        """Return the calibration of pixels so many times as wide and high."""
        if self.pixel_size is None:
            return self
        height = None if self.pixel_height is None else self.pixel_height * factor
        return Calibration(self.pixel_size * factor, self.unit, height)

    def turned(self) -> Calibration:
        """Return the calibration after a quarter turn."""
        if self.is_square:
            return self
        return Calibration(self.pixel_height, self.unit, self.pixel_size)

    def in_unit(self, unit: str) -> Calibration:
        """Return the same sides in another unit; itself where they cannot be converted."""
        factor = conversion(self.unit, unit)
        if factor is None or factor == 1.0 or self.pixel_size is None:
            return self
        return replace(self.scaled(factor), unit=unit)

    @property
    def text(self) -> str:
        """The sides in words: “0.1 µm”, “0.1 × 0.3 µm”, “not known”."""
        if self.sides is None:
            return "not known"
        both = f"{self.sides[0]:.4g}" + ("" if self.is_square else f" × {self.sides[1]:.4g}")
        return f"{both} {self.unit}"

    def length(self, dx: float, dy: float) -> float:
        """Return the length of a step in pixels, in `unit`, or in pixels without a calibration."""
        width, height = self.sides or (1.0, 1.0)
        return math.hypot(dx * width, dy * height)

    def square_side(self, what: str, sample: str) -> float:
        """Return the one side of a square pixel, for a length that has no direction.

        Raises StepError, which names the length and the sample, without a calibration, and where
        pixels are not square.
        """
        if self.pixel_size is None:
            raise StepError(
                f"{what} is given in a calibrated unit, but sample “{sample}” has no pixel size; "
                "give it in pixels, or the pixel size in Look."
            )
        if not self.is_square:
            raise StepError(
                f"{what} is given in a calibrated unit, but the pixels of sample “{sample}” are "
                f"not square ({self.text}), so that it is not one length in pixels; give it in "
                "pixels."
            )
        return self.pixel_size


def working_dtype(native: np.dtype[Any]) -> type[np.float32] | type[np.float64]:
    """Return float32 where it holds every value of `native` exactly, else float64."""
    if native.kind in "iub" and native.itemsize <= 2:
        return np.float32
    if native.kind == "f" and native.itemsize <= 4:
        return np.float32
    return np.float64


@dataclass(frozen=True, eq=False)
class CurveError:
    """How sure a calibrated value is: its standard error at some values, which rise.

    values, errors : shape (n,), in units of the plane.
    """

    values: NDArray[np.float64]
    errors: NDArray[np.float64]

    def at(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the standard error at values; NaN beyond the known ones."""
        interpolated = np.interp(values, self.values, self.errors, math.nan, math.nan)
        return np.asarray(interpolated, np.float64)


@dataclass(frozen=True, eq=False)
class Plane:
    """One gray plane.

    Parameters
    ----------
    pixels : ndarray of shape (height, width)
        Indexed [y, x]; read-only. Undefined pixels are NaN.
    calibration : Calibration
        Size of a pixel.
    saturation : float, optional
        Native level at or above which a pixel is saturated; None for float data.
    empty : float, optional
        Native level at or below which a pixel is empty; None when off.
    type_range : tuple of float, optional
        The native range that the 0–1 scale maps; None means the data's own range.
    clipped : ndarray of bool, optional
        For a derived plane, the pixels of which a source is saturated; shape of `pixels`.
    level_error : float, optional
        Standard error of the background level that was taken off all pixels alike; None when no
        step gave one.
    curve_error : CurveError, optional
        Of values that a card calibrated.
    stored : dtype, optional
        Number type of the file where it is another than that of `pixels`.
    placement : tuple of float
        How file positions become positions here: (a, b, c, d, e, f) with x' = a·x + b·y + c and
        y' = d·x + e·y + f.

    Examples
    --------
    >>> plane_from_native(np.array([[0, 255]], np.uint8)).saturation
    255.0
    """

    pixels: Pixels
    calibration: Calibration = Calibration()
    saturation: float | None = None
    empty: float | None = None
    type_range: tuple[float, float] | None = None
    lattice: Lattice | None = None
    clipped: NDArray[np.bool_] | None = None
    level_error: float | None = None
    curve_error: CurveError | None = None
    placement: Placement = UNMOVED
    stored: np.dtype[Any] | None = None

    def __post_init__(self) -> None:
        if self.pixels.ndim != 2:
            raise ValueError(f"A plane has two dimensions. Got {self.pixels.ndim}.")
        # A view, so that the caller's own array stays writable.
        view = self.pixels.view()
        view.flags.writeable = False
        object.__setattr__(self, "pixels", view)

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width in pixels."""
        return self.pixels.shape[0], self.pixels.shape[1]

    @property
    def file_dtype(self) -> np.dtype[Any]:
        """Number type in the file; missing pixels make floats of whole numbers."""
        return self.pixels.dtype if self.stored is None else self.stored

    def unit_share(self, native: float, data_range: tuple[float, float]) -> float:
        """Return where a native value lies from 0 to 1 of the type's range.

        data_range : lowest and highest native value, used where the type has no range (floats).
        """
        low, high = self.type_range or data_range
        return (native - low) / (high - low) if high > low else float("nan")

    def saturated(self) -> NDArray[np.bool_] | None:
        """Return which pixels are saturated, shape of `pixels`; None when none can be."""
        if self.clipped is not None:
            return self.clipped
        return None if self.saturation is None else self.pixels >= self.saturation

    def as_float(self) -> FloatPixels:
        """Return the pixels as float32 where that is exact, else float64; infinite → NaN."""
        values: FloatPixels = self.pixels.astype(working_dtype(self.pixels.dtype), copy=False)
        if self.pixels.dtype.kind == "f" and np.isinf(values).any():
            values = np.where(np.isinf(values), np.nan, values)
        return values

    def with_pixels(self, pixels: Pixels, lattice: Lattice | None) -> Plane:
        """Return the same plane with other values, for steps."""
        return replace(self, pixels=pixels, lattice=lattice)


def plane_from_native(
    pixels: Pixels,
    calibration: Calibration = Calibration(),
    significant_bits: int | None = None,
    empty: float | None = None,
) -> Plane:
    """Return a plane of native values with the levels that its number type implies.

    pixels : shape (height, width), any integer or float type.
    significant_bits : the camera's depth when it is less than the type's, e.g. 12.
    """
    native = np.asarray(pixels)
    if native.dtype == np.bool_:
        native = native.astype(np.uint8)
    if native.dtype.kind not in "iu":
        return Plane(native, calibration, empty=empty)
    info = np.iinfo(native.dtype)
    low, high = float(info.min), float(info.max)
    if significant_bits is not None and 0 < significant_bits < info.bits:
        high = float(2**significant_bits - 1)
    return Plane(
        native,
        calibration,
        saturation=high,
        empty=empty,
        type_range=(low, high),
        lattice=Lattice(0.0, 1.0),
    )


def with_gaps(plane: Plane, missing: NDArray[np.bool_]) -> Plane:
    """Return a plane whose missing pixels are undefined: floats that hold the others exactly.

    missing : shape of the plane. Integers beyond 2^53 are rounded, as everywhere.
    """
    values = plane.pixels.astype(working_dtype(plane.pixels.dtype))
    values[missing] = np.nan
    return replace(plane, pixels=values, stored=plane.pixels.dtype)


class Defect(NamedTuple):
    """What is wrong with the data of a file, in a sentence that names the file.

    kind : missing data, damaged data, rounded values. channel : "" for the whole file.
    pixels : how many it concerns, where that is known.
    """

    kind: str
    channel: str
    text: str
    pixels: int = 0


MISSING, DAMAGED, ROUNDED = DEFECT_KINDS = ("missing data", "damaged data", "rounded values")


# Returns the plane of a name, made only where it is not known yet; its bytes are counted.
Keep = Callable[[Hashable, Callable[[], "Plane"], Callable[["Plane"], int]], "Plane"]


def kept_nowhere(
    _name: Hashable, make: Callable[[], Plane], _size: Callable[[Plane], int]
) -> Plane:
    """As `Keep`; makes it each time."""
    return make()


class OtherPlanes(Protocol):
    """The planes of the stack that a sample is one of, read when they are asked for."""

    @property
    def axes(self) -> tuple[Along, ...]:
        """Along what there are others."""

    def projected(
        self, channel: str, over: PlaneRange, convert: Conversion, keep: Keep
    ) -> Plane | None:
        """Return what is made of a channel over planes; None where there is no such axis.

        convert : what is done to each plane before. keep : as `Keep`. Raises a FileError,
        Cancelled.
        """


class Conversion(NamedTuple):
    """What is done to the channels of each plane. key : names it."""

    key: str
    apply: Callable[[Mapping[str, Plane]], Mapping[str, Plane]]


@dataclass(frozen=True, eq=False)
class Sample:
    """One specimen, field, exposure or photograph with its channels, as read from a file.

    Parameters
    ----------
    name : str
        As it stands in tables.
    channels : mapping of str to Plane
        Planes of one shape, by name.
    bottom_up : bool
        The first stored row is shown at the bottom (FITS); coordinates do not change.
    checksum : str
        SHA-256 of the file; empty for a sample without a file, and until it is computed.
    notes : sequence of str
        What reading it set aside or assumed, as sentences.
    defects : tuple of Defect
        What of its data is missing, damaged or rounded.
    metadata : tuple of MetadataNode
        Everything the file says of itself, as a tree.
    images : sequence of str
        Titles of the images in the file that differ in size, this one among them.
    identity : str
        Names the file's present state more cheaply than its checksum does.
    stack : Stack, optional
        The planes that it is one of; None for a sample by itself.
    variant : str
        Names what was made of the file's values: derived channels, calibration.
    files : mapping of str to tuple of Path
        The files that each channel comes from, where the sample is made of several.

    Examples
    --------
    >>> sample = Sample.from_array(np.zeros((2, 3), np.uint16), name="field 1")
    >>> sample.channel_names, sample.first.shape
    (('gray',), (2, 3))
    """

    name: str
    channels: Mapping[str, Plane]
    path: Path | None = None
    checksum: str = ""
    bottom_up: bool = False
    attributes: Mapping[str, str] = field(default_factory=dict)
    notes: Sequence[str] = ()
    defects: tuple[Defect, ...] = ()
    metadata: tuple[MetadataNode, ...] = ()
    images: Sequence[str] = ()
    identity: str = ""
    variant: str = ""
    stack: OtherPlanes | None = None
    files: Mapping[str, tuple[Path, ...]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if not self.channels:
            raise ValueError(f"The sample {self.name} has no channel.")

    @classmethod
    def from_array(
        cls,
        array: Any,
        *,
        name: str = "array",
        pixel_size: float | Sequence[float] | None = None,
        unit: str = "µm",
        channels: Sequence[str] = (),
        axes: str = "",
        saturation: float | None = None,
        bits: int | None = None,
    ) -> Sample:
        """Return a sample of an array in memory; its values are copied.

        array : shape (height, width), or three axes of which one counts channels; an array with
        named axes y, x and channel; or a mapping of channel names to planes.
        pixel_size : side of a pixel in `unit`; or width and height. channels : names, in order.
        axes : "yx", "cyx" or "yxc", where the shape leaves it open. saturation : values from here
        on are saturated; by the number type for None. bits : depth of the camera in a wider type.
        Raises ArrayError.
        """
        calibration = Calibration()
        if pixel_size is not None:
            calibration = Calibration.of_sides(*sides_of(pixel_size, unit), unit)
        planes = {
            channel: plane_from_native(pixels, calibration, bits)
            for channel, pixels in planes_of(array, channels, axes).items()
        }
        if saturation is not None:
            planes = {
                channel: replace(plane, saturation=float(saturation))
                for channel, plane in planes.items()
            }
        return cls(name, planes)

    def _line(self) -> str:
        """Size, type and calibration in one line."""
        height, width = self.first.shape
        calibration = self.first.calibration
        size = "no pixel size" if calibration.sides is None else f"{calibration.text}/px"
        names = ", ".join(self.channel_names)
        return f"{width}×{height}, {self.first.file_dtype}, {size}, channels {names}"

    def __repr__(self) -> str:
        return f"<Sample “{self.name}”: {self._line()}>"

    def _repr_html_(self) -> str:
        return sample_html(
            self.name, self._line(), {key: plane.pixels for key, plane in self.channels.items()}
        )

    def renamed(self, name: str) -> Sample:
        """Return the same sample under its name in a study or batch."""
        return self if name == self.name else replace(self, name=name)

    @property
    def channel_names(self) -> tuple[str, ...]:
        """Names in the file's order."""
        return tuple(self.channels)

    def files_of(self, channel: str) -> tuple[Path, ...]:
        """Return the files that a channel comes from; none for a sample in memory."""
        return self.files.get(channel, () if self.path is None else (self.path,))

    @property
    def first(self) -> Plane:
        """The first channel, which stands for size and calibration."""
        return next(iter(self.channels.values()))

    @cached_property
    def content(self) -> str:
        """Name the pixels by what they are: the file and what was made of it, or the values."""
        if self.identity or self.checksum:
            return (self.identity or self.checksum) + self.variant
        digest = hashlib.sha256()
        for name, plane in self.channels.items():
            digest.update(f"{name} {plane.pixels.dtype.str} {plane.shape}".encode())
            digest.update(np.ascontiguousarray(plane.pixels).data)
        return digest.hexdigest() + self.variant

    @property
    def nbytes(self) -> int:
        """Memory of the native pixels."""
        return sum(plane.pixels.nbytes for plane in self.channels.values())
