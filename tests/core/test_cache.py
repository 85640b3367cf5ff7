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
