from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas
import tifffile

from rilievo.core.method import step_edits
from rilievo.core.method.method import Method, step_use
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.study_report import study_contents
from rilievo.core.study.history import entry_for, history_frame
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from tests.core.helpers.history import two_steps

NOW = "2031-05-06T07:08:09+00:00"


def states() -> tuple[StudyState, StudyState]:
    state = StudyState("s").with_files([Path("/data/a-1.tif"), Path("/data/b-1.tif")])
    state = replace(state, method=two_steps())
    method = step_edits.with_parameters(state.method, "mesh", "a-1", tile=24.0)
    return state, replace(state, method=method)


def test_an_entry_says_what_when_and_for_whom() -> None:
    old, new = states()
    entry = entry_for("Move tile", NOW, old, new)
    assert (entry.time, entry.text, entry.sample) == (NOW, "Move tile", "a-1")
    assert entry.summary == "Only for a-1 · Background mesh: tile side: 32 px, as all → 24 px"
    assert entry.concerns("a-1")
    assert not entry.concerns("b-1")
    groups = entry_for("Group", NOW, old, old.with_groups({1: ("control", "7")}))
    assert [(d.what, d.one, d.other) for d in groups.changes] == [
        ("group", "a", "control"), ("replicate", "1", "7"),
    ]  # fmt: skip
    gone = entry_for("Remove", NOW, old, old.without([1]))
    assert [(d.what, d.other) for d in gone.changes] == [("a-1", "–")]
    assert groups.concerns("a-1")


def test_the_history_comes_back_from_the_study_file(tmp_path: Path) -> None:
    old, new = states()
    entries = (
        entry_for("First", NOW, StudyState("s"), old),
        entry_for("Second", NOW, old, new),
        entry_for("Third", NOW, new, new),
    )
    path = tmp_path / "s.rilievo"
    save_study(new, path, history=entries)
    assert load_study(path).history == entries
    assert load_study(path).state.method == new.method
    frame = history_frame(load_study(path).history).to_pandas()
    assert list(frame["change"].unique()) == ["First", "Second", "Third"]
    assert isinstance(frame, pandas.DataFrame)
    second = frame[frame["change"] == "Second"].iloc[0]
    assert (second["sample"], second["before"], second["after"]) == (
        "a-1",
        "32 px, as all",
        "24 px",
    )


def test_the_report_of_a_study_has_its_history_and_marks(tmp_path: Path) -> None:
    pixels = np.full((40, 40), 100, np.uint16)
    pixels[10:20, 10:20] = 900
    tifffile.imwrite(tmp_path / "a-1.tif", pixels)
    state = StudyState("s").with_files([tmp_path / "a-1.tif", tmp_path / "gone.tif"])
    method = Method(steps=(step_use("p", "curve.power"),))
    done = replace(state, method=method)
    entry = entry_for("Add power", NOW, state, done)
    write_outputs(study_contents(done, [entry]), tmp_path / "out")
    page = (tmp_path / "out" / "report.html").read_text()
    assert "Add power" in page
    assert NOW in page
    assert "not linear" in page
    assert "gone.tif" in page
    assert "Power, root or gamma" in (tmp_path / "out" / "history.csv").read_text()
    regions = pandas.read_csv(tmp_path / "out" / "regions.csv")
    assert regions["mean"].tolist() == [30.0]
    assert regions["marks"].tolist() == ["not linear"]
