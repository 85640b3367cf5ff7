from __future__ import annotations

import numpy as np

from rilievo.core.compare import Question, compare
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import measure
from rilievo.core.table.table import region_frame
from tests.outlines import outline


def specimens() -> tuple[Sample, Method]:
    pixels = np.zeros((40, 90), np.float32)
    shapes = []
    for k, value in enumerate((10.0, 20, 30, 50)):
        pixels[10:30, 5 + 20 * k : 20 + 20 * k] = value
        shapes.append(
            {
                "shape": {
                    "kind": "rectangle",
                    "x": 12 + 20 * k,
                    "y": 20,
                    "width": 10,
                    "height": 10,
                },
                "name": f"w{k}",
                "group": "early" if k < 2 else "late",
                "attributes": {"hours": str(k)},
            }
        )
    method = Method(outlines=(outline(region_class="swatch", source="drawn", drawn=shapes),))
    return Sample("photo", {"gray": Plane(pixels)}), method


def test_specimens_of_one_photograph_are_compared_like_samples() -> None:
    sample, method = specimens()
    table = measure(sample, method, group="all")
    frame = region_frame([table]).to_pandas()
    assert frame["name"].tolist() == ["w0", "w1", "w2", "w3"]
    assert frame["group"].tolist() == ["early", "early", "late", "late"]
    assert frame["hours"].tolist() == ["0", "1", "2", "3"]
    result = compare([table], Question(channel="gray"))
    assert [(s.group, s.samples, s.mean) for s in result.statistics] == [
        ("early", 2, 15.0),
        ("late", 2, 40.0),
    ]
