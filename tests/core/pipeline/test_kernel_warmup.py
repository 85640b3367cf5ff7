"""The compiled loops are built before they are needed, for the numbers that they will be given."""

from __future__ import annotations

import numpy as np

from rilievo.core.pipeline.kernel_warmup import (
    warm_up_backgrounds,
    warm_up_regions,
    warm_up_stars,
)
from rilievo.core.signal.local_plane_kernels import planes_at_blocks
from rilievo.core.signal.object_finder import find_objects


def test_loops_are_built_beforehand() -> None:
    warm_up_regions()
    warm_up_stars()
    warm_up_backgrounds()
    built = len(planes_at_blocks.signatures)
    assert built > 0
    # A picture as they come needs no further one.
    picture = np.random.default_rng(1).normal(100, 5, (120, 90)).astype(np.float32)
    picture[40:60, 30:50] += 200
    assert find_objects(picture) is not None
    assert len(planes_at_blocks.signatures) == built
