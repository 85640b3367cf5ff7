from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from rilievo.core.method.method import step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from rilievo.core.table.compartments import Pair
from tests.core.helpers.outputs_of_measure import two_classes


def test_marks_units_and_pairs_come_back_with_a_study(images: list[Path], tmp_path: Path) -> None:
    method = two_classes(pairs=(Pair(inner="core", outer="cell"),)).changed(
        steps=(
            step_use(
                "c", "curve.calibrate", unit="mg",
                points=[{"intensity": 0, "value": 0}, {"intensity": 10, "value": 10}],
            ),
        )
    )  # fmt: skip
    state = replace(StudyState().with_files(images), method=method)
    entry = state.samples[0]
    cache = AnalysisCache()
    sample = cache.file(entry.path).renamed(entry.name)
    table = Analysis(sample, method, cache).table(entry.group)
    save_study(state, tmp_path / "s.rilievo", {entry.id: table})
    _, tables, *_ = load_study(tmp_path / "s.rilievo")
    again = tables[entry.id]
    assert again.units == {"gray": "mg"} == table.units
    assert again.heading("mean") == "Mean (mg)"
    assert again.image_shape == table.image_shape == (60, 80)
    np.testing.assert_array_equal(again.flags["gray"], table.flags["gray"])
    assert again.quantities == table.quantities
    assert again.quantity("core/cell share").family == "pair"
    assert again.marks_of("gray", 0) == table.marks_of("gray", 0)
