"""Results are named by the code of every package that they need."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from rilievo.core.batch.result_keys import ResultKeys, packages
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.method.method import Measure, Method
from rilievo.core.registry import Provider, Registry
from tests.outlines import outline

METHOD = Method(outlines=(outline(200.0),), measure=Measure(quantities=("mean", "area")))
ITEM = SampleRef(Path("a.tif"), "a")


def test_own_entries_need_no_package() -> None:
    assert packages(METHOD) == []


@pytest.mark.parametrize("key", ["mean", "hand", "tiff"])
def test_an_updated_package_gives_new_names(key: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A quantity, a threshold and a reader of a package from elsewhere, which changes."""
    plain = ResultKeys(METHOD).of(ITEM)
    provider = Provider("extras", "1.0", "aaa")
    known = Registry.provider

    def of(registry: Registry[object], name: str) -> Provider:
        return provider if name == key else known(registry, name)

    monkeypatch.setattr(Registry, "provider", of)
    assert packages(METHOD) == [["extras", "1.0", "aaa"]]
    first = ResultKeys(METHOD).of(ITEM)
    provider = replace(provider, content="bbb")
    second = ResultKeys(METHOD).of(ITEM)
    provider = replace(provider, version="1.1")
    assert len({plain, first, second, ResultKeys(METHOD).of(ITEM)}) == 4
