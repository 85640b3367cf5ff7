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
