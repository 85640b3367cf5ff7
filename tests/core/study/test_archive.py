"""A study packed for handing over gives the same numbers elsewhere."""

from __future__ import annotations

import shutil
import zipfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import measured
from rilievo.core.errors import FileUnreadable, StudyError
from rilievo.core.files.sample_parts import Part
from rilievo.core.method.method import Method, step_use
from rilievo.core.study.archive import pack_study, unpack_study
from rilievo.core.study.history import entry_for
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study
from rilievo.core.table.table import region_frame
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

NOW = "2031-05-06T07:08:09+00:00"


@pytest.fixture
def state(write_tiff: Callable[..., Path], blobs: np.ndarray) -> StudyState:
    """Two samples of the same file name, one of them in two files, and a dark frame."""
    first = write_tiff("one/field.tif", blobs)
    second = write_tiff("two/field.tif", blobs + 5)
    other = write_tiff("two/dye.tif", blobs * 2)
    dark = write_tiff("frames/dark.tif", np.full(blobs.shape, 30, np.uint16))
    method = Method(
        name="m",
        outlines=(outline(200.0),),
        steps=(step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]}),),
    )
    made = StudyState(name="Hand over", method=method).with_files([first, second])
    entries = list(made.samples)
    parts = (Part(second, channel="gray"), Part(other, channel="dye"))
    entries[1] = replace(entries[1], parts=parts)
    return replace(made, samples=tuple(entries))


def table_of(state: StudyState) -> object:
    items = list(state.samples)
    return region_frame(measured(run_batch(items, state.method))).to_pandas()


def test_it_opens_elsewhere_with_the_same_numbers(state: StudyState, tmp_path: Path) -> None:
    before = table_of(state)
    tables = {
        entry.id: table
        for entry, table in zip(
            state.samples,
            measured(run_batch(list(state.samples), state.method)),
            strict=True,
        )
    }
    history = [entry_for("Add a step", NOW, StudyState(), state)]
    heard: list[float] = []
    packed = tmp_path / "over.rilievo.zip"
    pack_study(state, packed, tables, history, heard.append)
    assert heard[-1] == 1
    for folder in ("one", "two", "frames"):
        shutil.rmtree(tmp_path / folder)
    elsewhere = tmp_path / "another" / "machine"
    elsewhere.mkdir(parents=True)
    study = unpack_study(packed, elsewhere)
    assert study == elsewhere / "over" / "over.rilievo"
    opened, kept, *_ = load_study(study)
    assert all(part.path.is_relative_to(elsewhere) for e in opened.samples for part in e.sources)
    # Measured anew from the copies, and as it was kept.
    assert table_of(opened).equals(before)  # type: ignore[attr-defined]
    assert region_frame([kept[entry.id] for entry in opened.samples]).to_pandas().equals(before)
    (entry,) = load_study(study).history
    frame = entry.method.steps[0].parameters.model_dump()["dark"]["files"][0]["file"]
    assert Path(frame).is_relative_to(elsewhere)
    # A second time it goes beside the first.
    assert unpack_study(packed, elsewhere).parent.name == "over 2"


def test_the_same_study_gives_the_same_bytes(state: StudyState, tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        pack_study(state, tmp_path / name / "s.rilievo.zip")
    one, other = ((tmp_path / n / "s.rilievo.zip").read_bytes() for n in "ab")
    assert one == other
    with zipfile.ZipFile(tmp_path / "a" / "s.rilievo.zip") as archive:
        names = sorted(archive.namelist())
    assert names == [
        "images/2/field.tif", "images/dark.tif", "images/dye.tif", "images/field.tif",
        "method.json", "ro-crate-metadata.json", "s.rilievo",
    ]  # fmt: skip


def test_what_is_missing_damaged_or_malign_is_refused(state: StudyState, tmp_path: Path) -> None:
    packed = tmp_path / "s.rilievo.zip"
    pack_study(state, packed)
    good = packed.read_bytes()
    state.samples[0].path.unlink()
    with pytest.raises(FileUnreadable, match=r"field\.tif"):
        pack_study(state, packed)
    assert packed.read_bytes() == good, "the old file stays"
    packed.write_bytes(good[: len(good) // 2])
    with pytest.raises(StudyError, match="damaged"):
        unpack_study(packed, tmp_path)
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("s.rilievo", "x")
        archive.writestr("../outside.tif", "x")
    with pytest.raises(StudyError, match="no packed study"):
        unpack_study(packed, tmp_path / "in")
    assert not (tmp_path / "outside.tif").exists()
    (tmp_path / "file").write_text("x")
    packed.write_bytes(good)
    with pytest.raises(FileUnreadable):
        unpack_study(packed, tmp_path / "file")
