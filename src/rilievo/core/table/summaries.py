"""Summaries: a row a sample, class and channel, over its regions and stars."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.star_field import star_summary
from rilievo.core.table.table import Column, RegionTable, attribute_columns


def sample_frame(tables: Sequence[RegionTable]) -> ResultFrame:
    """Return one row per sample × class × channel: count, area and spread of the regions."""
    rows = []
    attribute_names = attribute_columns(tables)
    for table in tables:
        for index, region_class in enumerate(table.classes):
            in_class = table.of_class(index)
            for channel, columns in table.columns.items():
                part = {key: values[in_class] for key, values in columns.items()}
                rows.append(
                    {
                        "sample": table.sample,
                        "file": table.file_of(channel),
                        "group": table.group,
                        "channel": channel,
                        "class": region_class,
                        "marks": "; ".join(table.marks.get(channel, ())),
                        **{
                            name: table.attributes.get(key, "")
                            for name, key in attribute_names.items()
                        },
                        "threshold": table.threshold(index),
                        **_summary(part, int(in_class.sum()), table.image_pixels),
                        **star_summary(part),
                    }
                )
    further = dict.fromkeys(name for row in rows for name in row)
    names = dict.fromkeys(
        (
            "sample",
            "file",
            "group",
            "channel",
            "class",
            "marks",
            *attribute_names,
            "threshold",
            *_summary({}, 0, 0),
            *further,
        )
    )
    return ResultFrame.of_records(rows, tuple(names))


# How the summaries are called in the window; {signal} is the unit of intensities.
SUMMARY_TITLES = {
    "sample": "Sample",
    "group": "Group",
    "channel": "Channel",
    "class": "Class",
    "marks": "Marks",
    "threshold": "Threshold ({signal})",
    "region_count": "Regions",
    "area_total": "Total area (px²)",
    "area_share": "Area share",
    "mean_of_means": "Mean of means ({signal})",
    "pooled_mean": "Mean of all pixels ({signal})",
    "median_of_means": "Median of means ({signal})",
    "sd_of_means": "SD between regions ({signal})",
    "stars_used": "Stars used",
    "fwhm_median": "FWHM, median (px)",
    "fwhm_spread": "FWHM, spread (px)",
    "hfd_median": "Half-flux diameter, median (px)",
    "hfd_spread": "Half-flux diameter, spread (px)",
    "ellipticity_median": "Ellipticity, median",
    "ellipticity_spread": "Ellipticity, spread",
    "ellipticity_common": "Common ellipticity",
    "ellipticity_angle": "Its direction (°)",
    "sky_median": "Sky, median ({signal})",
    "sky_spread": "Sky, spread ({signal})",
    "sky_sd_median": "Sky noise, median ({signal})",
    "sky_sd_spread": "Sky noise, spread ({signal})",
    "star_snr_median": "Star SNR, median",
    "star_snr_spread": "Star SNR, spread",
}


def _summary(columns: Mapping[str, Column], count: int, image_pixels: int) -> dict[str, Any]:
    """Summaries over the regions; NaN where the quantity they need was not measured."""
    nan = np.full(count, np.nan)
    area, mean = columns.get("area", nan), columns.get("mean", nan)
    some = count > 0
    return {
        "region_count": count,
        "area_total": float(area.sum()) if some else 0.0,
        "area_share": float(area.sum()) / image_pixels if some and image_pixels else 0.0,
        "mean_of_means": float(mean.mean()) if some else np.nan,
        "pooled_mean": _pooled_mean(columns, nan),
        "median_of_means": float(np.median(mean)) if some else np.nan,
        "sd_of_means": float(mean.std(ddof=1)) if count > 1 else np.nan,
    }


def _pooled_mean(columns: Mapping[str, Column], nan: Column) -> float:
    """The mean over the pixels of all regions: their means weighted by their pixels."""
    mean = columns.get("mean", nan)
    weights = columns.get("pixel_count", columns.get("area", nan))
    good = np.isfinite(mean) & (weights > 0)
    return float(np.average(mean[good], weights=weights[good])) if good.any() else np.nan
