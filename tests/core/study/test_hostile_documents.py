"""Methods, regions, studies and packed studies that were edited, cut or made to hurt."""

from __future__ import annotations

import json
import os
import sqlite3
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rilievo.core.errors import RilievoError
from rilievo.core.method.method import Method, step_use
from rilievo.core.regions.drawn_shapes import DrawnRegion
from rilievo.core.regions.region_file import load_regions, save_regions
from rilievo.core.regions.shapes import RectangleShape
from rilievo.core.study.archive import pack_study, unpack_study
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.study.study_file import load_study, save_study
from tests.outlines import outline

METHOD = Method(
    steps=(
        step_use("b", "background.mesh"),
        step_use("d", "frames.dark", dark={"files": [{"file": "/x/dark.tif"}]}),
    ),
    outlines=(outline(200.0),),
)
# What would hang takes minutes; how fast it is on a busy machine is not for tests.
SECONDS = 30.0


def refused(read: Callable[[], object], name: str) -> str:
    """The one sentence that a file is refused with, soon."""
    start = time.perf_counter()
    with pytest.raises(RilievoError) as caught:
        read()
    assert time.perf_counter() - start < SECONDS
    text = str(caught.value)
    assert name in text
    assert "Traceback" not in text
    return text


def nested(depth: int, kind: str) -> str:
    return "[" * depth + "]" * depth if kind == "list" else '{"a":' * depth + "1" + "}" * depth


HURTFUL = {
    "deep lists": nested(600, "list"),
    "deeper lists": nested(1000, "list"),
    "bottomless": nested(200_000, "list"),
    "deep maps": nested(600, "map"),
    "a long number": "9" * 5000,
    "a longer number": "9" * 200_000,
    "a list": "[1, 2]",
    "a text": '"x"',
    "nothing": "null",
    "not a number": "NaN",
    "beyond numbers": "1e999",
    "a NUL": '"a\\u0000b"',
}


@pytest.mark.parametrize(
    "place", ["steps", "outlines", "measure", "exceptions", "reading", "picks"]
)
@pytest.mark.parametrize("what", HURTFUL)
def test_a_hurtful_method_is_refused_in_one_sentence(tmp_path: Path, place: str, what: str) -> None:
    body = json.loads(METHOD.to_json())
    body[place] = "HERE"
    path = tmp_path / "m.json"
    path.write_text(json.dumps(body).replace('"HERE"', HURTFUL[what]))
    refused(lambda: Method.load(path), "m.json")


def cut_and_foreign(whole: bytes) -> Iterator[tuple[str, bytes]]:
    yield "cut", whole[: len(whole) // 2]
    yield "empty", b""
    yield "no text", b"\xff\xfe" + whole
    yield "with a NUL", whole.replace(b'"name"', b'"na\0me"', 1)


def test_a_cut_or_foreign_method_or_region_file_is_refused(tmp_path: Path) -> None:
    method, regions = tmp_path / "m.json", tmp_path / "r.json"
    METHOD.save(method)
    shape = RectangleShape(x=5, y=5, width=3, height=3)
    save_regions(regions, "cell", [DrawnRegion(shape=shape, name="one")])
    for path, read in ((method, Method.load), (regions, load_regions)):
        for _, content in cut_and_foreign(path.read_bytes()):
            path.write_bytes(content)
            refused(lambda read=read, path=path: read(path), path.name)


@pytest.mark.parametrize("what", HURTFUL)
def test_hurtful_regions_are_refused(tmp_path: Path, what: str) -> None:
    path = tmp_path / "r.json"
    begin = '{"format": "rilievo-regions", "version": 1, "regions": '
    path.write_text(begin + HURTFUL[what] + "}")
    refused(lambda: load_regions(path), "r.json")


def grid(rows: int, columns: int) -> dict[str, Any]:
    return {
        "kind": "grid",
        "rows": rows,
        "columns": columns,
        "first": [0, 0],
        "across": [9, 0],
        "down": [0, 9],
        "width": 1,
        "height": 1,
    }


@pytest.mark.parametrize(
    "shapes",
    [
        [grid(31_623, 31_623)],
        [grid(500, 500)] * 4000,
        [{"kind": "stencil", "rows": [[-900_000, 0, 900_000], [900_000, 0, 900_000]]}],
        [{"kind": "stencil", "rows": [[0, 5, 2]]}],
    ],
    ids=["10^9 cells", "10^9 cells in grids", "a stencil over all", "backwards"],
)
def test_more_regions_than_a_picture_has_are_refused(
    tmp_path: Path, shapes: list[dict[str, Any]]
) -> None:
    drawn = [{"shape": shape} for shape in shapes]
    path = tmp_path / "r.json"
    path.write_text(json.dumps({"format": "rilievo-regions", "version": 1, "regions": drawn}))
    refused(lambda: load_regions(path), "r.json")
    body = json.loads(METHOD.to_json())
    body["outlines"][0] |= {"source": "drawn", "drawn": drawn}
    path = tmp_path / "m.json"
    path.write_text(json.dumps(body))
    refused(lambda: Method.load(path), "m.json")


@pytest.mark.parametrize("read", [Method.load, load_regions, load_study], ids=lambda f: f.__name__)
@pytest.mark.parametrize("kind", ["folder", "pipe", "device", "long name"])
def test_what_is_no_file_is_refused_at_once(
    tmp_path: Path, read: Callable[[Path], object], kind: str
) -> None:
    path = tmp_path / "x.rilievo"
    if kind == "folder":
        path.mkdir()
    elif kind == "pipe":
        os.mkfifo(path)
    elif kind == "device":
        path = Path("/dev/zero")
    else:
        path = tmp_path / ("n" * 3000)
    refused(lambda: read(path), path.name[:50])


# -- changes at random


def _places(data: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    yield path
    if isinstance(data, dict | list):
        inner = data.items() if isinstance(data, dict) else enumerate(data)
        for key, value in inner:
            yield from _places(value, (*path, key))


BODY = json.loads(METHOD.to_json())
PLACES = sorted((p for p in _places(BODY) if p), key=repr)
STRANGE = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(10**30), 10**30),
    st.floats(),
    st.text(max_size=8),
    st.lists(st.integers(), max_size=3),
    st.dictionaries(st.text(max_size=4), st.integers(), max_size=2),
)


