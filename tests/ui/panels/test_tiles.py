"""The wall of tiles: a thousand samples sorted, filtered and walked through by keys."""

from __future__ import annotations

import threading
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QSettings, Qt
from pytestqt.qtbot import QtBot

from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.table.table import RegionTable
from rilievo.ui.panels.tiles import SIZES, TileStrip
from rilievo.ui.session.sample_order import summaries_of
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT

COUNT = 1000


@pytest.fixture
def wall(window: Window, tmp_path: Path) -> TileStrip:
    """A thousand samples whose files are not there: the wall needs no pixels."""
    proposals = [
        SampleRef(
            tmp_path / f"{group}-{k:03}.tif",
            f"{group}-{k:03}",
            group,
            attributes={"dose": f"{k % 7} mM"},
            replicate=str(k),
        )
        for k in range(COUNT // 4)
        for group in ("acid", "base", "ctrl", "salt")
    ]
    window.compute.store.residency.budget = 0
    window.session.change("Add", window.session.state.with_samples(proposals))
    return window.views.drawer.strip


def shown(wall: TileStrip) -> list[str]:
    return [tile.name for tile in wall.tiles]


@pytest.mark.slow
def test_a_thousand_samples_are_sorted_and_filtered(
    wall: TileStrip, window: Window, qtbot: QtBot
) -> None:
    bar = window.views.drawer.tile_bar
    assert len(wall.tiles) == COUNT
    assert len({tile.box.topLeft().x() for tile in wall.tiles}) < 30
    assert not any(
        a.box.intersects(b.box) for a, b in zip(wall.tiles, wall.tiles[1:], strict=False)
    )
    assert max(tile.box.right() for tile in wall.tiles) <= wall.width()
    qtbot.keyClicks(bar.field, "salt 3 mm")
    qtbot.waitUntil(lambda: len(wall.tiles) < COUNT, timeout=WAIT)
    wanted = [k for k in range(250) if "3" in f"salt-{k:03} {k} {k % 7} mM"]
    assert shown(wall) == [f"salt-{k:03}" for k in wanted]
    assert bar.count.text() == f"{len(wanted)} of 1000"
    bar.field.clear()
    qtbot.waitUntil(lambda: len(wall.tiles) == COUNT, timeout=WAIT)
    bar.order.setCurrentIndex(bar.order.findText("dose"))
    bar.order.activated.emit(bar.order.currentIndex())
    doses = [int(name[-3:]) % 7 for name in shown(wall)]
    assert doses == sorted(doses) and len(doses) == COUNT


@pytest.mark.slow
def test_labels_differ_within_a_group_and_keys_walk_the_wall(
    wall: TileStrip, window: Window, qtbot: QtBot
) -> None:
    acid = [tile.caption for tile in wall.tiles if tile.name.startswith("acid")]
    assert acid[:3] == ["000", "001", "002"] and len(set(acid)) == 250
    first = wall.tiles[0]
    window.session.focus.set(sample_id=first.sample_id)
    wall.setFocus()
    qtbot.keyClick(wall, Qt.Key.Key_Down)
    below = wall.tile(window.session.focus.sample_id or 0)
    assert below is not None
    assert below.box.left() == first.box.left() and below.box.top() > first.box.bottom()
    qtbot.keyClick(wall, Qt.Key.Key_Up)
    assert window.session.focus.sample_id == first.sample_id
    qtbot.keyClick(wall, Qt.Key.Key_Up)
    assert window.session.focus.sample_id == first.sample_id
    qtbot.keyClick(wall, Qt.Key.Key_End)
    last = wall.tiles[-1]
    assert window.session.focus.sample_id == last.sample_id
    # What is in focus is scrolled into view.
    assert wall.visibleRegion().boundingRect().contains(last.box.center())


def test_sizes_are_kept(study: Window, qtbot: QtBot) -> None:
    bar, wall = study.views.drawer.tile_bar, study.views.drawer.strip
    bar.sizes[SIZES[2]].trigger()
    assert {tile.box.width() for tile in wall.tiles} == {SIZES[2]}
    qtbot.waitUntil(
        lambda: all(t.image is not None and t.image.width() == SIZES[2] for t in wall.tiles),
        timeout=WAIT,
    )
    assert str(QSettings().value("tile size")) == str(SIZES[2])
    QSettings().remove("tile size")


def test_words_that_nothing_has_say_so(study: Window) -> None:
    wall = study.views.drawer.strip
    wall.show_as(words="zebra")
    assert wall.tiles == []
    wall.grab()
    wall.show_as(words="")
    assert len(wall.tiles) == 12


def test_sorting_by_a_summary_works_in_a_thread_and_follows_the_measurements(
    measured: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    wall, tables = measured.views.drawer.strip, measured.session.measurements.tables
    threads: list[threading.Thread] = []

    def noted(own: dict[int, RegionTable]) -> dict[int, dict[str, float]]:
        threads.append(threading.current_thread())
        return summaries_of(own)

    monkeypatch.setattr("rilievo.ui.panels.tiles.summaries_of", noted)
    counts = {table.sample: int(np.sum(table.of_class(0))) for table in tables.values()}
    assert len(set(counts.values())) > 1
    wall.show_as(order="summary:region_count")
    fallen = sorted(counts.values(), reverse=True)
    qtbot.waitUntil(lambda: [counts.get(name) for name in shown(wall)] == fallen, timeout=WAIT)
    # Another width does not count anew.
    done = len(threads)
    wall.resize(wall.width() - 120, wall.height())
    assert len(threads) == done
    # Measurements that are gone order nothing any more; those that come do.
    first = next(iter(tables))
    kept = tables.pop(first)
    measured.session.measurements.changed.emit()
    qtbot.waitUntil(lambda: shown(wall)[-1] == kept.sample, timeout=WAIT)
    tables[first] = kept
    measured.session.measurements.changed.emit()
    qtbot.waitUntil(lambda: [counts.get(name) for name in shown(wall)] == fallen, timeout=WAIT)
    assert threads and threading.main_thread() not in threads
