"""Rows that are added to the tables of a run make the same files as writing them all at once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import DerivedColumn, Method
from rilievo.core.report.live_tables import add_rows, stands_alone
from rilievo.core.report.outputs import FilesWanted, write_outputs
from rilievo.core.report.page import Contents
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

METHOD = Method(outlines=(outline(200.0),))


@pytest.fixture
def outcomes(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list:
    paths = [write_tiff(f"in/a-{k}.tif", blobs + 7 * k) for k in range(3)]
    return list(run_batch(samples_for(paths), METHOD))


def test_added_rows_are_those_of_the_whole_table(outcomes: list, tmp_path: Path) -> None:
    write_outputs(Contents(outcomes, METHOD), tmp_path / "whole", FilesWanted(with_report=False))
    write_outputs(Contents(outcomes[:1], METHOD), tmp_path / "live", FilesWanted(with_report=False))
    assert add_rows(outcomes[1:], METHOD, tmp_path / "live")
    for name in ("regions.csv", "samples.csv"):
        assert (tmp_path / "live" / name).read_bytes() == (tmp_path / "whole" / name).read_bytes()


def test_other_columns_or_a_torn_file_need_a_table_of_their_own(
    outcomes: list, tmp_path: Path
) -> None:
    assert not add_rows(outcomes[1:], METHOD, tmp_path)
    write_outputs(Contents(outcomes[:1], METHOD), tmp_path, FilesWanted(with_report=False))
    other = METHOD.changed(measure=METHOD.measure.model_copy(update={"quantities": ("mean",)}))
    few = run_batch([one.item for one in outcomes[1:]], other)
    before = (tmp_path / "regions.csv").read_bytes()
    assert not add_rows(few, other, tmp_path)
    assert (tmp_path / "regions.csv").read_bytes() == before
    (tmp_path / "regions.csv").write_bytes(before[:-5])
    assert not add_rows(outcomes[1:], METHOD, tmp_path)


def test_what_depends_on_other_samples_is_known() -> None:
    assert stands_alone(METHOD)
    shared = METHOD.outline.threshold.model_copy(update={"pooled": True})
    automatic = ClassDefinition(threshold=shared.model_copy(update={"way": "triangle"}))
    assert not stands_alone(Method(outlines=(automatic,)))

    def with_column(formula: str) -> Method:
        column = DerivedColumn(name="ratio", formula=formula)
        return METHOD.changed(measure=METHOD.measure.model_copy(update={"derived": (column,)}))

    assert stands_alone(with_column("mean / median"))
    assert not stands_alone(with_column('mean / "mean of control"'))
