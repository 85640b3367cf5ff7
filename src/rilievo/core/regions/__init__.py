"""Regions: found by threshold, cleaned, numbered."""

from rilievo.core.regions.find import RegionSet, find_regions, kept_pixels

__all__ = ["RegionSet", "find_regions", "kept_pixels"]