@settings(max_examples=400, deadline=None)
@given(st.sampled_from(PLACES), STRANGE)
def test_a_method_with_something_strange_in_it_is_read_or_refused(
    place: tuple[Any, ...], value: Any
) -> None:
    body = json.loads(json.dumps(BODY))
    inner = body
    for key in place[:-1]:
        inner = inner[key]
    inner[place[-1]] = value
    for version in (1, 2, 3, body["version"]):
        if place != ("version",):
            body["version"] = version
        try:
            found = Method.from_json(json.dumps(body), Path("/methods"))
        except RilievoError as exc:
            assert str(exc)
        else:
            assert Method.from_json(found.to_json()) == found


# -- studies


@pytest.fixture
def study(tmp_path: Path, write_tiff: Callable[..., Path]) -> Path:
    image = write_tiff("a.tif", np.ones((5, 6), np.uint16))
    entries = (
        SampleEntry(image, "a", id=1, group="g", attributes={"dose": "3"}),
        SampleEntry(image, "b", id=2),
    )
    path = tmp_path / "s.rilievo"
    save_study(StudyState("s", entries, METHOD), path)
    return path


def change(path: Path, *statements: str) -> None:
    with closing(sqlite3.connect(path)) as database:
        for statement in statements:
            database.executescript(statement)
        database.commit()


DEEP = nested(1000, "list")
STATEMENTS = {
    "a list for a map": "UPDATE sample SET attributes = '[1]'",
    "deep attributes": f"UPDATE sample SET attributes = '{DEEP}'",
    "deep question": f"UPDATE study SET value = '{DEEP}' WHERE key = 'question'",
    "deep report": f"UPDATE study SET value = '{DEEP}' WHERE key = 'report'",
    "deep method": f"UPDATE study SET value = '{DEEP}' WHERE key = 'method'",
    "a question of text": "UPDATE study SET value = '\"x\"' WHERE key = 'question'",
    "no method": "DELETE FROM study WHERE key = 'method'",
    "no name": "DELETE FROM study WHERE key = 'name'",
    "a long number": f"UPDATE sample SET declared = '{{\"pixel_size\": {'9' * 5000}}}'",
    "declared of text": 'UPDATE sample SET declared = \'{"pixel_size": "x"}\'',
    "a NUL in a path": "UPDATE sample SET path = 'a' || char(0) || 'b' WHERE id = 1",
    "a long path": f"UPDATE sample SET path = '{'p' * 5000}'",
    "bytes for a path": "UPDATE sample SET path = x'ff00ff'",
    "an empty name": "UPDATE sample SET name = '' WHERE id = 1",
    "bytes for a name": "UPDATE sample SET name = x'ff00' WHERE id = 1",
    "a size of text": "UPDATE sample SET size = 'large'",
    "negative id": "UPDATE sample SET id = -5 WHERE id = 1",
    "planes of text": "INSERT INTO sample_part VALUES (1, 0, 'a.tif', 0, '3', '', NULL)",
    "deep planes": f"INSERT INTO sample_part VALUES (1, 0, 'a.tif', 0, '{DEEP}', '', NULL)",
    "a far image": "INSERT INTO sample_part VALUES (1, 0, 'a.tif', -7, NULL, '', NULL)",
    "a range of text": "INSERT INTO display_range VALUES (0, 'gray', 'native', 'x', 'y')",
    "an endless range": "INSERT INTO display_range VALUES (0, 'gray', 'native', 0, 9e999)",
    "a strange style": "INSERT INTO view_style VALUES (0, 'gray', '[]')",
    "a strange view": "INSERT INTO own_view VALUES (7)",
    "no table": "DROP TABLE sample",
    "no column": "ALTER TABLE sample DROP COLUMN attributes",
    "a view without end": (
        "DROP TABLE display_range; CREATE VIEW display_range AS WITH RECURSIVE n(sample) AS "
        "(SELECT 1 UNION ALL SELECT sample + 1 FROM n) SELECT sample, 'gray' AS channel, "
        "'native' AS lane, 0.0 AS low, 1.0 AS high FROM n"
    ),
    "another kind": "PRAGMA application_id = 7",
    "from the future": "PRAGMA user_version = 99",
    "a million samples": (
        "WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < 1000000) "
        "INSERT INTO sample SELECT i, i, 'x' || i, 'a.tif', 0, '', '', '', '{}', '{}' FROM n"
    ),
}


