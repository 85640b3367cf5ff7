"""What is missing in a file is told when it is first read, once, and stays among the checks."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import tifffile

from rilievo.core.image.image import MISSING
from rilievo.ui.shell.window import Window
from tests.core.files.test_missing_data import OFFSETS, PIXELS, blank_entry


def test_all_planes_of_a_file_are_told_together(
    window: Window, tmp_path: Path, add: Callable[..., Window], settle: Callable[[], None]
) -> None:
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, np.stack([PIXELS] * 3, axis=-1), photometric="rgb", rowsperstrip=20)
    blank_entry(path, OFFSETS["strip"], 3)
    add(path)
    settle()
    lines = window.views.notice.text.splitlines()
    for name, line in zip(("red", "green", "blue"), lines[:3], strict=True):
        assert f"“{name}”" in line
    assert "“a.tif”: 6000 of 60000 pixels" in lines[0]
    assert lines[3] == "… and 1 more; see the checks."
    found = [check.channel for check in window.compute.checks.all() if check.kind == MISSING]
    assert found == ["red", "green", "blue", "brightness"]
