from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tifffile

from rilievo.core.errors import Cancelled, FileUnreadable, StudyError
from rilievo.core.files.plane_choice import PlaneChoice, with_frames
from rilievo.core.files.sample_parts import Part
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.image import Sample
from rilievo.core.image.stack import Frame, StackLayout
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import measure
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import APPLICATION_ID, load_study, save_study
from rilievo.core.view.palettes import ViewStyle
from tests.outlines import outline


def test_a_study_comes_back_as_it_was(state: StudyState, tmp_path: Path) -> None:
    save_study(state, tmp_path / "a.rilievo")
    loaded, tables, *_ = load_study(tmp_path / "a.rilievo")
    assert loaded == state
    assert tables == {}


def test_a_study_can_be_moved_with_its_images(state: StudyState, tmp_path: Path) -> None:
    save_study(state, tmp_path / "a.rilievo")
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    (tmp_path / "images").rename(moved / "images")
    (tmp_path / "a.rilievo").rename(moved / "a.rilievo")
    loaded = load_study(moved / "a.rilievo").state
    assert all(entry.path.exists() for entry in loaded.samples)


def test_measurements_come_back_bit_for_bit(
    state: StudyState, tmp_path: Path, make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    method = state.method.changed(
        outlines=(outline(),),
        steps=(),
        exceptions={},
    )
    state = replace(state, method=method)
    entry, empty = state.samples[0], state.samples[1]
    found = measure(make_sample(blobs, blobs * 3, name=entry.name), method, entry.group)
    none = measure(make_sample(np.zeros((3, 3), np.uint8), name=empty.name), method, empty.group)
    save_study(state, tmp_path / "a.rilievo", {entry.id: found, empty.id: none})
    _, tables, *_ = load_study(tmp_path / "a.rilievo")
    again = tables[entry.id].table.drop(columns="file")
    assert again.equals(found.table.drop(columns="file"))
    assert tables[empty.id].channels == none.channels
    assert tables[empty.id].ids.size == 0
    assert tables[entry.id].thresholds == found.thresholds
    # Both ways tell how far they are, and stop where they are told to.
    written: list[float] = []
    read: list[float] = []
    save_study(state, tmp_path / "b.rilievo", {entry.id: found, empty.id: none}, (), written.append)
    load_study(tmp_path / "b.rilievo", read.append)
    assert written == read == [0.0, 0.5]

    def stop(_fraction: float) -> None:
        raise Cancelled("stopped")

    content = (tmp_path / "b.rilievo").read_bytes()
    for work in (
        lambda: load_study(tmp_path / "b.rilievo", stop),
        lambda: save_study(state, tmp_path / "b.rilievo", {entry.id: found}, (), stop),
    ):
        with pytest.raises(Cancelled):
            work()
    assert (tmp_path / "b.rilievo").read_bytes() == content
    assert not list(tmp_path.glob(".*"))
    # Measurements that another method made are not shown as this one's.
    save_study(replace(state, method=method.changed(name="other")), tmp_path / "b.rilievo", {})
    assert load_study(tmp_path / "b.rilievo")[1] == {}


def test_saving_is_whole_or_not_at_all(
    state: StudyState, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "a.rilievo"
    save_study(state, path)
    before = path.read_bytes()

    def fail(*_: object) -> None:
        raise sqlite3.OperationalError("disk full")

    monkeypatch.setattr("rilievo.core.study.study_file._fill", fail)
    with pytest.raises(FileUnreadable, match="disk full"):
        save_study(replace(state, name="new"), path)
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir() if p.is_file()] == ["a.rilievo"]


def test_a_folder_that_cannot_be_written_to(state: StudyState, tmp_path: Path) -> None:
    with pytest.raises(FileUnreadable, match="choose a folder"):
        save_study(state, tmp_path / "none" / "a.rilievo")


def test_files_that_are_no_study(state: StudyState, tmp_path: Path) -> None:
    with pytest.raises(StudyError, match="does not exist"):
        load_study(tmp_path / "none.rilievo")
    (tmp_path / "text.rilievo").write_text("hello")
    with pytest.raises(StudyError, match=r"text\.rilievo"):
        load_study(tmp_path / "text.rilievo")
    with sqlite3.connect(tmp_path / "other.rilievo") as other:
        other.execute("CREATE TABLE t (x)")
    other.close()
    with pytest.raises(StudyError, match="not a Rilievo study"):
        load_study(tmp_path / "other.rilievo")


def test_a_newer_or_damaged_study_is_refused(state: StudyState, tmp_path: Path) -> None:
    path = tmp_path / "a.rilievo"
    save_study(state, path)
    database = sqlite3.connect(path)
    assert database.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
    database.execute("PRAGMA user_version = 99")
    database.commit()
    database.close()
    with pytest.raises(StudyError, match="newer"):
        load_study(path)
    save_study(state, path)
    database = sqlite3.connect(path)
    database.execute("UPDATE study SET value = '{}' WHERE key = 'method'")
    database.commit()
    database.close()
    with pytest.raises(StudyError, match="method"):
        load_study(path)
    whole = path.read_bytes()
    path.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(StudyError, match=r"a\.rilievo"):
        load_study(path)


def test_a_study_of_the_first_schema_opens(tmp_path: Path) -> None:
    """Schema 1 had no parts, declared levels or own views, and one view for all samples."""
    image = tmp_path / "a.tif"
    tifffile.imwrite(image, np.zeros((3, 3), np.uint8))
    path = tmp_path / "old.rilievo"
    with contextlib.closing(sqlite3.connect(path)) as database:
        database.executescript(
            """
            PRAGMA user_version = 1;
            CREATE TABLE study (key TEXT PRIMARY KEY, value TEXT NOT NULL);
            CREATE TABLE sample (
                id INTEGER PRIMARY KEY, position INTEGER NOT NULL, name TEXT NOT NULL UNIQUE,
                path TEXT NOT NULL, size INTEGER NOT NULL, sha256 TEXT NOT NULL,
                sample_group TEXT NOT NULL, replicate TEXT NOT NULL);
            CREATE TABLE display_range (channel TEXT, lane TEXT, low REAL, high REAL);
            CREATE TABLE view_style (channel TEXT PRIMARY KEY, style TEXT NOT NULL);
            CREATE TABLE measured_sample (
                sample INTEGER PRIMARY KEY, class TEXT, unit TEXT, threshold REAL,
                image_pixels INTEGER, channels TEXT, method_digest TEXT);
            CREATE TABLE measurement (
                sample INTEGER, region INTEGER, channel TEXT, quantity TEXT, value REAL);
            INSERT INTO sample VALUES (4, 0, 'a', 'a.tif', 1, '', 'G', '2');
            INSERT INTO display_range VALUES ('gray', 'native', 1, 9);
            INSERT INTO view_style VALUES ('gray', '{"invert": true, "palette": "bands"}');
            """
        )
        database.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        method = Method().to_json().replace('"version": 2', '"version": 1')
        database.executemany(
            "INSERT INTO study VALUES (?, ?)", [("name", "Old"), ("method", method)]
        )
        database.commit()
    state, tables, *_ = load_study(path)
    (entry,) = state.samples
    assert (entry.id, entry.group, entry.path) == (4, "G", image)
    assert entry.sources == (Part(image),)
    assert state.range_of(4, "gray", "native") == (1, 9)
    assert state.style_of(4, "gray") == ViewStyle(invert=True, palette="bands")
    assert (tables, state.own_views) == ({}, {})
    # Saved again it is a study of today.
    save_study(state, path)
    assert load_study(path).state == state


def test_planes_of_a_stack_come_back_and_a_study_without_them_opens(tmp_path: Path) -> None:
    stack = tmp_path / "s.tif"
    tifffile.imwrite(stack, np.zeros((6, 5, 5), np.uint16), photometric="minisblack", metadata=None)
    one = SampleRef(stack, "s", parts=(Part(stack),))
    made = [
        *with_frames(one, StackLayout(pages=6), PlaneChoice.parse("time")),
        *with_frames(one, StackLayout(pages=6), PlaneChoice.parse("sd of z 2-4")),
    ]
    state = StudyState().with_samples(made)
    assert len(state.samples) == 7
    # Each plane takes its part of the file.
    assert sum(entry.size for entry in state.samples) <= stack.stat().st_size
    path = tmp_path / "new.rilievo"
    save_study(state, path)
    assert load_study(path).state == state
    assert state.samples[6].sources[0].frame == Frame(None, None, "sd", "z", 1, 3)
    with contextlib.closing(sqlite3.connect(path)) as database:
        database.execute("UPDATE sample_part SET frame = 'best of z 1–2'")
        database.commit()
    with pytest.raises(StudyError, match="no projection"):
        load_study(path)
    with contextlib.closing(sqlite3.connect(path)) as database:
        database.execute("ALTER TABLE sample_part DROP COLUMN frame")
        database.execute("PRAGMA user_version = 5")
        database.commit()
    assert all(part.frame is None for e in load_study(path).state.samples for part in e.parts)
