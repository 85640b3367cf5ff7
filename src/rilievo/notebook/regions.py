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
    """Return the signal of each channel after the method's steps.

    Parameters
    ----------
    sample : Sample
        As it was read, or made of an array.
    method : Method
        Its steps are applied in their order.

    Returns
    -------
    dict of str to ndarray of shape (height, width)
        Floats by channel, in counts unless a step gives another unit; undefined pixels are NaN.

    Raises
    ------
    StepError
        Where a step cannot be applied.

    Examples
    --------
    >>> import numpy as np
    >>> sample = Sample.from_array(np.arange(6, dtype=np.uint8).reshape(2, 3), name="ramp")
    >>> correct(sample, Method())["gray"].tolist()
    [[0.0, 1.0, 2.0], [3.0, 4.0, 5.0]]
    """
    analysis = Analysis(sample, method, _cache())
    return {name: analysis.signal(name).pixels for name in analysis.sample.channel_names}


def find_regions(sample: Sample, method: Method, region_class: str = "") -> RegionSet:
    """Return the regions of a class.

    Parameters
    ----------
    sample : Sample
        As it was read, or made of an array.
    method : Method
        Says how regions are found and cleaned up.
    region_class : str, optional
        Name of the class; the first for "".

    Returns
    -------
    RegionSet
        Labels, boxes, and why candidates were left out.

    Raises
    ------
    MethodError
        For a class that is not there.
    StepError
        Where a step cannot be applied.

    Examples
    --------
    >>> import numpy as np
    >>> pixels = np.zeros((9, 9), np.uint8)
    >>> pixels[2:4, 2:5] = pixels[6:8, 6:8] = 200
    >>> find_regions(Sample.from_array(pixels), Method()).ids.tolist()
    [1, 2]
    """
    return Analysis(sample, method, _cache()).regions(region_class)


def labels(sample: Sample, method: Method, region_class: str = "") -> NDArray[np.int32]:
    """Return the number of the region at each pixel.

    Parameters
    ----------
    sample : Sample
        As it was read, or made of an array.
    method : Method
        Says how regions are found and cleaned up.
    region_class : str, optional
        Name of the class; the first for "".

    Returns
    -------
    ndarray of int32 of shape (height, width)
        0 outside; the numbers are those of the column `region` in tables.

    Raises
    ------
    MethodError
        For a class that is not there.
    StepError
        Where a step cannot be applied.

    Examples
    --------
    >>> import numpy as np
    >>> labels(Sample.from_array(np.array([[0, 0, 9], [0, 0, 9]], np.uint8)), Method()).tolist()
    [[0, 0, 1], [0, 0, 1]]
    """
    return np.asarray(label_numbers(find_regions(sample, method, region_class)), np.int32)


def measure(sample: Sample, method: Method, group: str = "") -> RegionTable:
    """Return every quantity and derived column of the method for every region and channel.

    Parameters
    ----------
    sample : Sample
        As it was read, or made of an array.
    method : Method
        What is measured of which regions.
    group : str, optional
        Written into the table.

    Returns
    -------
    RegionTable
        Values by channel and quantity, NaN where undefined; `.table` is a pandas DataFrame with a
        row a region and channel and the units of its columns in `attrs["units"]`. A derived column
        that refers to other samples finds its reference in this one or not at all.

    Raises
    ------
    StepError
        Where a step cannot be applied.

    Examples
    --------
    >>> import numpy as np
    >>> sample = Sample.from_array(np.array([[0, 0, 7], [0, 0, 9]], np.uint8), name="corner")
    >>> measure(sample, Method()).table[["sample", "region", "area", "mean"]].values.tolist()
    [['corner', 1, 2, 8.0]]
    """
    table = Analysis(sample, method, _cache()).table(group)
    return with_derived([table], method.measure.derived)[0]
