from __future__ import annotations

from rilievo.core.pipeline.kernel_warmup import warm_up_regions, warm_up_stars


def test_loops_are_built_beforehand() -> None:
    warm_up_regions()
    warm_up_stars()
