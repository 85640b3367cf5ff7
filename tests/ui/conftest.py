"""The real window, opened for each test and closed after it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QComboBox
from pytestqt.qtbot import QtBot

from rilievo.core.method.step_edits import parameters_for
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.signal.steps.repair_pixels import Repair, RepairPixels
from rilievo.demo.sets import write_demo_study
from rilievo.ui.app import make_application
from rilievo.ui.window import Window

WAIT = 20_000


@pytest.fixture(scope="session")
def lipid(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The made-up study, written once; tests only read it."""
    study, _ = write_demo_study("lipid", tmp_path_factory.mktemp("demo") / "lipid")
    return study


@pytest.fixture(scope="session")
def evaluator() -> Evaluator:
    """What is computed of the made-up study, shared: files are known by place, time and size."""
    return Evaluator()


@pytest.fixture
def window(
    qtbot: QtBot, tmp_path: Path, evaluator: Evaluator, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Window]:
    # Results that an earlier test kept would hide what this one measures.
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    settings = tmp_path / "settings"
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(settings))
    make_application()
    opened = Window(evaluator=evaluator)
    opened.asks = False
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
            state = window.model.state
            known = all(
                entry.id in window.bench.errors or window.bench.current(entry.id) is not None
                for entry in state.samples
            )
            asked = window.drawer.strip._timer.isActive() or window.bench.drag.rest.isActive()
            return window.jobs.idle and known and not asked

        qtbot.waitUntil(ready, timeout=WAIT)

    return wait


@pytest.fixture
def study(window: Window, lipid: Path, settle: Callable[[], None]) -> Window:
    """The window with the made-up study open."""
    window.files.open_study(lipid)
    settle()
    return window


@pytest.fixture
def add(window: Window, settle: Callable[[], None], qtbot: QtBot) -> Callable[..., Window]:
    """Bring files into the window and wait."""

    def bring(*paths: Path) -> Window:
        window.files.add(list(paths))
        qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
        settle()
        return window

    return bring


def repairs(window: Window) -> tuple[Repair, ...]:
    """The pixels that are repaired in the focused sample."""
    entry = window.model.entry
    assert entry is not None
    parameters = parameters_for(window.model.state.method, "repair", entry.name)
    assert isinstance(parameters, RepairPixels)
    return parameters.repairs


@pytest.fixture
def measure_stars(window: Window, settle: Callable[[], None], qtbot: QtBot) -> Callable[..., None]:
    """Bring pictures of stars in, find and measure them."""

    def bring(paths: list[Path]) -> None:
        window.files.add(paths)
        settle()
        window.go_to("outline")
        window.outline_panel.choose_kind("stars")
        settle()
        window.measure_panel.quantities.choose_set("Stars")
        with qtbot.waitSignal(window.bench.measured, timeout=WAIT):
            window.measure_all()
        settle()
        window.go_to("measure")

    return bring


def choose(box: QComboBox, key: str) -> None:
    """Choose an entry of a box as a person does."""
    place = box.findData(key)
    assert place >= 0, f"{key} is not offered"
    box.setCurrentIndex(place)
    box.activated.emit(place)


@pytest.fixture
def measured(study: Window, qtbot: QtBot, settle: Callable[[], None]) -> Window:
    """The made-up study, measured, in Measure."""
    with qtbot.waitSignal(study.bench.measured, timeout=WAIT):
        study.measure_all()
    settle()
    study.go_to("measure")
    return study
