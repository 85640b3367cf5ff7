from __future__ import annotations

from pathlib import Path

import pytest

from rilievo.core.errors import FileUnreadable, MethodError
from rilievo.core.method import step_edits
from rilievo.core.method.library import delete_method, own_methods, save_method, shipped
from rilievo.core.method.method import Method
from tests.core.helpers.history import two_steps


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
    named = save_method(method, " Mine ", tmp_path / "library")
    assert [m.name for m in own_methods(tmp_path / "library")] == ["Mine"]
    loaded = named.load()
    assert loaded.name == "Mine"
    assert loaded.exceptions == {}
    assert loaded.steps == method.steps
    delete_method(named)
    assert own_methods(tmp_path / "library") == []
    assert own_methods(tmp_path / "nowhere") == []
    with pytest.raises(MethodError, match="stays"):
        delete_method(shipped()[0])


@pytest.mark.parametrize("name", ["", "  ", "a/b", "..", ".x", "x" * 101, "a\nb"])
def test_names_that_no_file_can_have_are_refused(name: str, tmp_path: Path) -> None:
    with pytest.raises(MethodError, match="A name needs"):
        save_method(Method(), name, tmp_path)
    assert list(tmp_path.iterdir()) == []


def test_a_library_that_cannot_be_written_says_so(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    with pytest.raises(FileUnreadable):
        save_method(Method(), "m", tmp_path / "file")
