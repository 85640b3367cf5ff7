"""The real window, opened for each test and closed after it."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QComboBox
from pytestqt.qtbot import QtBot

from rilievo.core.batch import ResultStore
from rilievo.core.method.step_edits import parameters_for
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.signal.steps.repair_pixels import Repair, RepairPixels
from rilievo.core.study.study_file import load_study
from rilievo.demo.sets import write_demo_study
from rilievo.ui.compute.batch_runner import store_path
from rilievo.ui.shell.app import make_application
from rilievo.ui.shell.window import Window
from tests.core.helpers.measuring import run_batch
from tests.ui.opening import open_study

# Long enough for a busy machine: what is waited for either comes or is broken.
WAIT = 180_000


@pytest.fixture(scope="session")
def lipid(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The synthetic study, written once; tests only read it."""
    study, _ = write_demo_study("lipid", tmp_path_factory.mktemp("demo") / "lipid")
    return study


@pytest.fixture(scope="session")
def cache() -> AnalysisCache:
    """What is computed of the synthetic study, shared: files are known by place, time and size."""
    return AnalysisCache()


@pytest.fixture(scope="session")
def style_sheet() -> str:
    """What the application wears at its start."""
    return make_application().styleSheet()


@pytest.fixture
def dressed() -> bool:
    """Whether the window wears its style sheet, a third of what a test takes.

    Where looks and sizes are what is tested, a module says True.
    """
    return False


@pytest.fixture
def window(
    qtbot: QtBot,
    tmp_path: Path,
    cache: AnalysisCache,
    monkeypatch: pytest.MonkeyPatch,
    dressed: bool,
    style_sheet: str,
) -> Iterator[Window]:
    # Results that an earlier test kept would hide what this one measures.
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    settings = tmp_path / "settings"
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(settings))
    worn = style_sheet if dressed else ""
    if make_application().styleSheet() != worn:
        make_application().setStyleSheet(worn)
    opened = Window(cache=cache)
    opened.commands.study.asks_before_leaving = False
    # The screen of the tests is smaller than those of people.
    opened.resize(1280, 800)
    opened.show()
    qtbot.waitExposed(opened)
    yield opened
    opened.close()
    opened.deleteLater()


@pytest.fixture
def settle(qtbot: QtBot, window: Window) -> Callable[[], None]:
    """Wait until everything asked for is computed and shown."""

    def wait() -> None:
        def ready() -> bool:
            state = window.session.state
            known = all(
                entry.id in window.compute.store.errors
                or window.compute.queue.current(entry.id) is not None
                for entry in state.samples
            )
            asked = (
                window.views.drawer.strip.timer.isActive() or window.compute.drag.rest.isActive()
            )
            return window.jobs.idle and known and not asked

        qtbot.waitUntil(ready, timeout=WAIT)

    return wait


@pytest.fixture
def study(window: Window, lipid: Path, settle: Callable[[], None]) -> Window:
    """The window with the synthetic study open."""
    open_study(window, lipid)
    settle()
    return window


@pytest.fixture
def add(window: Window, settle: Callable[[], None], qtbot: QtBot) -> Callable[..., Window]:
    """Bring files into the window and wait."""

    def bring(*paths: Path) -> Window:
        window.commands.images.add(list(paths))
        qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
        settle()
        return window

    return bring


def repairs(window: Window) -> tuple[Repair, ...]:
    """The pixels that are repaired in the focused sample."""
    entry = window.session.focus.entry
    assert entry is not None
    parameters = parameters_for(window.session.state.method, "repair", entry.name)
    assert isinstance(parameters, RepairPixels)
    return parameters.repairs


@pytest.fixture
def measure_stars(window: Window, settle: Callable[[], None], qtbot: QtBot) -> Callable[..., None]:
    """Bring pictures of stars in, find and measure them."""

    def bring(paths: list[Path]) -> None:
        window.commands.images.add(paths)
        settle()
        window.session.go_to("outline")
        window.views.outline.choose_kind("stars")
        settle()
        window.views.measure.quantities.choose_set("Stars")
        with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
            window.commands.measure.measure_all()
        settle()
        window.session.go_to("measure")

    return bring


def choose(box: QComboBox, key: str) -> None:
    """Choose an entry of a box as a person does."""
    index = box.findData(key)
    assert index >= 0, f"{key} is not offered"
    box.setCurrentIndex(index)
    box.activated.emit(index)


@pytest.fixture(scope="session")
def lipid_results(lipid: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What a batch found of the synthetic study, as the window keeps it; measured once."""
    state = load_study(lipid).state
    path = tmp_path_factory.mktemp("results") / "results.sqlite"
    with contextlib.closing(ResultStore(path)) as store:
        run_batch(list(state.samples), state.method, store=store)
    return path


@pytest.fixture
def measured(
    study: Window,
    lipid_results: Path,
    qtbot: QtBot,
    settle: Callable[[], None],
    monkeypatch: pytest.MonkeyPatch,
) -> Window:
    """The synthetic study, measured, in Measure; the numbers come from the stored results.

    Changes are followed however long the machine takes.
    """
    monkeypatch.setattr("rilievo.ui.compute.batch_runner.FOLLOW_SECONDS", 1e9)
    store_path().parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(lipid_results, store_path())
    with qtbot.waitSignal(study.compute.batch.measured, timeout=WAIT):
        study.commands.measure.measure_all()
    settle()
    study.session.go_to("measure")
    return study
