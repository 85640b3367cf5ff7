"""Lists that modules and other packages add themselves to."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor
from importlib.metadata import EntryPoint, EntryPoints
from pathlib import Path

import pytest

from rilievo.core import registry
from rilievo.core.registry import Registry


def make() -> Registry[str]:
    return Registry("thing", "rilievo.core.thresholds", "rilievo.things")


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
    assert list(EXTRA) == ["extra"]
    assert EXTRA["extra"] == "from elsewhere"


def test_threads_that_ask_first_together_all_see_the_whole_list(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    things, start = make(), threading.Barrier(6)

    def slowly() -> None:
        time.sleep(0.05)
        things.add("late", "LATE")

    monkeypatch.setattr(things, "_import_all", slowly)

    def ask() -> list[str]:
        start.wait()
        return list(things)

    with ThreadPoolExecutor(6) as pool:
        seen = [future.result() for future in [pool.submit(ask) for _ in range(6)]]
    assert seen == [["late"]] * 6


EXTRA = make()
