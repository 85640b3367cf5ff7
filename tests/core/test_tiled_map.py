from __future__ import annotations

import threading

import pytest

from rilievo.core.tiled_map import WORTH_THREADS, in_pieces


def test_pieces_come_back_in_order_whoever_worked_on_them() -> None:
    for values in (10, WORTH_THREADS):
        assert in_pieces(lambda k: k * k, range(50), values=values) == [k * k for k in range(50)]


def test_an_error_in_a_piece_reaches_the_caller() -> None:
    def work(piece: int) -> int:
        if piece == 3:
            raise ValueError("three")
        return piece

    with pytest.raises(ValueError, match="three"):
        in_pieces(work, range(9), values=WORTH_THREADS)


def test_many_callers_share_the_pieces() -> None:
    found: list[list[int]] = [[] for _ in range(6)]

    def call(k: int) -> None:
        found[k] = in_pieces(lambda piece: piece + k, range(200), values=WORTH_THREADS)

    threads = [threading.Thread(target=call, args=(k,)) for k in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found == [[piece + k for piece in range(200)] for k in range(6)]
