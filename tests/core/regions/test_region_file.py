from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from rilievo.core.errors import FileError
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.region_file import as_drawn, load_regions, save_regions
from tests.outlines import find_regions, outline


def test_regions_come_back_from_json(tmp_path: Path, blobs: np.ndarray) -> None:
    found = find_regions(blobs.astype(np.float32), 200)
    path = tmp_path / "regions.json"
    save_regions(path, "cell", as_drawn(found, "s"))
    file = load_regions(path)
    assert file.region_class == "cell"
    drawn = Method(outlines=(outline(source="drawn", drawn=file.regions),))
    sample = Sample("s", {"g": Plane(blobs.astype(np.float32))})
    again = Analysis(sample, drawn).regions()
    np.testing.assert_array_equal(again.labels, found.labels)
    assert again.facts(2).name == "2"


@pytest.mark.parametrize(
    "text", ["", "{", "[]", '{"format": "rilievo-regions", "version": 9}',
             '{"format": "rilievo-regions", "version": 1, "regions": [{"shape": {"kind": "x"}}]}',
             '{"format": "other", "version": 1}'],
)  # fmt: skip
def test_damaged_region_files_say_so(text: str, tmp_path: Path) -> None:
    (tmp_path / "r.json").write_text(text)
    with pytest.raises(FileError, match=r"r\.json"):
        load_regions(tmp_path / "r.json")
