"""Picks: pinned readings of a point and its neighbourhood, and specimens made of several.

A pick belongs to one sample or, when it is carried to all, to every one at the same position. It
is part of the method, so that a run without the window reads the same positions.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np
from pydantic import Field

from rilievo.core.image.image import Plane, Sample, placed
from rilievo.core.image.neighbourhood import LARGEST, Form, covered, neighbourhood_statistics
from rilievo.core.parameters import Parameters
from rilievo.core.result_frame import ResultFrame

MOST_PICKS = 10_000

Signal = Callable[[str], Plane]


class Pick(Parameters):
    """One pinned reading.

    sample : the sample it belongs to; None carries it to all. specimen : picks of one specimen
    are averaged.
    """

    number: int = Field(
        ge=1, title="Number", description="number of the pick, unique in the method"
    )
    name: str = Field("", max_length=200, title="Name", description="name of the pick, for people")
    specimen: str = Field(
        "",
        max_length=200,
        title="Specimen",
        description="several picks of one specimen are averaged",
    )
    x: int = Field(
        ge=0, title="x", json_schema_extra={"unit": "px"}, description="centre, column of the file"
    )
    y: int = Field(
        ge=0, title="y", json_schema_extra={"unit": "px"}, description="centre, row of the file"
    )
    size: int = Field(
        1,
        ge=1,
        le=LARGEST,
        title="Size",
        json_schema_extra={"unit": "px"},
        description="side or diameter, odd, px",
    )
    form: Form = Field("square", title="Form", description="square or disc")
    sample: str | None = Field(
        None, max_length=400, description="the sample in which it is read; null: in every sample"
    )

    def is_in(self, sample: str) -> bool:
        """Whether it is read in a sample."""
        return self.sample is None or self.sample == sample


def next_number(picks: Iterable[Pick]) -> int:
    """Return the number of the next pick."""
    return max((pick.number for pick in picks), default=0) + 1


def pick_rows(
    sample: Sample, picks: Sequence[Pick], signal: Signal, group: str = ""
) -> list[dict[str, Any]]:
    """Return a row for each pick in a sample and channel; positions outside the image are left out.

    A pick is a position of the file and follows the pixels when a step moves them.
    signal : returns a channel after the corrections.
    """
    rows = []
    height, width = sample.first.shape
    for channel, native in sample.channels.items():
        plane: Plane | None = None
        for pick in picks:
            if not pick.is_in(sample.name) or pick.x >= width or pick.y >= height:
                continue
            plane = plane or signal(channel)
            x, y = (round(v) for v in placed(plane.placement, pick.x, pick.y))
            if not (0 <= x < plane.shape[1] and 0 <= y < plane.shape[0]):
                continue
            part, inside = covered(x, y, pick.size, pick.form, plane.shape)
            corrected = neighbourhood_statistics(plane, part, inside)
            part, inside = covered(pick.x, pick.y, pick.size, pick.form, native.shape)
            raw = neighbourhood_statistics(native, part, inside)
            rows.append(
                {
                    "sample": sample.name,
                    "group": group,
                    "channel": channel,
                    "pick": pick.number,
                    "name": pick.name,
                    "specimen": pick.specimen,
                    "x": pick.x,
                    "y": pick.y,
                    "size": pick.size,
                    "form": pick.form,
                    "pixel_count": corrected.count,
                    "mean": corrected.mean,
                    "median": corrected.median,
                    "sd": corrected.sd,
                    "min": corrected.minimum,
                    "max": corrected.maximum,
                    "sum": corrected.total,
                    "native_mean": raw.mean,
                }
            )
    return rows


PICK_COLUMNS = (
    "sample", "group", "channel", "pick", "name", "specimen", "x", "y", "size", "form",
    "pixel_count", "mean", "median", "sd", "min", "max", "sum", "native_mean",
)  # fmt: skip


def pick_frame(rows: Sequence[dict[str, Any]]) -> ResultFrame:
    """Return rows of picks as a table."""
    return ResultFrame({name: [row[name] for row in rows] for name in PICK_COLUMNS})


def specimen_frame(rows: Sequence[dict[str, Any]]) -> ResultFrame:
    """Return one row per sample, specimen and channel: mean, sd (n − 1) and n of its picks.

    A pick without a specimen stands for itself.
    """
    groups: dict[tuple[str, str, str, str], list[float]] = {}
    for row in rows:
        specimen = row["specimen"] or row["name"] or f"pick {row['pick']}"
        key = (row["sample"], row["group"], specimen, row["channel"])
        groups.setdefault(key, []).append(row["mean"])
    result = []
    for (sample, group, specimen, channel), means in groups.items():
        values = np.array([value for value in means if np.isfinite(value)])
        result.append(
            {
                "sample": sample,
                "group": group,
                "specimen": specimen,
                "channel": channel,
                "n": values.size,
                "mean": float(values.mean()) if values.size else np.nan,
                "sd": float(values.std(ddof=1)) if values.size > 1 else np.nan,
            }
        )
    columns = ("sample", "group", "specimen", "channel", "n", "mean", "sd")
    return ResultFrame.of_records(result, columns)
