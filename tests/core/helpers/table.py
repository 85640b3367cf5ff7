"""What several tests have in common: table."""

from __future__ import annotations

import numpy as np

from rilievo.core.table.table import (
    RegionTable,
)


def table(name: str = "a", values: tuple[float, ...] = (1.5, 2.5)) -> RegionTable:
    column = np.array(values)
    areas = np.arange(1.0, len(values) + 1)
    return RegionTable(
        sample=name,
        file=f"{name}.tif",
        group="g",
        classes=("cell",),
        ids=np.arange(1, len(values) + 1),
        columns={
            "one": {"area": areas, "mean": column},
            "two": {"area": areas, "mean": column * 2},
        },
        image_pixels=12,
        thresholds=(3.5,),
    )
