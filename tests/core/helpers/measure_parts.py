"""What several tests have in common: measure parts."""

from __future__ import annotations

import numpy as np

from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method
from rilievo.core.table.rows import Rows
from rilievo.core.table.table import RegionTable


def spots() -> tuple[Sample, Method]:
    """Three spots on a dark ground, two channels."""
    values = np.full((40, 60), 10, np.float32)
    values[5:10, 5:10] = 100
    values[5:10, 40:48] = 200
    values[30:33, 20:40] = np.arange(20) + 300
    sample = Sample("spots", {"a": Plane(values), "b": Plane(values / 2)})
    method = Method(
        outlines=(ClassDefinition(threshold=hand_threshold(50), clean=()),),
        measure=Measure(quantities=("mean", "area", "sd")),
    )
    return sample, method


def rows_of(count: int = 50) -> Rows:
    rng = np.random.default_rng(1)
    tables = [
        RegionTable(
            f"s{k}", "", f"g{k % 2}", ("cell",), np.arange(1, count + 1),
            {"a": {"mean": rng.normal(0, 1, count), "area": np.arange(count) + 1.0}},
            flags={"a": (np.arange(count) % 10 == k).astype(np.uint8)},
        )
        for k in range(4)
    ]  # fmt: skip
    return Rows(tables)


def star_columns(count: int, fwhm: float, ellipticity: float = 0.05) -> dict[str, np.ndarray]:
    rng = np.random.default_rng(2)
    at_random = rng.uniform(-90, 90, count)
    return {
        "star_x": rng.uniform(0, 199, count),
        "star_y": rng.uniform(0, 99, count),
        "fwhm": np.full(count, fwhm),
        "ellipticity": np.full(count, ellipticity),
        "star_orientation": at_random if ellipticity < 0.2 else np.full(count, 30.0),
        "sky": rng.normal(100, 2, count),
    }  # fmt: skip


def star_table(name: str, fwhm: float, ellipticity: float = 0.05) -> RegionTable:
    columns = {"gray": star_columns(30, fwhm, ellipticity)}
    return RegionTable(
        name, "", "", ("star",), np.arange(1, 31), columns, image_pixels=20_000, image_width=200
    )