@pytest.mark.parametrize("what", [name for name in STATEMENTS if name != "a strange view"])
def test_a_hurtful_study_is_refused_in_one_sentence(study: Path, what: str) -> None:
    change(study, STATEMENTS[what])
    refused(lambda: load_study(study), "s.rilievo")


def test_a_view_of_a_sample_that_is_not_there_hurts_nothing(study: Path) -> None:
    change(study, STATEMENTS["a strange view"])
    assert [entry.name for entry in load_study(study)[0].samples] == ["a", "b"]


@pytest.mark.parametrize(
    "statement",
    [
        f"INSERT INTO history_method VALUES ('x', '{DEEP}')",
        "INSERT INTO history VALUES (0, 't', 'x', '', '[]', 'nowhere')",
        f"INSERT INTO history VALUES (0, 't', 'x', '', '{DEEP}', 'm')",
        "INSERT INTO history VALUES (0, 't', 'x', '', '[1, 2]', 'm')",
        "INSERT INTO history VALUES (0, x'ff', 'x', '', '[]', 'm')",
    ],
)
def test_a_hurtful_history_is_refused(study: Path, statement: str) -> None:
    with closing(sqlite3.connect(study)) as database:
        database.execute("INSERT INTO history_method VALUES ('m', ?)", (METHOD.to_json(),))
        database.commit()
    change(study, statement)
    refused(lambda: load_study(study).history, "s.rilievo")


@settings(
    max_examples=60,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
@given(data=st.data())
def test_a_study_with_damaged_bytes_is_read_or_refused(study: Path, data: st.DataObject) -> None:
    content = bytearray(study.read_bytes())
    for _ in range(data.draw(st.integers(1, 6))):
        start = data.draw(st.integers(0, len(content) - 1))
        length = data.draw(st.sampled_from([1, 1, 4, 64, 4096]))
        content[start : start + length] = data.draw(st.binary(min_size=length, max_size=length))
    damaged = study.with_name("damaged.rilievo")
    damaged.write_bytes(content)
    for read in (load_study,):
        try:
            read(damaged)
        except RilievoError as exc:
            assert "damaged.rilievo" in str(exc)


# -- packed studies


def packed(study: Path, tmp_path: Path) -> Path:
    path = tmp_path / "p.rilievo.zip"
    pack_study(replace(load_study(study)[0], method=Method()), path)
    return path


@pytest.mark.parametrize(
    "what", ["encrypted", "unknown packing", "long name", "many gigabytes", "cut", "two studies"]
)
def test_a_hurtful_packed_study_is_refused(study: Path, tmp_path: Path, what: str) -> None:
    path = packed(study, tmp_path)
    content = bytearray(path.read_bytes())
    central = content.index(b"PK\1\2")
    if what == "encrypted":
        content[central + 8] |= 1
        content[6] |= 1
    elif what == "unknown packing":
        content[central + 10 : central + 12] = content[8:10] = b"\x5f\0"
    elif what == "cut":
        del content[len(content) // 2 :]
    elif what == "many gigabytes":
        content[central + 24 : central + 28] = b"\xfe\xff\xff\xff"
        content = _with_many(content, central)
    path.write_bytes(content)
    if what in ("long name", "two studies"):
        name = "n" * 300 if what == "long name" else "another.rilievo"
        with zipfile.ZipFile(path, "a") as archive:
            archive.writestr(name, b"x")
    refused(lambda: unpack_study(path, tmp_path / "out"), "p.rilievo.zip")


def _with_many(content: bytearray, central: int) -> bytearray:
    """The first entry listed so often that no drive has room for all."""
    end = content.index(b"PK\5\6")
    first = content[central : content.index(b"PK\1\2", central + 4)]
    times = 30_000
    listed = content[central:end] + first * times
    tail = bytearray(content[end:])
    number = int.from_bytes(tail[8:10], "little") + times
    tail[8:10] = tail[10:12] = number.to_bytes(2, "little")
    tail[12:16] = len(listed).to_bytes(4, "little")
    return content[:central] + listed + tail


@settings(
    max_examples=60,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
@given(data=st.data())
def test_a_packed_study_with_damaged_bytes_is_read_or_refused(
    study: Path, tmp_path: Path, data: st.DataObject
) -> None:
    content = bytearray(packed(study, tmp_path).read_bytes())
    for _ in range(data.draw(st.integers(1, 4))):
        content[data.draw(st.integers(0, len(content) - 1))] = data.draw(st.integers(0, 255))
    damaged = tmp_path / "damaged.rilievo.zip"
    damaged.write_bytes(content)
    try:
        load_study(unpack_study(damaged, tmp_path / "out"))
    except RilievoError as exc:
        assert str(exc)
