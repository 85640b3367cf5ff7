from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.study.resident_samples import choose_resident


def test_all_are_held_when_they_fit_the_focused_one_first() -> None:
    assert choose_resident({1: 10, 2: 10, 3: 10}, 3, 100) == [3, 1, 2]
    assert choose_resident({}, None, 100) == []


def test_of_many_the_focus_its_neighbours_and_some_of_all() -> None:
    sizes = dict.fromkeys(range(1000), 1000)
    chosen = choose_resident(sizes, 500, 100_000)
    assert chosen[0] == 500
    assert {499, 501, 492, 508} <= set(chosen)
    assert len(chosen) <= 40
    # Every part of the study is seen somewhere.
    for part in range(0, 1000, 100):
        assert any(part <= one < part + 100 for one in chosen)


@given(st.integers(1, 400), st.integers(0, 400), st.integers(1, 10_000))
def test_memory_is_bounded_and_the_focus_always_held(count: int, focus: int, room: int) -> None:
    sizes = dict.fromkeys(range(count), 100)
    chosen = choose_resident(sizes, focus % count, room)
    assert chosen[0] == focus % count
    assert len(set(chosen)) == len(chosen)
    assert len(chosen) * 100 * 2.5 <= max(room, 4 * 250 + 250)


def test_samples_that_are_seen_are_held_before_others() -> None:
    sizes = dict.fromkeys(range(1000), 1000)
    seen = list(range(300, 320))
    chosen = choose_resident(sizes, 500, 100_000, seen)
    assert chosen[:21] == [500, *seen]
    assert len(chosen) == 40
    assert choose_resident(sizes, 500, 10_000, seen) == [500, 300, 301, 302]
    assert choose_resident({1: 10, 2: 10, 3: 10}, 3, 100, [2]) == [3, 2, 1]
