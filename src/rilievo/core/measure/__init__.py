"""Quantities: what is measured of a region, behind one registry."""

from rilievo.core.measure.quantity import (
    QUANTITIES,
    QUANTITY_FAMILIES,
    STANDARD_QUANTITIES,
    Quantity,
    quantity,
)
from rilievo.core.measure.region_index import RegionIndex, whole_plane_index
from rilievo.core.measure.region_values import RING_GAP, RING_WIDTH, RegionValues

__all__ = [
    "QUANTITIES",
    "QUANTITY_FAMILIES",
    "RING_GAP",
    "RING_WIDTH",
    "STANDARD_QUANTITIES",
    "Quantity",
    "RegionIndex",
    "RegionValues",
    "quantity",
    "whole_plane_index",
]

QUANTITIES.discover()
