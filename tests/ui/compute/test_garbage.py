"""Garbage is collected on the interface thread alone, however it was made."""

from __future__ import annotations

import gc
import threading

from pytestqt.qtbot import QtBot

from rilievo.ui.compute import garbage
from rilievo.ui.compute.garbage import Garbage
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT


class Held:
    """Holds itself; tells on which thread it was deleted."""

    def __init__(self, deleted: list[int]) -> None:
        self.me, self.deleted = self, deleted

    def __del__(self) -> None:
        self.deleted.append(threading.get_ident())


def test_what_a_thread_leaves_is_deleted_on_the_interface_thread(
    window: Window, qtbot: QtBot
) -> None:
    assert not gc.isenabled()
    deleted: list[int] = []

    def work() -> None:
        for _ in range(5_000):
            Held(deleted)

    window.jobs.run("some work", work, lambda _: None)
    qtbot.waitUntil(lambda: len(deleted) == 5_000, timeout=WAIT)
    assert set(deleted) == {threading.get_ident()}
    window.garbage.keep_all()
    assert gc.get_freeze_count() > 10_000
    window.close()
    assert gc.isenabled()
    assert gc.get_freeze_count() == 0


def test_the_oldest_are_gone_through_in_a_rest_or_when_it_is_high_time(qtbot: QtBot) -> None:
    now, idle = [0.0], [True]
    collector = Garbage(lambda: idle[0], clock=lambda: now[0])
    collector.timer.stop()
    try:

        def looks(count: int) -> None:
            for _ in range(count):
                gc.collect(1)

        gc.collect()
        deleted: list[int] = []
        Held(deleted)
        # Now it is among the oldest.
        held = Held(deleted)
        gc.collect()
        del held
        looks(garbage._LOOKS + 1)
        idle[0] = False
        collector.look()
        now[0] = 1.0
        idle[0] = True
        collector.look()
        assert len(deleted) == 1
        at_work = collector.timer.interval()
        now[0] = 5.0
        collector.look()
        assert len(deleted) == 2
        assert collector.timer.interval() > at_work
        held = Held(deleted)
        gc.collect()
        del held
        idle[0] = False
        looks(garbage._LOOKS + 1)
        collector.look()
        assert len(deleted) == 2
        looks(garbage._MOST_LOOKS)
        collector.look()
        assert len(deleted) == 3
        held = Held(deleted)
        gc.collect()
        del held
        idle[0] = True
        now[0] = 20.0
        collector.look()
        assert len(deleted) == 3
        collector.soon()
        collector.look()
        assert len(deleted) == 4
    finally:
        collector.close()
    assert gc.isenabled()
