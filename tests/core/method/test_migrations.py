from __future__ import annotations

import json

from rilievo.core.method import step_edits
from rilievo.core.method.method import Method, step_use


def test_an_older_method_with_one_patch_is_read() -> None:
    data = json.loads(Method(steps=(step_use("b", "background.patch"),)).to_json())
    data["version"] = 2
    patch = {"x": 1, "y": 2, "width": 3, "height": 4}
    data["steps"][0]["parameters"] = {"statistic": "mean", "patch": patch}
    data["steps"][0].pop("name")
    data["exceptions"] = {"s": {"parameters": {"b": {"patch": {**patch, "x": 9}}}}}
    method = Method.from_json(json.dumps(data))
    assert method.steps[0].parameters.model_dump()["patches"] == (patch,)
    assert step_edits.parameters_for(method, "b", "s").model_dump()["patches"][0]["x"] == 9
    data["steps"][0]["parameters"]["patch"] = None
    assert Method.from_json(json.dumps(data)).steps[0].parameters.model_dump()["patches"] == ()


def test_limits_of_the_first_version_become_a_step_of_the_clean_up() -> None:
    data = {
        "format": "rilievo-method", "version": 1, "name": "old",
        "outline": {"min_area": 12, "max_area": 90, "area_in": "px", "fill_holes": False},
    }  # fmt: skip
    (use,) = Method.from_json(json.dumps(data)).outline.clean
    limits = use.parameters.model_dump()
    assert use.cleaner == "keep"
    assert (limits["quantity"], limits["lower"], limits["upper"]) == ("area", 12, 90)
    data["outline"] = {"min_area": 0, "fill_holes": True}
    assert [use.cleaner for use in Method.from_json(json.dumps(data)).outline.clean] == [
        "fill_holes"
    ]
