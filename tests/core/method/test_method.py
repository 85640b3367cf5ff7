from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from rilievo.core.errors import FileMissing, FileUnreadable, MethodError
from rilievo.core.method.class_definition import clean_use
from rilievo.core.method.method import MOST_STEPS, Method, SampleException, digest, step_use
from rilievo.demo.lipid import lipid_method
from tests.outlines import outline, reject

PATCH = {"x": 1, "y": 2, "width": 3, "height": 4}


def full_method() -> Method:
    method = Method(
        name="Everything – µ",
        steps=(
            step_use("a", "background.level", level=12.5),
            step_use("b", "background.patch", statistic="median", patches=[PATCH]),
        ),
        outlines=(
            outline(-3.25, channel="dye", keep="dark", clean=(clean_use("keep", upper=9.0),)),
            outline(
                region_class="mark",
                source="drawn",
                drawn=[{"shape": {"kind": "ring", "x": 3, "y": 4.5, "outer": 7}, "sample": "s 1"}],
            ),
            outline(
                region_class="around",
                source="derived",
                derivation={"operation": "ring", "a": "cell"},
            ),
        ),
    )
    exception = SampleException(
        parameters={"b": {"patches": [{**PATCH, "x": 9}]}}, edits=reject((4, 5), (6, 7))
    )
    return method.with_exception("s 1", exception)


def as_data(method: Method) -> dict[str, Any]:
    data: dict[str, Any] = json.loads(method.to_json())
    return data


@pytest.mark.parametrize("method", [Method(), full_method(), lipid_method()])
def test_json_gives_the_same_method_back(method: Method, tmp_path: Path) -> None:
    assert Method.from_json(method.to_json()) == method
    method.save(tmp_path / "m.json")
    loaded = Method.load(tmp_path / "m.json")
    assert loaded == method
    assert loaded.to_json() == method.to_json()
    assert digest(loaded) == digest(method)


def change(path: str, value: object) -> str:
    data = as_data(full_method())
    *way, last = path.split(".")
    index: Any = data
    for part in way:
        index = index[int(part)] if isinstance(index, list) else index[part]
    index[int(last) if isinstance(index, list) else last] = value
    return json.dumps(data)


@pytest.mark.parametrize(
    ("path", "value", "named"),
    [
        ("stepss", [], "stepss"),
        ("outlines.0.channell", 1, "outlines.0.channell"),
        ("outlines.0.connectivity", 6, "outlines.0.connectivity"),
        ("outlines.0.threshold.way", "magic", "magic"),
        ("outlines.0.threshold.parameters", {"levell": 1}, "levell"),
        ("outlines.0.clean.0.cleaner", "polish", "polish"),
        ("outlines.0.clean.0.parameters", {"lower": 10.0, "upper": 9.0}, "upper limit"),
        ("outlines.0.clean.0.parameters", {"quantity": "glow"}, "glow"),
        ("outlines.1.region_class", "cell", "same name"),
        ("outlines.1.drawn.0.shape.outer", -1, "outer"),
        ("outlines.1.drawn.0.shape.kind", "blob", "kind"),
        ("outlines.2.derivation.a", "around", "from itself"),
        ("outlines.2.derivation.a", "nowhere", "nowhere"),
        ("outlines", [], "outlines"),
        ("exceptions.s 1.edits.0.kind", "tickle", "kind"),
        ("steps.0.step", "background.magic", "background.magic"),
        ("steps.0.parameters", {"level": "x"}, "level"),
        ("steps.1.parameters.patches.0.width", 0, "width"),
        ("steps.1.id", "a", "same id"),
        ("measure.quantities", ["mean", "meann"], "meann"),
        ("measure.quantities", ["mean", "mean"], "twice"),
        ("exceptions.s 1.parameters", {"zzz": {}}, "zzz"),
        ("exceptions.s 1.parameters.b", {"patches": [{"x": 1}]}, "patches"),
        ("steps", [{"id": str(i), "step": "background.level"} for i in range(MOST_STEPS + 1)],
         "steps"),
        ("version", 99, "99"),
        ("version", "1", "version"),
        ("format", "other", "format"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_named(path: str, value: object, named: str) -> None:
    with pytest.raises(MethodError) as caught:
        Method.from_json(change(path, value))
    assert named in str(caught.value)


@pytest.mark.parametrize("text", ["", "{", "[]", "null", "3", '{"format": "rilievo-method"}'])
def test_text_that_is_no_method(text: str) -> None:
    with pytest.raises(MethodError):
        Method.from_json(text)


def test_nesting_without_end_is_refused() -> None:
    with pytest.raises(MethodError):
        Method.from_json("[" * 100_000)


def test_files_that_cannot_be_read_or_written(tmp_path: Path) -> None:
    with pytest.raises(FileMissing):
        Method.load(tmp_path / "none.json")
    (tmp_path / "binary.json").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(MethodError, match=r"binary\.json"):
        Method.load(tmp_path / "binary.json")
    with pytest.raises(FileUnreadable, match="choose a folder"):
        Method().save(tmp_path / "no folder" / "m.json")


def test_saving_leaves_nothing_beside(tmp_path: Path) -> None:
    Method().save(tmp_path / "m.json")
    Method(name="second").save(tmp_path / "m.json")
    assert [path.name for path in tmp_path.iterdir()] == ["m.json"]


def test_exceptions_fill_in_the_parameters_of_one_sample() -> None:
    method = full_method()
    own = method.steps_for("s 1", "dye")[1].parameters.model_dump()
    assert own["patches"][0]["x"] == 9
    assert own["statistic"] == "median"
    common = method.steps_for("another", "dye")[1].parameters.model_dump()
    assert common["patches"][0]["x"] == 1


def test_steps_that_are_off_or_for_other_channels_do_not_act() -> None:
    level = step_use("a", "background.level", level=1)
    method = Method(steps=(level.model_copy(update={"channels": ("dye",)}),))
    assert len(method.steps_for("s", "dye")) == 1
    assert method.steps_for("s", "other") == ()
    off = Method(steps=(level.model_copy(update={"on": False}),))
    assert off.steps_for("s", "dye") == ()


def test_removing_a_step_removes_its_exceptions() -> None:
    method = full_method().without_step("b")
    assert [use.id for use in method.steps] == ["a"]
    assert method.exceptions["s 1"].parameters == {}
    assert method.exceptions["s 1"].edits == reject((4, 5), (6, 7))


def test_an_exception_that_says_nothing_is_dropped() -> None:
    method = full_method().with_exception("s 1", SampleException())
    assert method.exceptions == {}


def test_names_and_picks_change_no_measurement() -> None:
    method = full_method()
    named = method.changed(
        name="Other", steps=(method.steps[0].model_copy(update={"name": "Lamp"}), method.steps[1])
    )
    assert named != method
    assert named.of_regions == method.of_regions
    assert named.changed(steps=method.steps[::-1]).of_regions != method.of_regions


def test_adding_and_replacing_steps() -> None:
    method = Method().with_step(step_use("a", "background.level", level=1))
    method = method.with_step(step_use("a", "background.level", level=2))
    assert [use.parameters.model_dump()["level"] for use in method.steps] == [2]
