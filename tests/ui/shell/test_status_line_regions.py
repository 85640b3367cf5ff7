"""The read-out of regions that were found with a class which is undone by now."""

from __future__ import annotations

import pytest

from rilievo.core.regions.region_set import CLASS_STRIDE
from rilievo.ui.shell.window import Window


@pytest.mark.parametrize("index", [0, 3])
def test_a_region_of_a_class_that_is_gone_has_no_class(
    study: Window, index: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    study.session.go_to("outline")
    regions = study.compute.regions
    monkeypatch.setattr(regions, "at", lambda *_: index * CLASS_STRIDE + 7)
    monkeypatch.setattr(regions, "containing", lambda _: None)
    study.views.status.point_at((3, 4))
    assert study.views.status.texts()["region"] == "region 7"
