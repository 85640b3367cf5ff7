from __future__ import annotations

import numpy as np

from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from tests.outlines import outline


def test_touching_the_edge_is_marked_beside_few_pixels() -> None:
    values = np.zeros((12, 12), np.float32)
    values[0, 0:3] = 9
    table = Analysis(Sample("s", {"g": Plane(values)}), Method(outlines=(outline(5),))).table()
    assert table.marks_of("g", 0) == ("touches the edge", "few pixels")
    assert table.marks_of("elsewhere", 0) == ()
