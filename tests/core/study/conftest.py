"""What the tests of this package share."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from rilievo.core.study.study import StudyState
from rilievo.core.view.palettes import ViewStyle
from rilievo.demo.lipid import lipid_method
from tests.core.helpers.study import some_files


@pytest.fixture
def state(tmp_path: Path) -> StudyState:
    paths = some_files(tmp_path / "images", ["dark-1.tif", "light-1.tif", "dark-2.tif"])
    return replace(
        StudyState(name="A study").with_files(paths),
        method=lipid_method(),
        ranges={("dye", "native"): (1.5, 2e4), ("dye", "signal"): (-3.0, 7.0)},
        styles={"dye": ViewStyle(stretch="asinh", strength=33.0, palette="elevation")},
    )
