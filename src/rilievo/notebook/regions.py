"""One sample and a method: the signal after the steps, the regions, the measurements."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.regions.label_image import label_numbers
from rilievo.core.regions.region_set import RegionSet
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.table import RegionTable


@cache
def _cache() -> AnalysisCache:
    """What keeps results of this session, so that nothing is computed twice."""
    return AnalysisCache()


def correct(sample: Sample, method: Method) -> dict[str, NDArray[Any]]:
    """Return the signal of each channel after the method's steps, shape (height, width).

    Undefined pixels are NaN. Raises StepError where a step cannot be applied.
    """
    analysis = Analysis(sample, method, _cache())
    return {name: analysis.signal(name).pixels for name in analysis.sample.channel_names}


def find_regions(sample: Sample, method: Method, region_class: str = "") -> RegionSet:
    """Return the regions of a class; of the first for "".

    Raises MethodError for a class that is not there, StepError.
    """
    return Analysis(sample, method, _cache()).regions(region_class)


def labels(sample: Sample, method: Method, region_class: str = "") -> NDArray[np.int32]:
    """Return the number of the region at each pixel, shape (height, width); 0 is outside.

    The numbers are those of the column `region` in tables. Raises as `find_regions`.
    """
    return np.asarray(label_numbers(find_regions(sample, method, region_class)), np.int32)


def measure(sample: Sample, method: Method, group: str = "") -> RegionTable:
    """Return every quantity and derived column of the method for every region and channel.

    The result has `.table`, a pandas DataFrame with a row a region and channel and the units of
    its columns in `attrs["units"]`. A derived column that refers to other samples finds its
    reference in this one or not at all. Raises StepError.
    """
    table = Analysis(sample, method, _cache()).table(group)
    return with_derived([table], method.measure.derived)[0]
