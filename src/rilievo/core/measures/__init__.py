"""Quantities: what is measured of a region, behind one registry."""

from rilievo.core.measures.quantity import (
    QUANTITIES,
    QUANTITY_FAMILIES,
    STANDARD_QUANTITIES,
    Quantity,
    quantity,
)
from rilievo.core.measures.values import (
    RING_GAP,
    RING_WIDTH,
    RegionIndex,
    RegionValues,
    whole_plane_index,
)

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
