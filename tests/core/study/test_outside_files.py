"""Which files a study or a method leads to, and which of them nobody chose."""

from __future__ import annotations

from pathlib import Path

import pytest

from rilievo.core.errors import FileOutside
from rilievo.core.files.sample_parts import Part
from rilievo.core.method.method import Method, step_use
from rilievo.core.study.outside_files import (
    chosen_files,
    files_of_method,
    files_of_study,
    outside,
    refuse,
    remember_chosen,
)
from rilievo.core.study.study import SampleEntry, StudyState
from tests.outlines import outline


def method(dark: Path, labels: str) -> Method:
    labelled = outline(200.0).model_copy(
        update={"source": "label_image", "label_image": {"file": labels}}
    )
    return Method(
        steps=(step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]}),),
        outlines=(labelled,),
    )


def test_samples_parts_frames_and_labels_are_named(tmp_path: Path) -> None:
    parts = (Part(tmp_path / "a.tif"), Part(tmp_path / "b.tif"))
    entries = (
        SampleEntry(tmp_path / "a.tif", "one", id=1, parts=parts),
        SampleEntry(tmp_path / "c.tif", "../../two", id=2),
    )
    made = method(tmp_path / "dark.tif", str(tmp_path / "labels" / "{sample}.tif"))
    found = files_of_study(StudyState("s", entries, made))
    assert found == [
        tmp_path / "a.tif",
        tmp_path / "b.tif",
        tmp_path / "c.tif",
        tmp_path / "dark.tif",
        tmp_path / "labels" / "one.tif",
        tmp_path / "labels" / "../../two.tif",
    ]
    assert outside(found, [tmp_path]) == [tmp_path / "labels" / "../../two.tif"]
    assert files_of_method(made)[-1] == tmp_path / "labels" / "{sample}.tif"


def test_links_and_parents_lead_outside(tmp_path: Path) -> None:
    inside, elsewhere = tmp_path / "in", tmp_path / "out"
    inside.mkdir()
    elsewhere.mkdir()
    (elsewhere / "x.tif").touch()
    (inside / "link.tif").symlink_to(elsewhere / "x.tif")
    (inside / "folder").symlink_to(elsewhere)
    (inside / "own.tif").symlink_to(inside / "here.tif")
    files = [inside / name for name in ("here.tif", "own.tif", "link.tif", "folder/x.tif")]
    files.append(inside / ".." / "out" / "x.tif")
    assert outside(files, [inside]) == files[2:]
    assert outside(files, [inside, elsewhere]) == []
    assert outside(files, [inside], files[2:]) == []


def test_what_was_chosen_belongs_to_one_study(tmp_path: Path) -> None:
    mine, theirs = tmp_path / "mine.rilievo", tmp_path / "theirs.rilievo"
    assert chosen_files(mine) == set()
    remember_chosen(mine, [Path("/data/a.tif"), Path("/data/b.tif")])
    assert chosen_files(mine) == {Path("/data/a.tif"), Path("/data/b.tif")}
    assert chosen_files(theirs) == set()
    remember_chosen(mine, [])
    assert chosen_files(mine) == set()


def test_refusing_names_the_files_in_full(tmp_path: Path) -> None:
    refuse(tmp_path / "m.json", [], "do it")
    files = [Path(f"/far/away/{n}.tif") for n in range(12)]
    with pytest.raises(FileOutside, match=r"“m.json” leads .*“/far/away/0.tif”.* 2 more; do it"):
        refuse(tmp_path / "m.json", files, "do it")
