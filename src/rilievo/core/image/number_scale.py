"""Number scales for display: native, 0–1, 8-bit equivalent. They change what is printed alone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from rilievo.core.image.image import Plane

Scale = Literal["native", "unit", "8-bit"]

SCALES: dict[Scale, tuple[str, str]] = {
    "native": ("native", "Values as they stand in the file"),
    "unit": ("0–1", "Where a value lies in the range of the file's numbers, or of float data"),
    "8-bit": ("8-bit", "The same range as 0 to 255"),
}


@dataclass(frozen=True)
class NumberScale:
    """A way to print intensities: a straight line from low … high to 0 … top.

    top : None prints native values.
    """

    kind: Scale = "native"
    low: float = 0.0
    high: float = 1.0

    @property
    def factor(self) -> float:
        """What differences of intensity are multiplied with; NaN for a range of nothing."""
        if self.kind == "native":
            return 1.0
        span = self.high - self.low
        top = 1.0 if self.kind == "unit" else 255.0
        return top / span if span > 0 else float("nan")

    def value(self, native: float) -> float:
        """Return an intensity on this scale."""
        return native if self.kind == "native" else (native - self.low) * self.factor

    def native(self, value: float) -> float:
        """Return the intensity that is printed as `value`."""
        return value if self.kind == "native" else value / self.factor + self.low

    def difference(self, native: float) -> float:
        """Return a difference of intensities, such as a standard deviation, on this scale."""
        return native * self.factor


def scale_for(kind: Scale, plane: Plane, data_range: tuple[float, float]) -> NumberScale:
    """Return the scale of a plane; its type's range, or that of its data for floats."""
    low, high = plane.type_range or data_range
    return NumberScale(kind, low, high)
