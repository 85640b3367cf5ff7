"""A run of very many samples is written in parts, with the same rows as all at once."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas
import pyarrow.dataset
import pytest

from rilievo.core.batch import Outcome
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import DerivedColumn, Method
from rilievo.core.report import large_outputs, page
from rilievo.core.report.outputs import FilesWanted, write_outputs
from rilievo.core.report.page import Contents
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

COLUMN = DerivedColumn(name="ratio", formula="max / mean")
METHOD = Method(outlines=(outline(200.0),))
METHOD = METHOD.changed(measure=METHOD.measure.model_copy(update={"derived": (COLUMN,)}))


@pytest.fixture
def outcomes(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Outcome]:
    paths = [write_tiff(f"in/{'ab'[k % 2]}-{k}.tif", blobs + 3 * k) for k in range(7)]
    (paths[0].parent / "z.tif").write_text("no image")
    return list(run_batch(samples_for([*paths, paths[0].parent / "z.tif"]), METHOD))


@pytest.fixture
def in_parts(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(large_outputs, "LARGE", 5)
    monkeypatch.setattr(large_outputs, "_PART", 3)


def test_parts_hold_the_same_rows(
    outcomes: list[Outcome], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_outputs(Contents(outcomes, METHOD), tmp_path / "whole")
    monkeypatch.setattr(large_outputs, "LARGE", 5)
    monkeypatch.setattr(large_outputs, "_PART", 3)
    small = write_outputs(Contents(outcomes, METHOD), tmp_path / "large")
    for name in ("regions.csv", "samples.csv", "checks.csv", "groups.csv", "tests.csv"):
        assert (tmp_path / "large" / name).read_text() == (tmp_path / "whole" / name).read_text()
    parts = tmp_path / "large" / large_outputs.PARTS
    assert len(list(parts.iterdir())) == 3
    read = pyarrow.dataset.dataset(parts).to_table().to_pandas()
    whole = pandas.read_csv(tmp_path / "whole" / "regions.csv", keep_default_na=False)
    assert read["sample"].tolist() == whole["sample"].tolist()
    np.testing.assert_allclose(read["ratio"], whole["ratio"].astype(float))
    # What stays in memory has few columns.
    assert set(small[0].table.columns["gray"]) == {*large_outputs._KEPT[:3]} & set(
        METHOD.measure.quantities
    ) | {METHOD.measure.quantities[0]}
    assert small[-1].failure
    # An array that is a part of another would hold all of it.
    tables = [outcome.table for outcome in small if outcome.table]
    assert all(values.base is None for t in tables for values in t.columns["gray"].values())
    assert tables[0].classes is tables[1].classes
    assert tables[0].marks["gray"] is tables[1].marks["gray"]


@pytest.mark.usefixtures("in_parts")
def test_a_later_run_replaces_the_parts(outcomes: list[Outcome], tmp_path: Path) -> None:
    write_outputs(Contents(outcomes, METHOD), tmp_path, FilesWanted(with_report=False))
    write_outputs(Contents(outcomes[1:], METHOD), tmp_path, FilesWanted(with_report=False))
    read = pyarrow.dataset.dataset(tmp_path / large_outputs.PARTS).to_table().to_pandas()
    assert outcomes[0].item.name not in set(read["sample"])
    assert not [path for path in tmp_path.iterdir() if path.name.startswith(".")]


def test_parts_and_one_file_take_each_others_place(
    outcomes: list[Outcome], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    parquet = tmp_path / large_outputs.PARTS
    write_outputs(
        Contents(outcomes, METHOD), tmp_path, FilesWanted(formats=[".parquet"], with_report=False)
    )
    assert parquet.is_file()
    with monkeypatch.context() as patch:
        patch.setattr(large_outputs, "LARGE", 5)
        write_outputs(Contents(outcomes, METHOD), tmp_path, FilesWanted(with_report=False))
        assert parquet.is_dir()
    # A smaller run leaves no regions behind that are not its own.
    write_outputs(Contents(outcomes[:2], METHOD), tmp_path, FilesWanted(with_report=False))
    assert not parquet.exists()


@pytest.mark.usefixtures("in_parts")
def test_what_needs_all_samples_is_written_at_once(outcomes: list[Outcome], tmp_path: Path) -> None:
    column = DerivedColumn(name="part", formula='mean / "mean of a"')
    other = METHOD.changed(measure=METHOD.measure.model_copy(update={"derived": (column,)}))
    assert not large_outputs.is_large(outcomes, other)
    write_outputs(Contents(outcomes, other), tmp_path, FilesWanted(with_report=False))
    assert not (tmp_path / large_outputs.PARTS).exists()


@pytest.mark.usefixtures("in_parts")
def test_the_report_lists_some_and_says_so(
    outcomes: list[Outcome], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(page, "MOST_LISTED", 3)
    write_outputs(Contents(outcomes, METHOD), tmp_path)
    text = (tmp_path / "report.html").read_text(encoding="utf-8")
    assert "3 of 7 samples, evenly chosen; samples.csv has all." in text
    assert "8 samples, measured with Rilievo" in text
    checks = pandas.read_csv(tmp_path / "checks.csv")
    told = int((checks["kind"] != "failed").sum())
    assert told > 3
    assert f"The 3 most serious of {told} checks; checks.csv has all." in text


@pytest.mark.usefixtures("in_parts")
def test_times_of_a_stack_are_written_at_once_since_they_are_followed(
    outcomes: list[Outcome],
) -> None:
    quantities = ("mean", "x", "y", "pixel_count")
    method = METHOD.changed(measure=METHOD.measure.model_copy(update={"quantities": quantities}))
    assert large_outputs.is_large(outcomes, method)
    timed = [
        replace(one, item=replace(one.item, attributes={"stack": "s", "time": str(k)}))
        for k, one in enumerate(outcomes, start=1)
    ]
    assert not large_outputs.is_large(timed, method)
    only = method.changed(measure=method.measure.model_copy(update={"quantities": ("mean",)}))
    assert large_outputs.is_large(timed, only)
