from __future__ import annotations

from collections.abc import Callable

import numpy as np

from rilievo.core.study.study import OwnView, StudyState
from rilievo.core.study.study_file import load_study, save_study
from rilievo.core.view.palettes import (
    ViewStyle,
)


def test_own_views_are_kept_beside_the_common_one(tmp_path, write_tiff: Callable) -> None:  # type: ignore[no-untyped-def]
    paths = [write_tiff(f"{n}.tif", np.zeros((3, 3), np.uint8)) for n in "ab"]
    state = StudyState().with_files(paths)
    first, second = (entry.id for entry in state.samples)
    state = state.with_view(first, "gray", display=("native", (1.0, 9.0)))
    state = state.with_own_view(first, OwnView(dict(state.ranges), dict(state.styles)))
    state = state.with_view(
        first, "gray", display=("native", (2.0, 3.0)), style=ViewStyle(invert=True)
    )
    assert state.range_of(second, "gray", "native") == (1.0, 9.0)
    assert state.range_of(first, "gray", "native") == (2.0, 3.0)
    assert not state.style_of(second, "gray").invert
    save_study(state, tmp_path / "s.rilievo")
    again = load_study(tmp_path / "s.rilievo").state
    assert again.own_views == state.own_views
    assert again.ranges == state.ranges
    everyone = state.as_shown(state.own_views[first])
    assert everyone.range_of(second, "gray", "native") == (2.0, 3.0)
    assert everyone.own_views == {}
