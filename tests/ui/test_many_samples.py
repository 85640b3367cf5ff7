"""A study of many samples: what is looked at comes first, and the window goes on answering."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from rilievo.core.cache import BudgetCache
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.panels.ridge_raster import raster_of
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT
from tests.ui.opening import open_study

COUNT = 130


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """Small fields with a bright square each, in two groups; the last file is no image."""
    folder = tmp_path_factory.mktemp("many")
    rng = np.random.default_rng(1)
    for k in range(COUNT):
        values = rng.normal(200, 10, (48, 64))
        values[10:20, 5 + k % 40 : 15 + k % 40] += 400
        tifffile.imwrite(folder / f"{'ab'[k % 2]}-{k // 2 + 1:03}.tif", values.astype(np.uint16))
    (folder / "z.tif").write_text("no image")
    return sorted(folder.iterdir())


@pytest.fixture
def full(window: Window, many: list[Path], qtbot: QtBot) -> Window:
    window.commands.images.add(many)
    qtbot.waitUntil(lambda: len(window.session.state.samples) == COUNT, timeout=WAIT)
    return window


def all_known(window: Window) -> bool:
    samples = window.session.state.samples
    known = all(window.compute.queue.current(entry.id) is not None for entry in samples)
    return known and window.jobs.idle


@pytest.fixture
def computed(monkeypatch: pytest.MonkeyPatch) -> Counter[bool]:
    """How many kept results were computed, by whether it was on the interface thread."""
    counted: Counter[bool] = Counter()
    get = BudgetCache.get

    def watched(
        cache: BudgetCache, key: Hashable, compute: Callable[[], Any], size: Callable[[Any], int]
    ) -> Any:
        def told() -> Any:
            counted[threading.current_thread() is threading.main_thread()] += 1
            return compute()

        return get(cache, key, told, size)

    monkeypatch.setattr(BudgetCache, "get", watched)
    return counted


@pytest.mark.slow
def test_nothing_is_computed_on_the_interface_thread_while_many_samples_come_in(
    computed: Counter[bool], full: Window, qtbot: QtBot
) -> None:
    # How long the window is silent is measured by bench/bench_scale.py.
    qtbot.waitUntil(lambda: full.views.area.picture.image is not None, timeout=WAIT)
    last = full.session.state.samples[-1]
    full.session.focus.set(sample_id=last.id)
    qtbot.waitUntil(lambda: last.id in full.compute.store.samples, timeout=WAIT)
    full.session.go_to("outline")
    qtbot.waitUntil(lambda: all_known(full), timeout=WAIT)
    assert computed[False] > COUNT
    assert computed[True] == 0
    assert "z.tif" in full.views.notice.text


@pytest.mark.slow
def test_ridges_of_many_samples_are_one_picture(
    full: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    qtbot.waitUntil(lambda: all_known(full), timeout=WAIT)
    ridges = full.views.ridges
    qtbot.waitUntil(lambda: len(ridges.rows) == COUNT, timeout=WAIT)
    assert not ridges.curves
    picture = ridges.raster.image.image
    assert picture.shape[0] == COUNT
    # The first sample is on top, which is the last row of the picture.
    row = ridges.rows[0]
    low, high = ridges._range
    width = (high - low) / picture.shape[1]
    levels = low + (np.arange(picture.shape[1]) + 0.5) * width
    strongest = levels[int(picture[-1, :, 3].argmax())]
    assert strongest == pytest.approx(row.histogram.quantile(0.5), abs=25)
    # Fewer samples are hills again.
    gone = [entry.id for entry in full.session.state.samples[20:]]
    full.session.focus.set(sample_id=gone[0])
    full.session.focus.choose_also(gone)
    full.commands.selection.remove_samples()
    qtbot.waitUntil(lambda: 0 < len(ridges.rows) <= 21, timeout=WAIT)
    qtbot.waitUntil(lambda: len(ridges.curves) == len(ridges.rows), timeout=WAIT)
    assert ridges.raster.image.scene() is None


@pytest.mark.slow
def test_a_large_study_is_read_in_a_thread_and_given_back(
    full: Window, qtbot: QtBot, tmp_path: Path
) -> None:
    qtbot.waitUntil(lambda: all_known(full), timeout=WAIT)
    path = tmp_path / "many.rilievo"
    assert full.commands.study.save_to(path)
    qtbot.waitUntil(lambda: path.is_file() and full.jobs.idle, timeout=WAIT)
    full.commands.study.new()
    qtbot.waitUntil(lambda: full.jobs.idle, timeout=WAIT)
    assert not full.compute.store.samples
    assert full.compute.cache.held == 0
    open_study(full, path)
    assert len(full.session.state.samples) == COUNT
    qtbot.waitUntil(lambda: all_known(full), timeout=WAIT)


def test_what_is_looked_at_overtakes_the_background(qtbot: QtBot) -> None:
    jobs, gate, done = Jobs(threads=1), threading.Event(), []
    jobs.run("first", lambda: gate.wait(10), done.append, background=True)
    for number in range(5):
        jobs.run(f"load {number}", lambda n=number: n, done.append, background=True)
    # The one that is looked at has a thread that the background never takes.
    jobs.bring_forward("load 3")
    jobs.run("picture", lambda: "picture", done.append)
    qtbot.waitUntil(lambda: len(done) == 2, timeout=WAIT)
    assert done == [3, "picture"]
    assert jobs.is_busy("load 4")
    jobs.bring_forward("nothing")
    gate.set()
    qtbot.waitUntil(lambda: jobs.idle, timeout=WAIT)
    assert done[2:] == [True, 0, 1, 2, 4]
    jobs.close()


def test_a_raster_is_as_opaque_as_it_is_high() -> None:
    picture = raster_of(np.array([[0.0, 0.5, 1.0], [0.2, 0.0, 0.1]]), ["#102030", "#ff0000"])
    assert picture.shape == (2, 3, 4)
    assert picture[0, 0].tolist() == [16, 32, 48, 0]
    assert picture[1, 0, :3].tolist() == [255, 0, 0]
    assert 0 < picture[1, 2, 3] < picture[1, 0, 3] < picture[0, 1, 3] < picture[0, 2, 3] == 245


def test_the_sheet_scrolls_through_many_samples_in_the_order_of_the_tiles(
    full: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    action = full.menus.actions["view.sheet"]
    qtbot.waitUntil(action.isEnabled, timeout=WAIT)
    action.trigger()
    sheet = full.views.area.sheet
    qtbot.waitUntil(lambda: bool(sheet.cells) and sheet.bar.isVisible(), timeout=WAIT)
    some = len(sheet.cells)
    assert some < COUNT
    qtbot.waitUntil(lambda: all(cell.image is not None for cell in sheet.cells), timeout=WAIT)
    last = full.session.state.samples[-1]
    assert last.id not in {cell.key[0] for cell in sheet.cells}
    full.session.focus.set(sample_id=last.id)
    assert last.id in {cell.key[0] for cell in sheet.cells}
    qtbot.keyClick(sheet, Qt.Key.Key_PageUp)
    assert last.id not in {cell.key[0] for cell in sheet.cells}
    full.views.drawer.strip.show_as(words="b-06")
    settle()
    assert [cell.name for cell in sheet.cells] == [f"b-06{k}" for k in range(6)]
    assert not sheet.bar.isVisible()
