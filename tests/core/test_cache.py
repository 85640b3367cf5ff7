from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor

import pytest

from rilievo.core.cache import BudgetCache


def test_least_recently_used_goes_first() -> None:
    cache, made = BudgetCache(budget=2), []

    def get(key: str) -> str:
        def compute() -> str:
            made.append(key)
            return key.upper()

        return cache.get(key, compute, lambda _: 1)

    assert [get(k) for k in "aabacb"] == ["A", "A", "B", "A", "C", "B"]
    assert made == ["a", "b", "c", "b"]
    assert cache.peek("a") is None
    assert cache.peek("c") == "C"


def test_one_result_larger_than_the_budget_is_still_given() -> None:
    cache = BudgetCache(budget=1)
    assert cache.get("x", lambda: "big", lambda _: 100) == "big"
    assert cache.peek("x") == "big"


def test_threads_that_ask_together_compute_once() -> None:
    cache, count = BudgetCache(100), []
    start = threading.Barrier(4)

    def slow() -> int:
        count.append(1)
        time.sleep(0.05)
        return 7

    def ask() -> int:
        start.wait()
        return cache.get("k", slow, lambda _: 1)

    with ThreadPoolExecutor(4) as pool:
        assert [f.result() for f in [pool.submit(ask) for _ in range(4)]] == [7] * 4
    assert len(count) == 1


def test_a_failure_is_not_kept() -> None:
    cache = BudgetCache(10)

    def fail() -> int:
        raise ValueError("no")

    with pytest.raises(ValueError, match="no"):
        cache.get("k", fail, lambda _: 1)
    assert cache.get("k", lambda: 3, lambda _: 1) == 3


def test_a_key_is_never_computed_twice_nor_counted_twice() -> None:
    """A thread that asks between the end of a computation and its storing must not begin anew."""
    cache, computed = BudgetCache(100), []
    asked = threading.Event()

    def compute() -> str:
        computed.append(1)
        return "made"

    def slow_size(_: str) -> int:
        # The result is there but not stored yet: another thread asks now and has time to act.
        asked.set()
        time.sleep(0.1)
        return 10

    with ThreadPoolExecutor(2) as pool:
        first = pool.submit(cache.get, "k", compute, slow_size)
        asked.wait()
        second = pool.submit(cache.get, "k", compute, lambda _: 10)
        assert first.result() == second.result() == "made"
    assert len(computed) == 1
    assert cache.held == 10


def test_the_budget_is_kept_by_many_threads() -> None:
    cache = BudgetCache(50)

    def ask(k: int) -> int:
        return cache.get(k % 9, lambda: k % 9, lambda _: 10)

    with ThreadPoolExecutor(8) as pool:
        assert list(pool.map(ask, range(2000))) == [k % 9 for k in range(2000)]
    assert cache.held <= 50


def test_who_waits_for_what_fails_computes_anew() -> None:
    cache, begun = BudgetCache(10), threading.Event()

    def fail() -> int:
        begun.set()
        time.sleep(0.05)
        raise ValueError("no")

    with ThreadPoolExecutor(2) as pool:
        first = pool.submit(cache.get, "k", fail, lambda _: 1)
        begun.wait()
        second = pool.submit(cache.get, "k", lambda: 3, lambda _: 1)
        with pytest.raises(ValueError, match="no"):
            first.result()
        assert second.result() == 3


def test_a_smaller_budget_drops_what_was_used_longest_ago() -> None:
    cache = BudgetCache(30)
    for key in "abc":
        cache.get(key, lambda key=key: key, lambda _: 10)
    cache.get("a", lambda: "again", lambda _: 10)
    cache.budget = 20
    assert [cache.peek(key) for key in "abc"] == ["a", None, "c"]
    assert cache.held == 20


def test_what_only_one_sample_used_goes_a_turn_after_it() -> None:
    cache, made = BudgetCache(100), []

    def get(key: str) -> None:
        cache.get(key, lambda: made.append(key) or key, lambda _: 1)

    for sample in "abc":
        cache.advance()
        get("frame")
        get(sample)
    # The one before is dropped only once the next is done: who shares it shows then.
    assert made == ["frame", "a", "b", "c"]
    assert [key for key in ("frame", "a", "b", "c") if cache.peek(key)] == ["frame", "b", "c"]
    assert cache.held == 3
    cache.advance()
    cache.advance()
    assert cache.held == 0


def test_a_result_beyond_the_budget_goes_with_its_turn() -> None:
    cache = BudgetCache(1)
    cache.get("x", lambda: "big", lambda _: 100)
    cache.advance()
    assert cache.peek("x") == "big"
    cache.advance()
    assert cache.peek("x") is None
