"""Measurements of a sample as columns, and the tables made from them.

The CSV files keep every digit (shortest form that reads back to the same number). Texts that a
spreadsheet would run as a formula get an apostrophe in front.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.measures import QUANTITIES
from rilievo.core.method import write_text_safely

if TYPE_CHECKING:
    import pandas

Column = NDArray[np.float64]

IDENTITY_COLUMNS = ("sample", "file", "group", "channel", "region", "class", "marks")


@dataclass(frozen=True, eq=False)
class RegionTable:
    """Measurements of one sample: a row per region and channel.

    columns : channel → quantity key → values, one per region in the order of `ids`.
    unit : of calibrated lengths; "px" without calibration. image_pixels : pixels of a plane.
    marks : channel → what must be known of its numbers, such as “not linear”.
    """

    sample: str
    file: str
    group: str
    region_class: str
    ids: NDArray[np.int64]
    columns: Mapping[str, Mapping[str, Column]]
    unit: str = "px"
    threshold: float = float("nan")
    image_pixels: int = 0
    marks: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def channels(self) -> tuple[str, ...]:
        """Measured channels."""
        return tuple(self.columns)

    @property
    def quantities(self) -> tuple[str, ...]:
        """Measured quantities."""
        return tuple(next(iter(self.columns.values()), {}))

    def column(self, channel: str, key: str) -> Column:
        """Return a quantity of a channel for all regions."""
        return self.columns[channel][key]

    @property
    def table(self) -> pandas.DataFrame:
        """The table with identity columns first; whole numbers are integers."""
        return region_frame([self])


def _as_column(key: str, values: Column) -> Any:
    import pandas  # noqa: PLC0415 (slow to import, needed for tables only)

    if QUANTITIES[key].whole and np.isfinite(values).all():
        return pandas.array(values.astype(np.int64), dtype="int64")
    return values


def region_frame(tables: Sequence[RegionTable]) -> pandas.DataFrame:
    """Return one row per sample × region × channel."""
    import pandas  # noqa: PLC0415

    keys = list(dict.fromkeys(key for table in tables for key in table.quantities))
    collected: dict[str, list[Any]] = {name: [] for name in (*IDENTITY_COLUMNS, *keys)}
    for table in tables:
        count = table.ids.size
        for channel, columns in table.columns.items():
            collected["sample"] += [table.sample] * count
            collected["file"] += [table.file] * count
            collected["group"] += [table.group] * count
            collected["channel"] += [channel] * count
            collected["region"] += table.ids.tolist()
            collected["class"] += [table.region_class] * count
            collected["marks"] += ["; ".join(table.marks.get(channel, ()))] * count
            for key in keys:
                collected[key].append(columns.get(key, np.full(count, np.nan)))
    frame: dict[str, Any] = {name: collected[name] for name in IDENTITY_COLUMNS}
    for key in keys:
        joined = np.concatenate(collected[key]) if collected[key] else np.zeros(0)
        frame[key] = _as_column(key, joined)
    return pandas.DataFrame(frame)


def sample_frame(tables: Sequence[RegionTable]) -> pandas.DataFrame:
    """Return one row per sample × channel: regions, their area, and the spread between them."""
    import pandas  # noqa: PLC0415

    rows = []
    for table in tables:
        for channel, columns in table.columns.items():
            rows.append(
                {
                    "sample": table.sample,
                    "file": table.file,
                    "group": table.group,
                    "channel": channel,
                    "class": table.region_class,
                    "marks": "; ".join(table.marks.get(channel, ())),
                    "threshold": table.threshold,
                    **_summary(columns, table.ids.size, table.image_pixels),
                }
            )
    names = (
        "sample",
        "file",
        "group",
        "channel",
        "class",
        "marks",
        "threshold",
        *_summary({}, 0, 0),
    )
    return pandas.DataFrame(rows, columns=list(names))


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
        "median_of_means": float(np.median(mean)) if some else np.nan,
        "sd_of_means": float(mean.std(ddof=1)) if count > 1 else np.nan,
    }


def neutralised(text: str) -> str:
    """Return a text that no spreadsheet runs as a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


def _safe(frame: pandas.DataFrame) -> pandas.DataFrame:
    copy = frame.copy()
    for name in copy.columns:
        if copy[name].map(lambda value: isinstance(value, str)).any():
            copy[name] = copy[name].map(lambda v: neutralised(v) if isinstance(v, str) else v)
    return copy


def write_csv(frame: pandas.DataFrame, path: Path) -> None:
    """Write a table as UTF-8 CSV, whole or not at all."""
    write_text_safely(path, _safe(frame).to_csv(index=False, lineterminator="\n"))


def tab_separated(frame: pandas.DataFrame) -> str:
    """Return a table as tab-separated text with a header, for the clipboard."""
    text: str = _safe(frame).to_csv(index=False, sep="\t", lineterminator="\n")
    return text
