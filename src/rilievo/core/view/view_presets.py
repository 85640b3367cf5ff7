"""Ready views, named for what one wants to see. Of the view; never measured."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from rilievo.core.image.histogram import Histogram
from rilievo.core.view.palettes import ViewStyle

# A normal distribution's quartiles lie this many standard deviations apart.
_QUARTILES_IN_SIGMA = 1.349


@dataclass(frozen=True)
class Preset:
    """A display range and a style made from a channel's histogram."""

    title: str
    explanation: str
    ends: Callable[[Histogram], tuple[float, float]]
    style: ViewStyle


def _whole(histogram: Histogram) -> tuple[float, float]:
    return histogram.lowest, histogram.highest


def _sigma(histogram: Histogram) -> float:
    """The spread of the background, from the quartiles."""
    return (histogram.quantile(0.75) - histogram.quantile(0.25)) / _QUARTILES_IN_SIGMA


def _faint(histogram: Histogram) -> tuple[float, float]:
    middle, sigma = histogram.quantile(0.5), _sigma(histogram)
    low, high = max(middle - 2 * sigma, histogram.lowest), middle + 40 * sigma
    return low, min(high, histogram.highest) if histogram.highest > low else high


def _bright(histogram: Histogram) -> tuple[float, float]:
    return histogram.quantile(0.5), histogram.highest


def _background(histogram: Histogram) -> tuple[float, float]:
    middle = histogram.quantile(0.5)
    sigma = _sigma(histogram)
    return middle - 5 * sigma, middle + 5 * sigma


PRESETS: Mapping[str, Preset] = {
    "faint": Preset(
        "Faint objects",
        "lifts what is little above the background: asinh from its middle − 2 to + 40 sigmas",
        _faint,
        ViewStyle(stretch="asinh", strength=12.0),
    ),
    "full": Preset(
        "Full range", "from the lowest to the highest value, linear", _whole, ViewStyle()
    ),
    "bright": Preset(
        "Bright detail",
        "spreads the upper half: linear from the median to the highest value",
        _bright,
        ViewStyle(),
    ),
    "background": Preset(
        "Even background",
        "shows how flat the background is: its middle ± 5 robust sigmas as relief with contours",
        _background,
        ViewStyle(palette="elevation", relief=40.0, smooth=5, contours=True),
    ),
}


def preset_view(key: str, histogram: Histogram) -> tuple[tuple[float, float], ViewStyle]:
    """Return the display range and style of a preset; the range is never empty."""
    preset = PRESETS[key]
    low, high = preset.ends(histogram)
    return (low, high if high > low else low + 1.0), preset.style
