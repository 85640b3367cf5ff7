"""Lists that modules and other packages add themselves to."""

from __future__ import annotations

import subprocess
import sys
from importlib.metadata import EntryPoint, EntryPoints
from pathlib import Path

import pytest

from rilievo.core import registry
from rilievo.core.files import READERS
from rilievo.core.measure import QUANTITIES
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.registry import Registry


def make() -> Registry[str]:
    return Registry("thing", "rilievo.core.regions.thresholds", "rilievo.things")


def test_keys_keep_their_order_and_are_taken_once() -> None:
    things = make()
    things.add("b", "B")
    things.add("a", "A")
    assert list(things) == ["b", "a"]
    assert things.values() == ("B", "A")
    assert things["a"] == "A"
    assert "c" not in things
    with pytest.raises(ValueError, match="twice"):
        things.add("a", "again")


def test_other_packages_add_through_entry_points(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    (tmp_path / "elsewhere.py").write_text(
        "from tests.core.test_registry import EXTRA\nEXTRA.add('extra', 'from elsewhere')\n"
    )
    monkeypatch.syspath_prepend(tmp_path)
    point = EntryPoint("extra", "elsewhere", "rilievo.things")
    monkeypatch.setattr(registry, "_entry_points", lambda: EntryPoints([point]))
    EXTRA.discover()
    assert list(EXTRA) == ["extra"]
    assert EXTRA["extra"] == "from elsewhere"


@pytest.mark.parametrize(
    "first",
    [
        "rilievo.core.measure.quantities.shape",
        "rilievo.core.files.tiff",
        "rilievo.core.regions.thresholds.by_hand",
    ],
)
def test_the_order_does_not_depend_on_what_is_imported_first(first: str) -> None:
    code = (
        f"import {first}\n"
        "from rilievo.core.measure import QUANTITIES\n"
        "from rilievo.core.files import READERS\n"
        "from rilievo.core.regions.thresholds import THRESHOLDS\n"
        "print([*QUANTITIES, *READERS, *THRESHOLDS])"
    )
    found = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert found.stdout.strip() == str([*QUANTITIES, *READERS, *THRESHOLDS])


EXTRA = make()
