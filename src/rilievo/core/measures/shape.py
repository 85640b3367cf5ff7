"""Size and place of regions, from their pixels alone."""

from __future__ import annotations

import numpy as np

from rilievo.core.measures.quantity import Column, quantity
from rilievo.core.measures.values import RegionValues, column


@quantity(
    "area",
    title="Area",
    unit="px²",
    family="shape",
    definition="number of pixels of the region, measured or not",
    whole=True,
)
def area(values: RegionValues) -> Column:
    """Return the number of pixels."""
    return column(values.index.areas)


@quantity(
    "area_unit",
    title="Area",
    unit="unit²",
    family="shape",
    definition="area × pixel size²; undefined without a calibration",
)
def area_unit(values: RegionValues) -> Column:
    """Return the area in square calibrated units."""
    factor = values.calibration.area_factor
    return column(values.index.areas) * (np.nan if factor is None else factor)


def _mean_position(values: RegionValues, where: Column) -> Column:
    index = values.index
    return np.bincount(index.group, weights=where, minlength=index.count) / index.areas


@quantity("x", title="x", unit="px", family="shape", definition="column of the centroid")
def centroid_x(values: RegionValues) -> Column:
    """Return the mean column; the centre of the leftmost pixel is 0."""
    return _mean_position(values, column(values.index.x))


@quantity("y", title="y", unit="px", family="shape", definition="row of the centroid")
def centroid_y(values: RegionValues) -> Column:
    """Return the mean row; the centre of the topmost stored pixel is 0."""
    return _mean_position(values, column(values.index.y))


def _lowest(values: RegionValues, where: Column) -> Column:
    result = np.full(values.index.count, np.inf)
    np.minimum.at(result, values.index.group, where)
    return result


def _extent(values: RegionValues, where: Column) -> Column:
    return -_lowest(values, -where) - _lowest(values, where) + 1


@quantity(
    "bbox_x",
    title="Box x",
    unit="px",
    family="shape",
    definition="first column of the bounding box",
    whole=True,
)
def bbox_x(values: RegionValues) -> Column:
    """Return the first column."""
    return _lowest(values, column(values.index.x))


@quantity(
    "bbox_y",
    title="Box y",
    unit="px",
    family="shape",
    definition="first row of the bounding box",
    whole=True,
)
def bbox_y(values: RegionValues) -> Column:
    """Return the first row."""
    return _lowest(values, column(values.index.y))


@quantity(
    "bbox_w",
    title="Box width",
    unit="px",
    family="shape",
    definition="columns that the bounding box covers",
    whole=True,
)
def bbox_w(values: RegionValues) -> Column:
    """Return the number of columns."""
    return _extent(values, column(values.index.x))


@quantity(
    "bbox_h",
    title="Box height",
    unit="px",
    family="shape",
    definition="rows that the bounding box covers",
    whole=True,
)
def bbox_h(values: RegionValues) -> Column:
    """Return the number of rows."""
    return _extent(values, column(values.index.y))
