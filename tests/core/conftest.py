"""What the tests of this package share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest


@pytest.fixture
def images(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Path]:
    return [write_tiff(f"in/{name}-1.tif", blobs + k) for k, name in enumerate("ab")]
