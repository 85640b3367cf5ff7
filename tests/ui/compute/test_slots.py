"""A slot holds one piece of work; two parts of the window that share one drop each other's."""

from __future__ import annotations

import ast
from collections import defaultdict
from pathlib import Path

import rilievo.ui

SOURCE = Path(rilievo.ui.__file__).parent
# Written one after the other, whoever asks.
SHARED = {"f'write {path}'"}


def slots() -> dict[str, set[str]]:
    """The text of each slot → the modules that run something in it."""
    found: dict[str, set[str]] = defaultdict(set)
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if not isinstance(node, ast.Call) or not isinstance(node.func, ast.Attribute):
                continue
            owner = ast.unparse(node.func.value)
            if node.func.attr == "run" and owner.endswith(("jobs", "awaited")) and node.args:
                found[ast.unparse(node.args[0])].add(path.relative_to(SOURCE).as_posix())
    return found


def test_no_two_parts_share_a_slot() -> None:
    found = slots()
    assert len(found) > 40
    assert {
        slot: owners
        for slot, owners in found.items()
        if len(owners) > 1 and slot not in SHARED and slot != "slot"
    } == {}
