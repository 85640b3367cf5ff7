"""Batches through the window: paused, resumed, retried, watched; report and packed study."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest
from PyQt6.QtCore import QSettings
from pytestqt.qtbot import QtBot

from rilievo.core.batch import ResultStore
from rilievo.core.files.folder_watch import FolderWatch
from rilievo.core.table.table import region_frame
from rilievo.ui.compute.batch_runner import store_path
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT

pytestmark = pytest.mark.slow

Settle = Callable[[], None]
Add = Callable[..., Window]


@pytest.fixture
def images(write_tiff: Callable[..., Path]) -> list[Path]:
    rng = np.random.default_rng(4)
    paths = []
    for k in range(6):
        pixels = rng.integers(90, 110, (120, 120)).astype(np.uint16)
        for x, y in rng.integers(10, 100, (5, 2)):
            pixels[y : y + 9, x : x + 7] = 400 + 100 * (k % 2)
        paths.append(write_tiff(f"in/{'ab'[k % 2]}-{k // 2 + 1}.tif", pixels))
    return paths


def measure(window: Window, qtbot: QtBot, settle: Settle) -> None:
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        window.commands.measure.measure_all()
    settle()


def test_results_are_kept_as_they_finish_and_found_again(
    add: Add, images: list[Path], qtbot: QtBot, settle: Settle, tmp_path: Path
) -> None:
    window = add(*images)
    measure(window, qtbot, settle)
    assert len(window.session.measurements.tables) == 6
    assert store_path().is_file()
    before = region_frame(window.session.measurements.ordered_tables()).to_pandas()
    # As after a crash: nothing of it is in the study, all of it is in the file of results.
    window.session.measurements.tables.clear()
    fresh: list[bool] = []
    window.compute.batch.heard.connect(lambda _c, progress, _o: fresh.append(not progress.known))
    measure(window, qtbot, settle)
    assert fresh == [False] * 6
    assert region_frame(window.session.measurements.ordered_tables()).to_pandas().equals(before)


def test_pause_go_on_and_cancel(add: Add, images: list[Path], qtbot: QtBot, settle: Settle) -> None:
    window = add(*images)
    batch, card = window.compute.batch, window.views.measure.batch
    window.session.go_to("measure")
    # The focused sample is measured at once.
    qtbot.waitUntil(lambda: not batch.is_running and batch.done == 1, timeout=WAIT)
    window.commands.measure.measure_all()
    window.menus.actions["measure.pause"].trigger()
    assert batch.is_paused
    assert card.pause.text() == "Go on"
    assert window.views.status.pause.text() == "Go on"
    qtbot.waitUntil(lambda: "Paused after" in card.about.text(), timeout=WAIT)
    qtbot.wait(400)
    done = batch.done
    assert done < 6
    qtbot.wait(200)
    assert batch.done == done
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        card.pause.click()
    assert len(window.session.measurements.tables) == 6
    assert not batch.is_running
    window.session.measurements.tables.clear()
    window.commands.measure.measure_all()
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT) as ended:
        batch.cancel()
    assert ended.args == [False]
    settle()
    assert "cancelled" in window.views.notice.text


def test_failed_samples_are_listed_and_tried_again_alone(
    add: Add, images: list[Path], qtbot: QtBot, settle: Settle
) -> None:
    window = add(*images)
    whole = images[2].read_bytes()
    images[2].write_bytes(whole[:100])
    measure(window, qtbot, settle)
    card = window.views.measure.batch
    window.session.go_to("measure")
    assert len(window.session.measurements.tables) == 5
    assert card.failed.count() == 1
    assert "a-2" in card.failed.item(0).text()
    card.failed.itemClicked.emit(card.failed.item(0))
    assert window.session.focus.entry is not None
    assert window.session.focus.entry.name == "a-2"
    images[2].write_bytes(whole)
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        card.again.click()
    settle()
    assert len(window.session.measurements.tables) == 6
    assert card.failed.isHidden()


def test_processes_give_the_same_table_and_are_remembered(
    add: Add, images: list[Path], qtbot: QtBot, settle: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = add(*images)
    measure(window, qtbot, settle)
    before = region_frame(window.session.measurements.ordered_tables()).to_pandas()
    card = window.views.measure.batch
    card.jobs.setCurrentIndex(card.jobs.findData(2))
    card.jobs.activated.emit(card.jobs.currentIndex())
    assert window.compute.batch.jobs == 2
    assert str(QSettings().value("worker processes")) == "2"
    window.compute.batch.store().keep_within(0)
    window.session.measurements.tables.clear()
    measure(window, qtbot, settle)
    assert region_frame(window.session.measurements.ordered_tables()).to_pandas().equals(before)


def test_a_cluster_that_is_not_there_is_said(
    add: Add, images: list[Path], qtbot: QtBot, settle: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    from rilievo.core.batch import cluster  # noqa: PLC0415

    monkeypatch.setattr(cluster.Cluster.__init__, "__defaults__", (0.5,))
    window = add(*images[:2])
    card = window.views.measure.batch
    card.scheduler.setText("tcp://127.0.0.1:9")
    card.scheduler.editingFinished.emit()
    assert not card.jobs.isEnabled()
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT) as ended:
        window.commands.measure.measure_all()
    assert ended.args == [False]
    assert "There is no scheduler at “tcp://127.0.0.1:9”" in window.views.notice.text
    window.compute.batch.scheduler = ""


def test_where_results_cannot_be_kept_they_are_measured_all_the_same(
    add: Add, images: list[Path], qtbot: QtBot, settle: Settle
) -> None:
    store_path().parent.mkdir(parents=True)
    store_path().write_text("no file of results " * 50)
    window = add(*images[:2])
    measure(window, qtbot, settle)
    assert len(window.session.measurements.tables) == 2
    assert "for this session only" in window.views.notice.text


def test_a_watched_folder_grows_table_and_plot(
    window: Window, images: list[Path], qtbot: QtBot, settle: Settle
) -> None:
    folder = images[0].parent
    later = [(path, path.read_bytes()) for path in images[3:]]
    for path, _ in later:
        path.unlink()
    window.folder_watcher.start(folder, quiet=0.05)
    window.folder_watcher.timer.setInterval(80)
    assert window.menus.actions["study.watch"].isCheckable()
    qtbot.waitUntil(lambda: len(window.session.measurements.tables) == 3, timeout=WAIT)
    half, content = later[0]
    half.write_bytes(content[:200])
    qtbot.waitUntil(lambda: "waiting for" in window.views.status.watched.text(), timeout=WAIT)
    assert half.name in window.views.status.watched.text()
    for path, content in later:
        path.write_bytes(content)
    qtbot.waitUntil(lambda: len(window.session.measurements.tables) == 6, timeout=WAIT)
    assert "6 new" in window.views.status.watched.text()
    settle()
    window.session.go_to("compare")
    settle()
    assert [s.samples for s in window.views.compare.comparison.statistics] == [3, 3]  # type: ignore[union-attr]
    window.commands.watch.toggle()
    assert window.folder_watcher.folder is None
    assert window.views.status.watched.text() == ""


def test_a_look_that_lasts_longer_than_the_time_between_looks_loses_no_file(
    window: Window, images: list[Path], qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    look = FolderWatch.look

    def slow(watch: FolderWatch) -> list[Path]:
        new = look(watch)
        time.sleep(0.2)
        return new

    monkeypatch.setattr(FolderWatch, "look", slow)
    window.folder_watcher.timer.setInterval(10)
    window.folder_watcher.start(images[0].parent, quiet=0.0)
    qtbot.waitUntil(lambda: window.folder_watcher.taken == len(images), timeout=WAIT)
    window.folder_watcher.stop()


def test_more_samples_than_the_memory_holds_are_all_measured(
    window: Window, write_tiff: Callable[..., Path], qtbot: QtBot
) -> None:
    rng = np.random.default_rng(2)
    budget = window.compute.cache.budget
    paths = []
    for k in range(24):
        pixels = rng.integers(90, 110, (100, 100)).astype(np.uint16)
        pixels[20:30, 20 : 30 + k] = 500
        paths.append(write_tiff(f"many/{'ab'[k % 2]}-{k // 2 + 1}.tif", pixels))
    try:
        # Room for a quarter of them.
        window.compute.cache.budget = 6 * 100 * 100 * 2 * 5 // 2
        window.commands.images.add(paths)
        qtbot.waitUntil(
            lambda: len(window.compute.store.samples) >= 4 and window.jobs.idle, timeout=WAIT
        )
        assert len(window.compute.store.samples) < 12
        assert "are held in memory at a time" in window.views.notice.text
        assert window.compute.store.errors == {}
        with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
            window.commands.measure.measure_all()
        assert len(window.session.measurements.tables) == 24
        areas = [
            table.column("gray", "area").sum()
            for table in window.session.measurements.ordered_tables()
        ]
        assert sorted(areas) == [100.0 + 10 * k for k in range(24)]
        # A sample that is not held is read when it is looked at.
        last = window.session.state.samples[-1]
        window.session.focus.set(sample_id=last.id)
        qtbot.waitUntil(
            lambda: last.id in window.compute.store.samples and window.jobs.idle, timeout=WAIT
        )
        assert window.compute.store.focused is not None
        assert len(window.compute.store.samples) < 12
    finally:
        window.compute.store.set_budget(budget)


def test_the_report_is_put_together_and_written(
    measured: Window, qtbot: QtBot, settle: Settle, tmp_path: Path
) -> None:
    measured.session.go_to("compare")
    settle()
    measured.views.compare.shown.kind.button("violin").click()
    settle()
    measured.views.compare.keep.click()
    assert not measured.views.compare.keep.isEnabled()
    measured.menus.actions["study.report"].trigger()
    view = measured.views.report
    assert view.isVisible()
    listed = [view.questions.item(k).text() for k in range(view.questions.count())]
    kinds = ("dots", "factors", "violin")
    assert listed == [f"mean (lipid dye) by group, {kind}" for kind in kinds]
    view.questions.setCurrentRow(2)
    view.up.click()
    view.up.click()
    assert measured.session.state.report.questions[0].shown_as == "violin"
    for _ in range(2):
        view.questions.setCurrentRow(1)
        view.remove.click()
    assert len(measured.session.state.report.questions) == 1
    view.title.setText("What the algae hold")
    view.title.setModified(True)
    view.title.editingFinished.emit()
    view.note.setPlainText("Grown for five days.")
    view.boxes["pictures"].click()
    qtbot.waitUntil(lambda: measured.session.state.report.note != "", timeout=WAIT)
    assert measured.session.state.report.left_out == ("pictures",)
    for name in ("r.html", "r.pdf"):
        measured.report_runner.save(tmp_path / name)
        assert not view.html.isEnabled()
        qtbot.waitUntil(lambda: not measured.report_runner.is_running, timeout=WAIT)
        assert f"The report is in {name}" in measured.views.notice.text
    page = (tmp_path / "r.html").read_text()
    assert "<h1>What the algae hold</h1>" in page
    assert "Grown for five days." in page
    assert "data:image/png" not in page
    assert page.count("<section") == 1
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF")
    measured.views.report.closed.emit()
    assert measured.views.comparison.isVisible()


def test_a_report_is_cancelled(measured: Window, tmp_path: Path) -> None:
    measured.pages.show_report()
    measured.report_runner.save(tmp_path / "r.html")
    assert measured.views.report.progress.isVisible()
    measured.views.report.cancel.click()
    assert not measured.report_runner.is_running
    assert "nothing was written" in measured.views.notice.text
    assert not (tmp_path / "r.html").exists()


def test_a_report_that_cannot_be_written_is_said(
    measured: Window, tmp_path: Path, qtbot: QtBot
) -> None:
    (tmp_path / "file").write_text("x")
    measured.report_runner.save(tmp_path / "file" / "r.html")
    qtbot.waitUntil(lambda: not measured.report_runner.is_running, timeout=WAIT)
    assert "cannot be written" in measured.views.notice.text


def test_a_study_is_packed_and_opened_elsewhere(
    measured: Window, settle: Settle, qtbot: QtBot, tmp_path: Path
) -> None:
    before = region_frame(measured.session.measurements.ordered_tables()).to_pandas()
    measured.commands.study.pack(tmp_path / "over.rilievo.zip")
    qtbot.waitUntil(lambda: measured.jobs.idle, timeout=WAIT)
    assert (tmp_path / "over.rilievo.zip").stat().st_size > 1_000_000
    measured.session.save(tmp_path / "kept.rilievo")
    (tmp_path / "elsewhere").mkdir()
    measured.commands.study.unpack(tmp_path / "over.rilievo.zip", tmp_path / "elsewhere")
    qtbot.waitUntil(
        lambda: measured.session.path == tmp_path / "elsewhere" / "over" / "over.rilievo",
        timeout=WAIT,
    )
    settle()
    pandas.testing.assert_frame_equal(
        region_frame(measured.session.measurements.ordered_tables()).to_pandas(), before
    )
    with qtbot.waitSignal(measured.compute.batch.measured, timeout=WAIT):
        measured.commands.measure.measure_all()
    settle()
    pandas.testing.assert_frame_equal(
        region_frame(measured.session.measurements.ordered_tables()).to_pandas(), before
    )


def test_the_store_of_a_window_is_pruned_when_it_is_opened(tmp_path: Path) -> None:
    store = ResultStore(tmp_path / "r.sqlite")
    for k in range(4):
        store.put(f"k{k}", "d", b"x" * 100, failed=False)
    store.keep_within(250)
    assert store.keys("d") == ("k2", "k3")
    store.close()


def test_another_study_ends_the_batch(
    add: Add, images: list[Path], qtbot: QtBot, settle: Settle
) -> None:
    window = add(*images)
    window.commands.measure.measure_all()
    window.compute.batch.pause()
    assert window.compute.batch.is_running
    window.session.clear()
    assert not window.compute.batch.is_running
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    assert window.session.measurements.tables == {}


def test_a_fault_of_the_program_leaves_nothing_waiting(
    add: Add, images: list[Path], qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = add(*images[:2])

    def broken(*_: object, **__: object) -> None:
        raise ZeroDivisionError("made up")

    monkeypatch.setattr("rilievo.core.batch.measurer.Measurer.measure", broken)
    with qtbot.captureExceptions() as raised:
        window.commands.measure.measure_all()
        qtbot.waitUntil(lambda: not window.compute.batch.is_running, timeout=WAIT)
    assert [kind for kind, _, _ in raised] == [ZeroDivisionError]
    assert window.menus.actions["measure.all"].isEnabled()
