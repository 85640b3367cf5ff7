from __future__ import annotations

import pytest

from rilievo.core.errors import MethodError
from rilievo.core.method import class_edits
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Method, SampleException, step_use
from rilievo.core.method.step_edits import with_parameters
from tests.outlines import reject


def test_classes_are_added_renamed_and_removed_with_what_follows_from_them() -> None:
    method = class_edits.added(Method(), "derived", "ring", "cell")
    assert method.outlines[1].derivation.a == "cell"
    assert method.outlines[1].clean == ()
    edited = method.with_exception("s", SampleException(edits=reject((1, 2))))
    renamed = class_edits.renamed(edited, 0, "alga")
    assert renamed.outlines[1].derivation.a == "alga"
    assert renamed.exceptions["s"].edits[0].region_class == "alga"
    with pytest.raises(MethodError, match="already"):
        class_edits.renamed(renamed, 1, "alga")
    with pytest.raises(MethodError, match="is made from"):
        class_edits.without(renamed, 0)
    alone = class_edits.without(renamed, 1)
    assert alone.class_names == ("alga",)
    with pytest.raises(MethodError, match="at least one"):
        class_edits.without(alone, 0)
    assert class_edits.without(class_edits.added(edited, "drawn"), 2).exceptions


def test_steps_follow_the_class_that_they_need() -> None:
    steps = (
        step_use("mesh", "background.mesh", outside="cell"),
        step_use("light", "arithmetic.light", inside="cell"),
        step_use("other", "background.mesh", outside="rest"),
    )
    method = Method(steps=steps, outlines=(ClassDefinition(), ClassDefinition(region_class="rest")))
    method = with_parameters(method, "other", "s", outside="cell")
    renamed = class_edits.renamed(method, 0, "alga")
    assert [use.parameters.regions_read() for use in renamed.steps] == ["alga", "alga", "rest"]
    assert renamed.exceptions["s"].parameters["other"] == {"outside": "alga"}
    with pytest.raises(MethodError, match="needs the class “alga”"):
        class_edits.without(renamed, 0)
