"""What the tests of this package share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.files.sample_ref import samples_for
from tests.core.helpers.measuring import run_batch
from tests.core.helpers.report import METHOD


@pytest.fixture
def outcomes(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list:
    paths = [write_tiff(f"g{g}-{n}.tif", blobs * (g + 1) + n) for g in (0, 1) for n in (1, 2)]
    broken = write_tiff("g1-3.tif", blobs)
    broken.write_text("no image")
    return run_batch(samples_for([*paths, broken]), METHOD)
