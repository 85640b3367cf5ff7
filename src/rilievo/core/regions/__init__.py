"""Regions: found or drawn, cleaned, edited by hand, numbered."""

from rilievo.core.regions.region_set import (
    RegionAnnotation,
    RegionSet,
    kept_pixels,
    number_in_class,
)

__all__ = ["RegionAnnotation", "RegionSet", "kept_pixels", "number_in_class"]
