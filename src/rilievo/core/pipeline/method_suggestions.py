"""Whole methods to begin with, by the job: each an ordinary method that is changed afterwards.

A starter is made for a picture, whose size and channels it needs; what fits the picture comes
first, and says why.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import Plane, Sample
from rilievo.core.image.metadata import MetadataNode
from rilievo.core.measure.stars.peak_reading import PeakReading, read_peak
from rilievo.core.method.class_definition import ClassDefinition, clean_use
from rilievo.core.method.method import Method, StepUse, step_use
from rilievo.core.pipeline.checks import batch_properties_of
from rilievo.core.pipeline.step_chain import shrunken
from rilievo.core.regions.drawn_shapes import DrawnRegion
from rilievo.core.regions.shapes import GridShape, RectangleShape
from rilievo.core.robust_statistics import median_and_mad_sigma, some_of

# A background that rises by less over the picture needs no step of its own.
_LEAST_TILT = 0.05
# How much farther one tail of the histogram reaches than the other to be told apart.
_TAILS = 1.5
_MOST_PIXELS = 1_000_000
# FWHM in pixels up to which a lonely peak passes for a star.
_WIDEST_STAR = 8.0
# A pixel that stands alone is so many sigmas beyond all four neighbours.
_FAR, _LEAST_SIDE = 12.0, 8
_SKY_SUFFIXES = ("TELESCOP", "EXPTIME", "FILTER", "AIRMASS")


@dataclass(frozen=True)
class PictureFacts:
    """What a picture says about which job it is for.

    tilt : by how much the background rises over the picture, as share of its level; NaN where it
    is not known. upper, lower : how far the bright and the dark tail reach from the median.
    is_sky : whether the file names what cameras at telescopes name. star : FWHM of the brightest
    peak where it is as narrow as a star, pixels; NaN else.
    """

    tilt: float
    upper: float
    lower: float
    is_sky: bool
    star: float = math.nan

    @property
    def may_have_stars(self) -> bool:
        """Whether it is worth to look for stars, which takes long where there are none."""
        return self.is_sky or self.star <= _WIDEST_STAR

    @classmethod
    def of(cls, sample: Sample) -> PictureFacts:
        """Return the facts of a sample's first channel."""
        histogram = histogram_of(sample.first)
        dark, low, middle, high, bright = (
            histogram.quantile(share) for share in (0.005, 0.25, 0.5, 0.75, 0.995)
        )
        spread = max(high - low, 1e-12)
        names = {key.upper() for node in sample.metadata for key in _names(node)}
        return cls(
            tilt=batch_properties_of(sample).tilt,
            upper=(bright - middle) / spread,
            lower=(middle - dark) / spread,
            is_sky=len(names & set(_SKY_SUFFIXES)) > 1,
            star=_brightest_peak(sample.first),
        )

    @property
    def is_uneven(self) -> bool:
        """Whether the background needs to be taken off first."""
        return bool(abs(self.tilt) > _LEAST_TILT)


def _brightest_peak(plane: Plane) -> float:
    """The FWHM of the brightest peak where it is like a star's, pixels; NaN else."""
    values = plane.as_float()
    if not np.isfinite(values).any():
        return math.nan
    row, column = np.unravel_index(int(np.nanargmax(values)), values.shape)
    peak = read_peak(plane, int(column), int(row))
    return peak.fwhm if isinstance(peak, PeakReading) else math.nan


def _names(node: MetadataNode) -> list[str]:
    """The names in a tree of metadata."""
    return [node.name, *(name for child in node.children for name in _names(child))]


@dataclass(frozen=True)
class Starter:
    """One job. make : the method for a sample. fits : why it suits a picture; "" for no sign.

    why_not : why it is not tried on a picture; "" where it is.
    """

    title: str
    about: str
    make: Callable[[Sample, PictureFacts], Method]
    fits: Callable[[PictureFacts], str]
    why_not: Callable[[PictureFacts], str] = lambda _facts: ""


