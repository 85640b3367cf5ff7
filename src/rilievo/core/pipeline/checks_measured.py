"""Warnings about what was measured: nothing found, stars that are soft or trailed."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from rilievo.core.pipeline.checks import Check
from rilievo.core.table.star_field import FEWEST, StarField, field_of_table
from rilievo.core.table.table import RegionTable

# Stars this much wider than usual in the batch are out of focus.
_SOFT = 1.5


def check_measured(table: RegionTable) -> list[Check]:
    """Return the warnings about a measurement."""
    checks = []
    for index, name in enumerate(table.classes):
        if table.of_class(index).any():
            continue
        level = table.threshold(index)
        at = "" if math.isnan(level) else f" at threshold {level:.6g}"
        text = f"No {name} was found{at}; change the threshold or the clean-up."
        checks.append(Check(table.sample, "no region", "", text))
    return [*checks, *_field_checks(table)]


def _field_of(table: RegionTable) -> StarField | None:
    """The stars of a table on the first channel that has them."""
    for channel in table.channels:
        field = field_of_table(table, channel, table.image_shape)
        if field is not None and field[0].count >= FEWEST:
            return field[0]
    return None


def _field_checks(table: RegionTable) -> list[Check]:
    field = _field_of(table)
    if field is None:
        return []
    remedies = {
        "Stars are trailed": ("trailed", "Its fluxes hold if the aperture is wide enough."),
        "Sharp in the middle": ("soft corners", "Compare stars of the same distance to it."),
        "Soft in the middle": ("soft middle", "Look at the focus."),
        "Softer towards": ("tilt", "Look at the sensor's tilt."),
    }
    checks = []
    for sentence in field.sentences(directions=False):
        kind, remedy = next(v for start, v in remedies.items() if sentence.startswith(start))
        checks.append(Check(table.sample, kind, "", f"{sentence} {remedy}"))
    return checks


def check_measured_batch(tables: Sequence[RegionTable]) -> list[Check]:
    """Return the warnings about samples whose stars are wider than is usual in the batch."""
    widths = {}
    for table in tables:
        field = _field_of(table)
        if field is not None and "fwhm" in field.spreads:
            widths[table.sample] = field.spreads["fwhm"].median
    if len(widths) < 3:
        return []
    usual = float(np.median(list(widths.values())))
    return [
        Check(
            sample,
            "out of focus",
            "",
            f"Its stars are {width:.1f} px wide (FWHM, median), {width / usual:.1f} times as wide "
            "as is usual in this study; it is out of focus. Leave it out of comparisons of "
            "sharpness, or widen the aperture for all.",
        )
        for sample, width in widths.items()
        if width > _SOFT * usual
    ]
