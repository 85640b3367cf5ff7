"""The file of a row is the file its number came from, also where a sample is made of several."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo.core.files.channel_preparation import Derived, Reading, Term
from rilievo.core.files.import_naming import NamePattern, propose
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.origin import origin_of
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Contents
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

DIFFERENCE = Derived(name="more", terms=(Term(channel="gfp"), Term(channel="dapi", weight=-1)))
METHOD = Method(
    reading=Reading(derived=(DIFFERENCE,)),
    outlines=(outline(200.0, channel="dapi"),),
    measure=Measure(quantities=("area", "mean")),
)


@pytest.fixture
def state(write_tiff: Callable[..., Path]) -> StudyState:
    paths = []
    for name in ("a", "b"):
        for channel, level in (("dapi", 300), ("gfp", 900)):
            pixels = np.full((20, 30), 100, np.uint16)
            pixels[5:12, 6:16] = level
            paths.append(write_tiff(f"{channel}/{name}_{channel}.tif", pixels))
    refs = propose(paths, NamePattern.parse("{sample}_{channel}"))
    return StudyState(method=METHOD).with_samples(refs)


EXPECTED = {
    "dapi": "dapi/a_dapi.tif",
    "gfp": "gfp/a_gfp.tif",
    "more": "gfp/a_gfp.tif + dapi/a_dapi.tif",
}


def test_tables_name_the_file_of_each_channel(state: StudyState, tmp_path: Path) -> None:
    from rilievo.core.files.sample_ref import labelled  # noqa: PLC0415

    outcomes = run_batch(labelled(state.samples), METHOD)
    write_outputs(Contents(outcomes, METHOD), tmp_path / "out")
    for name in ("regions.csv", "samples.csv"):
        rows = pandas.read_csv(tmp_path / "out" / name)
        first = rows[rows["sample"] == "a"]
        assert dict(zip(first["channel"], first["file"], strict=True)) == EXPECTED
    assert "gfp/b_gfp.tif" in (tmp_path / "out" / "regions.csv").read_text()
    page = (tmp_path / "out" / "report.html").read_text()
    assert "a_dapi.tif" in page and "a_gfp.tif" in page


def test_the_origin_of_a_number_names_its_file(state: StudyState) -> None:
    entry = state.samples[0]
    cache = AnalysisCache()
    analysis = Analysis(cache.sample(entry.sources, entry.name), METHOD, cache)
    table = analysis.table()
    files = {
        channel: origin_of(analysis, table, 1, channel, "mean").file for channel in table.channels
    }
    paths = {part.channel: str(part.path) for part in entry.parts}
    assert files == {**paths, "more": f"{paths['gfp']} + {paths['dapi']}"}


def test_a_study_that_is_opened_knows_the_files_of_its_numbers(
    state: StudyState, tmp_path: Path
) -> None:
    outcomes = run_batch(state.samples, METHOD)
    tables = {e.id: o.table for e, o in zip(state.samples, outcomes, strict=True) if o.table}
    save_study(state, tmp_path / "s.rilievo", tables)
    table = load_study(tmp_path / "s.rilievo").tables[1]
    assert (table.file_of("dapi"), table.file_of("gfp")) == ("a_dapi.tif", "a_gfp.tif")


def test_a_sample_of_one_file_has_its_name_alone(write_tiff: Callable[..., Path]) -> None:
    pixels = np.full((2, 20, 30), 300, np.uint16)
    path = write_tiff("one.tif", pixels, metadata={"axes": "CYX"})
    from rilievo.core.files.sample_ref import samples_for  # noqa: PLC0415

    (outcome,) = run_batch(samples_for([path]), Method(outlines=(outline(200.0),)))
    assert outcome.table is not None
    assert outcome.table.files == {}
    assert {outcome.table.file_of(name) for name in outcome.table.channels} == {"one.tif"}