def _even(facts: PictureFacts) -> tuple[StepUse, ...]:
    """The steps that take off an uneven background, where there is one."""
    return (step_use("background", "background.mesh"),) if facts.is_uneven else ()


def _method(title: str, steps: tuple[StepUse, ...], *outlines: ClassDefinition) -> Method:
    return Method(name=title, steps=steps, outlines=outlines)


def _things(keep: str) -> ClassDefinition:
    return ClassDefinition.model_validate(
        {
            "region_class": "cell" if keep == "bright" else "spot",
            "keep": keep,
            "clean": (clean_use("fill_holes"), clean_use("keep", lower=20.0)),
        }
    )


def _bright(_sample: Sample, facts: PictureFacts) -> Method:
    return _method("Bright things on dark", _even(facts), _things("bright"))


def _dark(_sample: Sample, facts: PictureFacts) -> Method:
    return _method("Dark things on bright", _even(facts), _things("dark"))


def _inside_and_rest(_sample: Sample, facts: PictureFacts) -> Method:
    def of(name: str, number: int) -> ClassDefinition:
        threshold = {"way": "classes", "parameters": {"k": 3, "kept": (number,)}}
        clean = () if number == 1 else (clean_use("keep", lower=10.0),)
        return ClassDefinition.model_validate(
            {"region_class": name, "threshold": threshold, "clean": clean}
        )

    classes = of("inside", 3), of("rest of the cell", 2), of("outside", 1)
    return _method("Inside and rest of the cell", _even(facts), *classes)


def _stars(_sample: Sample, _facts: PictureFacts) -> Method:
    outline = ClassDefinition.model_validate({"region_class": "star", "source": "stars"})
    return _method("Stars", (step_use("sky", "background.mesh"),), outline)


def _grid_of(sample: Sample, rows: int, columns: int, cell: str, share: float) -> DrawnRegion:
    """A grid over the whole picture; its cells take a share of the distance between them."""
    height, width = sample.first.shape
    across, down = width / columns, height / rows
    first = (across / 2 - 0.5, down / 2 - 0.5)
    tall = share * down if rows > 1 else 0.92 * down
    return DrawnRegion(
        shape=GridShape(
            rows=rows,
            columns=columns,
            first=first,
            across=(first[0] + (columns - 1) * across, first[1]),
            down=(first[0], first[1] + (rows - 1) * down),
            cell="ellipse" if cell == "ellipse" else "rectangle",
            width=max(share * across, 1.0),
            height=max(tall, 1.0),
        )
    )


def _drawn(title: str, name: str, region: DrawnRegion) -> Method:
    outline = ClassDefinition.model_validate(
        {"region_class": name, "source": "drawn", "drawn": (region,), "clean": ()}
    )
    return _method(title, (), outline)


def _grid(sample: Sample, _facts: PictureFacts) -> Method:
    height, width = sample.first.shape
    rows, columns = (4, 6) if width >= height else (6, 4)
    region = _grid_of(sample, rows, columns, "ellipse", 0.6)
    return _drawn("Swatches or wells on a grid", "well", region)


def _lanes(sample: Sample, _facts: PictureFacts) -> Method:
    return _drawn("Strips or lanes", "lane", _grid_of(sample, 1, 6, "rectangle", 0.6))


def _whole(sample: Sample, _facts: PictureFacts) -> Method:
    height, width = sample.first.shape
    shape = RectangleShape(x=(width - 1) / 2, y=(height - 1) / 2, width=width, height=height)
    return _drawn("The whole picture", "picture", DrawnRegion(shape=shape))


def _rises(facts: PictureFacts) -> str:
    if not facts.is_uneven:
        return ""
    return f"; the background rises by {100 * abs(facts.tilt):.0f} % and is taken off first"


