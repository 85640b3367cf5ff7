"""Counts and lists in words."""

from __future__ import annotations

import pytest

from rilievo.core.wording.lists import counted, enumerated


@pytest.mark.parametrize(
    ("count", "words"), [(0, "0 dishes"), (1, "1 dish"), (2, "2 dishes"), (-1, "-1 dishes")]
)
def test_one_is_singular(count: int, words: str) -> None:
    assert counted(count, "dish", "dishes") == words
    assert counted(count, "region").endswith("region" if count == 1 else "regions")


@pytest.mark.parametrize(
    ("words", "most", "text"),
    [
        ([], 0, ""),
        (["a"], 0, "a"),
        (["a", "b"], 0, "a and b"),
        (["a", "b", "c"], 0, "a, b and c"),
        (["a", "b", "c"], 3, "a, b and c"),
        (["a", "b", "c"], 2, "a, b and 1 more"),
        (["a", "b", "c"], 1, "a and 2 more"),
    ],
)
def test_lists_end_with_and(words: list[str], most: int, text: str) -> None:
    assert enumerated(words, most) == text
