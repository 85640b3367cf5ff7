"""Methods in words and side by side, the history of a study, the library, written planes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pytest
import tifffile
from astropy.io import fits

from rilievo.core.errors import FileUnreadable, MethodError, UnsupportedKind
from rilievo.core.files import read_sample
from rilievo.core.files.writer import write_plane
from rilievo.core.image.calibration_frames import Frames
from rilievo.core.image.image import Calibration, Plane, Sample, plane_from_native
from rilievo.core.method import step_edits
from rilievo.core.method.describe import shown_value, summary_of, told
from rilievo.core.method.diff import compared, differences
from rilievo.core.method.library import kept, own_methods, removed, shipped
from rilievo.core.method.method import Method, SampleException, step_use
from rilievo.core.method.picks import Pick
from rilievo.core.parameters import Rectangle
from rilievo.core.pipeline.evaluator import Evaluator, coarse_level
from rilievo.core.pipeline.thumbnails import ends_of, glimpses
from rilievo.core.report.study_report import study_contents, write_results
from rilievo.core.study.history import entry_for, history_frame
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_history, load_study, save_study
from rilievo.core.view.render import Looks
from rilievo.core.view.sampling import Viewport
from tests.outlines import reject

NOW = "2031-05-06T07:08:09+00:00"


def two_steps() -> Method:
    return Method(
        steps=(
            step_use("mesh", "background.mesh", tile=32),
            step_use("smooth", "smooth.gaussian", sigma=2.0),
        )
    )


# -- words


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (None, "–"),
        ((), "–"),
        (True, "yes"),
        (64.0, "64 px"),
        ("subtracted", "subtracted"),
        (Rectangle(x=1, y=2, width=3, height=4), "3 × 4 px at 1, 2"),
        (Frames.model_validate({"files": [{"file": "/a/d1.fits"}]}), "d1.fits"),
        (
            Frames.model_validate({"files": [{"file": f"/a/d{k}.fits"} for k in range(8)]}),
            "median of d0.fits, d1.fits, d2.fits, d3.fits, d4.fits, d5.fits and 2 more",
        ),
        ("x" * 500, "x" * 159 + "…"),
    ],
)
def test_values_are_written_as_people_write_them(value: Any, text: str) -> None:
    assert shown_value(value, "px" if isinstance(value, float) else "") == text


def test_a_step_in_one_line_and_what_it_told() -> None:
    use = two_steps().steps[0]
    assert summary_of(use) == "tile side 32 px"
    assert summary_of(step_use("a", "curve.log")) == "as it is when added"
    numbers = {"level": 240.04, "standard_error": float("nan"), "range": 0.0, "tilt": 0.0,
               "negative": 0.0, "undefined": 3.0}  # fmt: skip
    assert told(numbers, lambda v: f"{v:.4g}") == ["level 240 counts", "3 px newly undefined"]


# -- side by side


def said(one: Method, other: Method) -> list[tuple[str, str, str, str]]:
    return [(d.part, d.what, d.one, d.other) for d in differences(one, other)]


def test_nothing_differs_from_itself() -> None:
    method = two_steps()
    assert differences(method, method) == []
    assert len(compared(method, method)) > 20


def test_a_changed_parameter_is_the_only_difference() -> None:
    method = two_steps()
    changed = step_edits.with_parameters(method, "mesh", tile=48.0)
    assert said(method, changed) == [("Background mesh", "Tile side", "32 px", "48 px")]
    renamed = step_edits.with_use(method, "mesh", name="Lamp")
    assert said(method, renamed) == [("Background mesh", "Name", "Background mesh", "Lamp")]
    off = step_edits.with_use(method, "smooth", on=False)
    assert said(method, off) == [("Gaussian smoothing", "On", "–", "no")]
    moved = step_edits.moved(method, "smooth", 0)
    assert [line[:2] for line in said(method, moved)] == [("Steps", "Order")]


def test_steps_of_another_study_are_paired_by_their_kind() -> None:
    other = Method(steps=(step_use("m2", "background.mesh", tile=32), step_use("p", "curve.log")))
    lines = said(two_steps(), other)
    assert ("Gaussian smoothing", "The step", "in it", "not in it") in lines
    assert ("Logarithm", "The step", "not in it", "in it") in lines
    assert not [line for line in lines if line[0] == "Background mesh"]


def test_exceptions_and_picks_name_their_sample() -> None:
    method = two_steps()
    apart = step_edits.with_parameters(method, "mesh", "field 3", tile=16.0)
    apart = apart.with_exception(
        "field 3",
        SampleException(parameters=apart.exceptions["field 3"].parameters, edits=reject((1, 2))),
    )
    picked = apart.changed(picks=(Pick(number=1, x=3, y=4, sample="field 9"),))
    found = differences(method, picked)
    assert [(d.what, d.other, d.sample) for d in found] == [
        ("Background mesh: tile side", "16 px", "field 3"),
        ("Regions changed by hand", "1", "field 3"),
        ("Pick 1", "1 px square at 3, 4", "field 9"),
    ]


def test_exceptions_of_a_step_that_is_another_one_elsewhere() -> None:
    method = step_edits.with_parameters(two_steps(), "mesh", "s", tile=16.0)
    other = Method(steps=(step_use("mesh", "curve.log"),))
    assert ("Only for s", "Background mesh: tile side", "16 px", "–") in said(method, other)
    taken = step_edits.taken_over(other, method)
    assert taken.exceptions == {}
    rejected = method.with_exception(
        "s", SampleException(parameters={"mesh": {"tile": 16.0}}, edits=reject((1, 2)))
    )
    assert step_edits.taken_over(other, rejected).exceptions["s"].edits == reject((1, 2))
    again = step_edits.taken_over(two_steps(), rejected)
    assert again.exceptions == rejected.exceptions


# -- editing


def test_an_exception_that_equals_the_common_setting_is_none() -> None:
    method = step_edits.with_parameters(two_steps(), "mesh", "s", tile=16.0)
    assert step_edits.samples_apart(method, "mesh") == {"s": {"tile": 16.0}}
    assert step_edits.parameters_for(method, "mesh", "s").model_dump()["tile"] == 16
    assert step_edits.parameters_for(method, "mesh", "t").model_dump()["tile"] == 32
    back = step_edits.with_parameters(method, "mesh", "s", tile=32.0)
    assert back.exceptions == {}


def test_a_copy_takes_its_exceptions_along_and_reset_clears_them() -> None:
    method = step_edits.with_parameters(two_steps(), "mesh", "s", tile=16.0)
    copied, copy_id = step_edits.duplicated(method, "mesh")
    assert [use.id for use in copied.steps] == ["mesh", copy_id, "smooth"]
    assert step_edits.samples_apart(copied, copy_id) == {"s": {"tile": 16.0}}
    plain = step_edits.reset(copied, "mesh")
    assert step_edits.samples_apart(plain, "mesh") == {}
    assert plain.steps[0].parameters.model_dump()["tile"] == 64
    assert step_edits.samples_apart(plain, copy_id) == {"s": {"tile": 16.0}}


@pytest.mark.parametrize(
    ("fields", "sentence"),
    [
        ({"tile": -3}, "Tile side must be between 2 and 4096 px. Got -3."),
        ({"tile": "wide"}, "Tile side must be between 2 and 4096 px. Got 'wide'."),
        (
            {"statistic": "most"},
            "Level of a tile should be 'median', 'mode' or 'mean'. Got 'most'.",
        ),
    ],
)
def test_a_wrong_value_is_explained(fields: dict[str, Any], sentence: str) -> None:
    with pytest.raises(MethodError) as caught:
        step_edits.with_parameters(two_steps(), "mesh", **fields)
    assert str(caught.value) == sentence


# -- history


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
        ("group", "A", "control"), ("replicate", "1", "7"),
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
    assert load_history(path) == entries
    assert load_study(path)[0].method == new.method
    frame = history_frame(load_history(path))
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
    write_results(done, [entry], tmp_path / "out", study_contents(done, [entry]))
    page = (tmp_path / "out" / "report.html").read_text()
    assert "Add power" in page
    assert NOW in page
    assert "not linear" in page
    assert "gone.tif" in page
    assert "Power, root or gamma" in (tmp_path / "out" / "history.csv").read_text()
    regions = pandas.read_csv(tmp_path / "out" / "regions.csv")
    assert regions["mean"].tolist() == [30.0]
    assert regions["marks"].tolist() == ["not linear"]


# -- the library


def test_shipped_methods_are_valid_and_readable() -> None:
    methods = {named.name: named.load() for named in shipped()}
    assert list(methods) == [
        "Brightfield with flat", "Photographed specimens", "Star field", "Uneven fluorescence",
    ]  # fmt: skip
    for name, method in methods.items():
        assert method.name == name
        assert method.steps
        assert Method.from_json(method.to_json()) == method


def test_own_methods_are_kept_listed_and_removed(tmp_path: Path) -> None:
    method = step_edits.with_parameters(two_steps(), "mesh", "s", tile=16.0)
    named = kept(method, " Mine ", tmp_path / "library")
    assert [m.name for m in own_methods(tmp_path / "library")] == ["Mine"]
    loaded = named.load()
    assert loaded.name == "Mine"
    assert loaded.exceptions == {}
    assert loaded.steps == method.steps
    removed(named)
    assert own_methods(tmp_path / "library") == []
    assert own_methods(tmp_path / "nowhere") == []
    with pytest.raises(MethodError, match="stays"):
        removed(shipped()[0])


@pytest.mark.parametrize("name", ["", "  ", "a/b", "..", ".x", "x" * 101, "a\nb"])
def test_names_that_no_file_can_have_are_refused(name: str, tmp_path: Path) -> None:
    with pytest.raises(MethodError, match="A name needs"):
        kept(Method(), name, tmp_path)
    assert list(tmp_path.iterdir()) == []


def test_a_library_that_cannot_be_written_says_so(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    with pytest.raises(FileUnreadable):
        kept(Method(), "m", tmp_path / "file")


# -- written planes


@pytest.mark.parametrize("ending", [".tif", ".fits", ".npy", ""])
def test_a_plane_is_written_and_read_again(ending: str, tmp_path: Path) -> None:
    pixels = np.array([[-1.5, 2.25, np.nan], [4.0, 5.0, 6.0]], np.float32)
    write_plane(tmp_path / f"p{ending}", Plane(pixels, Calibration(0.5, "µm")))
    if ending == ".fits":
        np.testing.assert_array_equal(fits.getdata(tmp_path / "p.fits"), pixels)
    sample = read_sample(tmp_path / f"p{ending or '.tif'}")
    np.testing.assert_array_equal(sample.first.pixels, pixels)
    if ending == ".tif":
        assert sample.first.calibration.pixel_size == pytest.approx(0.5, rel=1e-6)


def test_a_plane_is_not_written_to_an_unknown_kind(tmp_path: Path) -> None:
    with pytest.raises(UnsupportedKind, match=r"\.tif, \.fits or \.npy"):
        write_plane(tmp_path / "p.jpg", Plane(np.zeros((2, 2), np.float32)))
    with pytest.raises(FileUnreadable):
        write_plane(tmp_path / "none" / "p.tif", Plane(np.zeros((2, 2), np.float32)))


# -- quick pictures

LOOKS = Looks(
    (0, 0, 0),
    (0, 0, 9),
    0.5,
    (255, 255, 255),
    (0, 0, 0),
    (8, 8, 8),
    (7, 7, 7),
    (9, 9, 0),
    (1, 2, 3),
)


def wide_sample(side: int = 900) -> Sample:
    y, x = np.mgrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j]
    values = 500 + 60 * x - 40 * y**2 + np.random.default_rng(0).normal(0, 4, x.shape)
    return Sample("s", {"gray": plane_from_native(values.round().astype(np.uint16))})


def test_small_pictures_show_what_a_step_does() -> None:
    found = glimpses(Evaluator(), wide_sample(), "gray", two_steps(), "mesh", (100, 60), LOOKS)
    assert list(found) == ["before", "after", "background"]
    assert {one.colours.shape for one in found.values()} == {(60, 100)}
    # Before and background lie about 500, what is left about 0.
    assert 400 < found["before"].ends[0] < found["background"].ends[1] < 620
    assert found["after"].ends[0] < 0 < found["after"].ends[1] < 50
    smooth = glimpses(Evaluator(), wide_sample(), "gray", two_steps(), "smooth", (9, 9), LOOKS)
    assert list(smooth) == ["before", "after"]


@pytest.mark.parametrize(
    ("values", "ends"), [(np.full(9, np.nan), (0.0, 1.0)), (np.full(9, 3.0), (2.5, 3.5))]
)
def test_ends_of_planes_without_a_range(values: np.ndarray, ends: tuple[float, float]) -> None:
    assert ends_of(values) == ends


@pytest.mark.parametrize("bottom_up", [False, True])
def test_the_visible_part_is_the_exact_result_but_for_the_background(bottom_up: bool) -> None:
    sample, evaluator = wide_sample(), Evaluator()
    view = Viewport(300.0, 200.0, 2.0, 240, 160, bottom_up=bottom_up)
    found = evaluator.visible(sample, "gray", two_steps(), view)
    assert found is not None
    pyramid, moved = found
    part = pyramid.levels[0]
    exact = evaluator.signal(sample, "gray", two_steps()).pixels
    top = 900 - 200 - 80 if bottom_up else 200
    wanted = exact[top : top + part.shape[0], 300 : 300 + part.shape[1]]
    assert part.shape == wanted.shape == (80, 120)
    # The background comes from a coarse level; it is smooth.
    assert np.abs(part - wanted).max() < 2.5
    assert (moved.left, moved.top) == (0, 0)


def test_what_has_to_see_everything_waits() -> None:
    sample, evaluator = wide_sample(), Evaluator()
    view = Viewport(300.0, 200.0, 2.0, 240, 160)
    equal = Method(steps=(step_use("e", "curve.equalise"),))
    assert evaluator.visible(sample, "gray", equal, view) is None
    # Seen from afar, the coarse level is all there is to see.
    afar = Viewport(0.0, 0.0, 0.2, 180, 180)
    assert coarse_level((900, 900)) == 1
    assert evaluator.visible(sample, "gray", two_steps(), afar) is None