def _bright_fits(facts: PictureFacts) -> str:
    if facts.is_sky or not facts.upper > _TAILS * facts.lower:
        return ""
    return f"Few pixels are much brighter than the others{_rises(facts)}."


def _dark_fits(facts: PictureFacts) -> str:
    if facts.is_sky or not facts.lower > _TAILS * facts.upper:
        return ""
    return f"Few pixels are much darker than the others{_rises(facts)}."


def _stars_fit(facts: PictureFacts) -> str:
    return "The file comes from a telescope." if facts.is_sky else ""


def _no_sign(_facts: PictureFacts) -> str:
    return ""


STARTERS: dict[str, Starter] = {
    "bright": Starter(
        "Bright things on dark", "Otsu's threshold, holes filled, specks left out",
        _bright, _bright_fits,
    ),
    "inside_and_rest": Starter(
        "Inside and rest of the cell", "Three gray classes: inside, rest of the cell, outside",
        _inside_and_rest, _no_sign,
    ),
    "dark": Starter(
        "Dark things on bright", "As bright ones, with the pixels below the threshold",
        _dark, _dark_fits,
    ),
    "stars": Starter(
        "Stars", "Found and measured in circles, with a ring for the sky", _stars, _stars_fit,
        lambda facts: "" if facts.may_have_stars else "no peak as narrow as a star",
    ),
    "grid": Starter(
        "Swatches or wells on a grid", "Rows and columns of circles, to be dragged into place",
        _grid, _no_sign,
    ),
    "lanes": Starter(
        "Strips or lanes", "Rectangles side by side, to be dragged into place", _lanes, _no_sign
    ),
    "whole": Starter(
        "The whole picture", "One region: every pixel of the picture", _whole, _no_sign
    ),
}  # fmt: skip


def offered(facts: PictureFacts) -> list[tuple[str, str]]:
    """Return the keys of all starters with why they fit, those that fit first."""
    rated = [(key, starter.fits(facts)) for key, starter in STARTERS.items()]
    return sorted(rated, key=lambda suggestion: not suggestion[1])


def small_copy(sample: Sample) -> Sample:
    """Return a sample halved until it is quick to try methods on; small ones as they are."""
    level = 0
    while sample.first.pixels.size / 4**level > _MOST_PIXELS:
        level += 1
    if not level:
        return sample
    channels = {name: shrunken(plane, level) for name, plane in sample.channels.items()}
    return replace(
        sample, channels=channels, checksum=f"{sample.content} halved {level}", identity=""
    )


def is_fresh(method: Method) -> bool:
    """Whether a method is as it was at the beginning: nothing of it would be lost."""
    plain = Method()
    return not method.steps and method.outlines == plain.outlines and not method.exceptions


def fitting_steps(sample: Sample) -> list[tuple[str, str]]:
    """Return the keys of steps that fit a picture, with why, the most telling first."""
    facts = PictureFacts.of(sample)
    proposed = []
    if facts.is_uneven:
        rises = f"the background rises by {100 * abs(facts.tilt):.0f} % of its level"
        proposed.append(("background.mesh", f"{rises} from one side to the other"))
    lonely = _lonely_share(sample.first)
    if lonely > 0:
        proposed.append(("repair.outliers", f"{lonely} single pixels stand far above or below"))
    return proposed


def _lonely_share(plane: Plane) -> int:
    """How many pixels stand far from all their neighbours, as hot and dead ones do."""
    values = plane.as_float()
    if min(values.shape) < _LEAST_SIDE:
        return 0
    middle = values[1:-1, 1:-1]
    around = np.stack([values[:-2, 1:-1], values[2:, 1:-1], values[1:-1, :-2], values[1:-1, 2:]])
    _, spread = median_and_mad_sigma(some_of(middle - around.mean(axis=0)))
    high, low = around.max(axis=0), around.min(axis=0)
    far = (middle > high + _FAR * spread) | (middle < low - _FAR * spread)
    return int(far.sum()) if spread > 0 else 0
