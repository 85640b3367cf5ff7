"""What several tests have in common: history."""

from __future__ import annotations

import numpy as np

from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.method.diff import differences
from rilievo.core.method.method import Method, step_use


def two_steps() -> Method:
    return Method(
        steps=(
            step_use("mesh", "background.mesh", tile=32),
            step_use("smooth", "smooth.gaussian", sigma=2.0),
        )
    )


def said(one: Method, other: Method) -> list[tuple[str, str, str, str]]:
    return [(d.part, d.what, d.one, d.other) for d in differences(one, other)]


def wide_sample(side: int = 900) -> Sample:
    y, x = np.mgrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j]
    values = 500 + 60 * x - 40 * y**2 + np.random.default_rng(0).normal(0, 4, x.shape)
    return Sample("s", {"gray": plane_from_native(values.round().astype(np.uint16))})
