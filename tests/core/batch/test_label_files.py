"""Label images of a run stay below their folder, whatever a method calls its classes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile

from rilievo.core.batch.label_files import write_labels
from rilievo.core.image.image import Sample
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis


@pytest.mark.parametrize("name", ["cell", "..", ".", "../../up", "a/b"])
def test_files_stay_below_the_folder_and_hold_the_regions(name: str, tmp_path: Path) -> None:
    pixels = np.zeros((9, 9), np.uint16)
    pixels[2:5, 2:6] = 90
    outline = ClassDefinition(region_class=name, threshold=hand_threshold(50), clean=())
    folder = tmp_path / "out" / "labels"
    sample = Sample.from_array(pixels, name="../x")
    (path,) = write_labels(Analysis(sample, Method(outlines=(outline,))), folder)
    assert path.resolve().is_relative_to(folder)
    assert len(path.resolve().relative_to(folder).parts) == 2
    assert np.array_equal(tifffile.imread(path) > 0, pixels > 50)
