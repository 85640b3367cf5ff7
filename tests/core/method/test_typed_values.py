"""Values that are typed as NAME.PARAMETER=VALUE."""

from __future__ import annotations

from pathlib import Path

import pytest

from rilievo.core.errors import MethodError
from rilievo.core.method.class_definition import ClassDefinition, clean_use, hand_threshold
from rilievo.core.method.method import Method, step_use
from rilievo.core.method.typed_values import settable, with_typed_values

METHOD = Method(
    steps=(
        step_use("even", "background.mesh", tile=64),
        step_use("soft", "smooth.gaussian", sigma=1.0),
        step_use("softer", "smooth.gaussian", sigma=2.0),
    ),
    outlines=(
        ClassDefinition(
            region_class="cell", threshold=hand_threshold(300), clean=(clean_use("keep", lower=5),)
        ),
        ClassDefinition(region_class="nucleus"),
    ),
)


def test_steps_classes_cleanups_and_what_is_measured_are_set() -> None:
    made = with_typed_values(
        METHOD,
        [
            "even.tile=32",
            "background.mesh.on=false",
            'soft.channels=["dye"]',
            "cell.level=350.5",
            "cell.keep.lower=9",
            "cell.connectivity=4",
            "nucleus.factor=1.1",
            'measure.quantities=["area"]',
            "reading.undo_srgb=true",
        ],
    )
    assert made.steps[0].parameters.model_dump()["tile"] == 32
    assert (made.steps[0].on, made.steps[1].channels) == (False, ("dye",))
    assert made.outlines[0].threshold.parameters.model_dump()["level"] == 350.5
    assert made.outlines[0].clean[0].parameters.model_dump()["lower"] == 9
    assert (made.outlines[0].connectivity, made.outlines[1].threshold.factor) == (4, 1.1)
    assert made.measure.quantities == ("area",)
    assert made.reading.undo_srgb
    assert METHOD.outlines[0].connectivity == 8


def test_another_way_begins_with_its_own_parameters() -> None:
    made = with_typed_values(METHOD, ["cell.way=percentile", "cell.percent=90"])
    assert made.outlines[0].threshold.way == "percentile"
    assert made.outlines[0].threshold.parameters.model_dump() == {"percent": 90.0}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("even.tilt=3", "“even” has no “tilt”; did you mean “tile”?"),
        ("evne.tile=3", "no step or class “evne”; did you mean “even”?"),
        ("qq.tile=3", "there are even, background.mesh, soft"),
        ("even.tile", "write STEP.PARAMETER=VALUE"),
        ("tile=3", "write STEP.PARAMETER=VALUE"),
        ("smooth.gaussian.sigma=3", "is there 2 times; use the id: soft, softer"),
        ("even.tile=-4", "greater than"),
        ("cell.way=magic", "unknown threshold 'magic'"),
    ],
)
def test_what_is_wrong_is_said_with_the_nearest_name(text: str, said: str) -> None:
    with pytest.raises(MethodError) as refused:
        with_typed_values(METHOD, [text])
    assert said in str(refused.value)


def test_all_that_is_listed_can_be_set_to_what_it_is() -> None:
    import json  # noqa: PLC0415

    listed = settable(METHOD)
    assert listed["even.tile"] == 64
    assert listed["cell.level"] == 300
    for place, value in listed.items():
        if not place.startswith("smooth.gaussian"):
            assert with_typed_values(METHOD, [f"{place}={json.dumps(value)}"]) == METHOD, place


def test_paths_stand_for_a_frame_set(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    method = Method(steps=(step_use("dark", "frames.dark"),))
    one = with_typed_values(method, ["dark.dark=a.fits"])
    two = with_typed_values(method, ['dark.dark=["a.fits", "sub/b.fits"]'])
    frames = two.steps[0].parameters.model_dump()["dark"]
    assert [one["file"] for one in frames["files"]] == [
        str(tmp_path / "a.fits"), str(tmp_path / "sub" / "b.fits"),
    ]  # fmt: skip
    assert frames["combine"] == "median"
    assert len(one.steps[0].parameters.model_dump()["dark"]["files"]) == 1
