"""Quantities: what is measured of a region, behind one registry."""

from rilievo.core.measures.quantity import (
    QUANTITIES,
    STANDARD_QUANTITIES,
    Quantity,
    quantity,
)
from rilievo.core.measures.values import RegionIndex, RegionValues, whole_plane_index

__all__ = [
    "QUANTITIES",
    "STANDARD_QUANTITIES",
    "Quantity",
    "RegionIndex",
    "RegionValues",
    "quantity",
    "whole_plane_index",
]

QUANTITIES.discover()
