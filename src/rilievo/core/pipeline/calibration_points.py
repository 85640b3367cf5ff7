"""Known points of a calibration curve, taken from picks on patches whose value is known."""

from __future__ import annotations

import math
import re

from rilievo.core.errors import StepError
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.signal.intensity_curves import CalibrationPoint

_NUMBER = re.compile(r"[-−+]?\d+(?:[.,]\d+)?(?:[eE][-+]?\d+)?")


def number_in(text: str) -> float | None:
    """Return the first number in a text such as “step 0,15 OD”; None without one."""
    match = _NUMBER.search(text)
    return float(match[0].replace("−", "-").replace(",", ".")) if match else None


def points_from_picks(
    analysis: Analysis, step_id: str, channel: str
) -> tuple[CalibrationPoint, ...]:
    """Return a point a pick: its mean before the step, and the number in its specimen's name.

    A pick whose specimen or name holds no number counts as 0, to be typed over. Raises StepError
    where the sample has no pick.
    """
    before, steps = analysis.method, analysis.method.steps
    index = next(k for k, use in enumerate(steps) if use.id == step_id)
    for use in steps[index:]:
        before = before.without_step(use.id)
    points = []
    for row in analysis.with_method(before).picks():
        if row["channel"] != channel or not math.isfinite(row["mean"]):
            continue
        label = str(row["specimen"] or row["name"])
        value = number_in(label)
        points.append(CalibrationPoint(intensity=row["mean"], value=value or 0.0, label=label))
    if not points:
        raise StepError(
            f"Sample “{analysis.sample.name}” has no pick; set picks on the patches in Look (R), "
            "and give each the number it stands for as its specimen."
        )
    return tuple(points)
