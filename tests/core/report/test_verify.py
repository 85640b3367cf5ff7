"""Measured again: the same to the bit, and every change is told in a sentence."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tifffile

from rilievo.core.batch import measured
from rilievo.core.errors import StudyError
from rilievo.core.files.reader import file_checksum
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline import fingerprints
from rilievo.core.pipeline.fingerprints import numbers_digest, package_versions, whole_code
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Contents
from rilievo.core.report.verify import verify
from rilievo.core.study.archive import pack_study
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline


@pytest.fixture
def state(write_tiff: Callable[..., Path], blobs: np.ndarray) -> StudyState:
    dark = write_tiff("frames/dark.tif", np.full(blobs.shape, 30, np.uint16))
    method = Method(
        name="m",
        outlines=(outline(200.0),),
        steps=(step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]}),),
    )
    paths = [write_tiff(f"in/{k}.tif", blobs + 3 * k) for k in range(2)]
    made = StudyState(name="Proof", method=method).with_files(paths)
    entries = tuple(replace(e, checksum=file_checksum(e.path)) for e in made.samples)
    return replace(made, samples=entries)


@pytest.fixture
def results(state: StudyState, tmp_path: Path) -> Path:
    folder = tmp_path / "out"
    outcomes = run_batch(list(state.samples), state.method)
    write_outputs(Contents(outcomes, state.method), folder)
    return folder


@pytest.fixture
def study(state: StudyState, tmp_path: Path) -> Path:
    outcomes = run_batch(list(state.samples), state.method)
    tables = dict(zip((e.id for e in state.samples), measured(outcomes), strict=True))
    path = tmp_path / "proof.rilievo"
    save_study(state, path, tables, environments=[package_versions()])
    return path


def brighter(path: Path) -> None:
    pixels = tifffile.imread(path)
    pixels[np.unravel_index(int(pixels.argmax()), pixels.shape)] += 7
    tifffile.imwrite(path, pixels)


def test_results_are_the_same_also_after_they_were_moved(results: Path, tmp_path: Path) -> None:
    found = verify(results)
    assert found.is_same, found.sentences()
    assert found.numbers > 50
    report = (results / "report.html").read_text()
    assert found.code in report
    assert f"Code of the whole: {found.code}, as recorded." in found.sentences()
    whole = tmp_path / "elsewhere"
    shutil.move(tmp_path / "in", whole / "in")
    shutil.move(tmp_path / "frames", whole / "frames")
    shutil.move(results, whole / "out")
    again = verify(whole / "out")
    assert again.is_same, again.sentences()


def test_a_study_and_a_packed_one_are_the_same(
    study: Path, state: StudyState, tmp_path: Path
) -> None:
    found = verify(study)
    assert found.is_same, found.sentences()
    loaded, tables, *_ = load_study(study)
    packed = tmp_path / "p.rilievo.zip"
    pack_study(loaded, packed, tables, environments=load_study(study).environments)
    again = verify(packed)
    assert again.is_same, again.sentences()
    assert again.code == found.code


def test_a_changed_pixel_is_told(results: Path, study: Path, tmp_path: Path) -> None:
    brighter(tmp_path / "in" / "1.tif")
    for what in (results, study):
        found = verify(what)
        said = found.sentences()
        assert not found.is_same
        assert "Files of 1 of 2 samples are as they were measured." in said
        assert "1.tif has changed since it was measured (other checksum)." in said
        assert {one.sample for one in found.differing} == {"1"}
        mean = next(one for one in found.differing if one.quantity == "mean")
        assert float(mean.now) > float(mean.before)
        assert any(line.startswith("1, region ") and " then, " in line for line in said)
        assert not found.recorded or found.code != found.recorded


def test_a_changed_frame_is_told_by_the_numbers(results: Path, tmp_path: Path) -> None:
    pixels = tifffile.imread(tmp_path / "frames" / "dark.tif")
    tifffile.imwrite(tmp_path / "frames" / "dark.tif", pixels + np.uint16(1))
    assert len(verify(results).differing) > 10


def test_a_changed_method_is_told(results: Path, study: Path) -> None:
    method = Method.load(results / "method.json")
    method.changed(outlines=(outline(400.0),)).save(results / "method.json")
    found = verify(results)
    assert "The method is not the one that the numbers were measured with." in found.sentences()
    assert found.differing
    state, tables, *_ = load_study(study)
    changed = replace(state, method=state.method.changed(outlines=(outline(400.0),)))
    # A file whose method was changed behind its measurements has none of that method.
    save_study(changed, study)
    with pytest.raises(StudyError, match="holds no measurements of its method"):
        verify(study)
    assert tables


def test_a_changed_number_is_told(results: Path) -> None:
    table = results / "regions.csv"
    lines = table.read_text().splitlines()
    column = lines[0].split(",").index("mean")
    cells = lines[1].split(",")
    cells[column] = str(float(cells[column]) * (1 + 1e-13))
    table.write_text("\n".join([lines[0], ",".join(cells), *lines[2:]]) + "\n")
    found = verify(results)
    assert [one.quantity for one in found.differing] == ["mean"]
    table.write_text("\n".join([lines[0], *lines[2:]]) + "\n")
    found = verify(results)
    assert {one.before for one in found.differing} == {""}


def test_a_changed_package_is_told(
    results: Path, study: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    newer = {**package_versions(), "numpy": "99.0"}
    monkeypatch.setattr("rilievo.core.report.verify.package_versions", lambda: newer)
    then = package_versions()["numpy"]
    for what in (results, study):
        found = verify(what)
        assert not found.is_same
        assert f"numpy was of version {then}, and is of 99.0 now." in found.sentences()
        assert not found.differing


def test_a_missing_file_and_a_folder_of_something_else(results: Path, tmp_path: Path) -> None:
    (tmp_path / "in" / "0.tif").unlink()
    found = verify(results)
    assert "0" in found.files
    assert found.failures.keys() == {"0"}
    assert "could not be measured" in " ".join(found.sentences())
    with pytest.raises(StudyError, match=r"no study\.rilievo"):
        verify(tmp_path)
    (results / "regions.metadata.json").write_text("{")
    with pytest.raises(StudyError, match="cannot be verified"):
        verify(results)


def test_a_study_of_ones_own_is_not_written_over(
    study: Path, state: StudyState, results: Path
) -> None:
    shutil.copy(study, results / "study.rilievo")
    own = (results / "study.rilievo").read_bytes()
    outcomes = run_batch(list(state.samples), state.method)
    write_outputs(Contents(outcomes, state.method), results)
    assert (results / "study.rilievo").read_bytes() == own
    (results / "study.rilievo").write_text("something else")
    write_outputs(Contents(outcomes, state.method), results)
    assert (results / "study.rilievo").read_text() == "something else"


def test_what_failed_then_may_fail_now(state: StudyState, tmp_path: Path) -> None:
    (tmp_path / "in" / "bad.tif").write_text("no image")
    whole = state.with_files([tmp_path / "in" / "bad.tif"])
    outcomes = run_batch(list(whole.samples), whole.method)
    write_outputs(Contents(outcomes, whole.method), tmp_path / "out")
    found = verify(tmp_path / "out")
    assert found.is_same, found.sentences()
    assert found.samples == 3


def test_the_code_depends_on_everything_and_on_no_order() -> None:
    rows = [("a", "1", "x"), ("b", "2", "y")]
    code = whole_code("m", rows)
    assert len(code) == 14
    assert code == whole_code("m", rows[::-1])
    others = [("n", rows), ("m", [("a", "1", "z"), rows[1]]), ("m", [("a", "3", "x"), rows[1]])]
    assert len({code, *(whole_code(method, some) for method, some in others)}) == 4


def test_numbers_have_one_name_to_the_bit(state: StudyState) -> None:
    table = measured(run_batch([state.samples[0]], state.method))[0]
    channel = table.channels[0]
    values = table.column(channel, "mean")
    columns = {channel: {**table.columns[channel], "mean": np.nextafter(values, np.inf)}}
    assert numbers_digest(table) == numbers_digest(replace(table, group="other"))
    assert numbers_digest(table) != numbers_digest(replace(table, columns=columns))


def test_versions_are_of_what_is_installed() -> None:
    found = fingerprints.package_versions()
    assert found["numpy"] == np.__version__
    assert json.dumps(found)
    assert {"rilievo", "python", "scipy"} <= found.keys()
