"""The controls of the forms, each by itself; the list of steps; stopping what is overtaken."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from rilievo.core.image.calibration_frames import Frames, ImageFile
from rilievo.core.parameters import Rectangle
from rilievo.core.progress import checkpoint
from rilievo.core.signal.steps import FAMILIES, STEPS
from rilievo.ui.compute.jobs import Jobs
from rilievo.ui.shell.app import make_application
from rilievo.ui.shell.window import Window
from rilievo.ui.stages.correct.step_chooser import StepChooser
from rilievo.ui.widgets.file_fields import FileField, FramesField
from rilievo.ui.widgets.form import ParameterForm, field_for
from rilievo.ui.widgets.parameter_fields import (
    Drawn,
    Field,
    Known,
    Number,
    OneChannel,
    OneOf,
    SeveralChannels,
    Tick,
    Words,
)
from rilievo.ui.widgets.search_list import CommandSearch
from tests.ui.conftest import WAIT

KNOWN = Known(("red", "blue"), (("one", Path("/data/one.tif")), ("two", Path("/data/two.tif"))))


@pytest.fixture(autouse=True)
def _application(qtbot: QtBot, tmp_path: Path) -> None:
    path = str(tmp_path / "settings")
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, path)
    make_application()


def field(qtbot: QtBot, key: str, name: str, kind: type[Field]) -> tuple[Any, list[Any]]:
    """The control that a step's form has for a parameter, and what it says."""
    made = field_for(name, STEPS[key].parameters.model_fields[name])
    assert isinstance(made, kind)
    qtbot.addWidget(made)
    said: list[Any] = []
    made.entered.connect(said.append)
    return made, said


def test_numbers_are_whole_odd_or_nothing_as_declared(qtbot: QtBot) -> None:
    side, said = field(qtbot, "smooth.median", "size", Number)
    side.show_value(5, KNOWN)
    assert side.field.text() == "5"
    side.field.enter("8")
    QTest.keyClick(side.field, Qt.Key.Key_Up)
    assert said == [9, 7]
    limit, said = field(qtbot, "arithmetic.limits", "highest", Number)
    limit.field.enter("12.5")
    limit.field.enter("")
    assert said == [12.5, None]
    sigma, said = field(qtbot, "smooth.gaussian", "sigma", Number)
    sigma.show_value(1.0, KNOWN)
    QTest.keyClick(sigma.field, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    QTest.keyClick(sigma.field, Qt.Key.Key_Down)
    assert said == [-4.0, -4.5]


def test_words_and_ticks(qtbot: QtBot) -> None:
    way, said = field(qtbot, "background.surface", "objects", OneOf)
    way.show_value("dark", KNOWN)
    assert way.box.currentText() == "dark"
    way.box.setCurrentIndex(3)
    way.box.activated.emit(3)
    assert said == ["both"]
    spread, said = field(qtbot, "arithmetic.match", "spread", Tick)
    spread.show_value(True, KNOWN)
    spread.box.click()
    assert said == [False]
    order, said = field(qtbot, "background.surface", "order", OneOf)
    order.box.setCurrentIndex(0)
    order.box.activated.emit(0)
    assert said == [1]


def test_a_text_is_taken_when_it_is_left_or_sent(qtbot: QtBot) -> None:
    words, said = field(qtbot, "filter.kernel", "matrix", Words)
    words.show_value("1", KNOWN)
    words.text.setPlainText("1 2 1")
    QTest.keyClick(words.text, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert said == ["1 2 1"]
    words.show_value("1 2 1", KNOWN)
    words.text.left.emit()
    assert said == ["1 2 1"]
    words.point_at(99)
    assert words.text.textCursor().position() == 5


def test_channels_are_chosen_one_or_several(qtbot: QtBot) -> None:
    one, said = field(qtbot, "arithmetic.image", "other_channel", OneChannel)
    one.show_value("gone", KNOWN)
    assert [one.box.itemText(i) for i in range(one.box.count())] == ["–", "red", "blue", "gone"]
    one.box.setCurrentIndex(2)
    one.box.activated.emit(2)
    one.box.setCurrentIndex(0)
    one.box.activated.emit(0)
    assert said == ["blue", None]
    several, said = field(qtbot, "arithmetic.combine", "channels", SeveralChannels)
    several.show_value(("blue",), KNOWN)
    assert several.button.text() == "blue"
    menu = several.button.menu()
    actions = {action.text(): action for action in menu.actions()}
    assert actions["blue"].isChecked()
    actions["red"].trigger()
    assert said == [("red", "blue")]
    actions["none"].trigger()
    assert said[-1] == ()


def test_files_are_chosen_averaged_and_cleared(
    qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    frames, said = field(qtbot, "frames.dark", "dark", FramesField)
    names = [str(tmp_path / f"d{k}.fits") for k in range(6)]
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: (names, ""))
    frames.choose.click()
    assert [file.file for file in said[0].files] == names
    frames.show_value(said[0], KNOWN)
    assert "d0.fits, d1.fits, d2.fits, d3.fits and 2 more" in frames.names.text()
    frames.clear.click()
    assert said[1] == Frames()
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([], ""))
    frames.choose.click()
    assert len(said) == 2
    one, said = field(qtbot, "geometry.register", "reference", FileField)
    one.show_value(ImageFile(file="/else/where.tif"), KNOWN)
    assert one.box.currentText() == "where.tif"
    one.box.setCurrentIndex(1)
    one.box.activated.emit(1)
    assert said == [ImageFile(file="/data/one.tif")]
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: (names[:1], ""))
    one.box.activated.emit(one.box.findData("other"))
    assert said[-1] == ImageFile(file=names[0])


def test_rectangles_are_described_and_cleared(qtbot: QtBot) -> None:
    patches, said = field(qtbot, "background.patch", "patches", Drawn)
    patches.show_value((), KNOWN)
    assert "Drag a rectangle" in patches.text.text()
    patches.show_value((Rectangle(x=1, y=2, width=3, height=4),), KNOWN)
    assert "3 × 4 px at 1, 2" in patches.text.text()
    assert "Shift" in patches.text.text()
    patches.clear.click()
    crop, dropped = field(qtbot, "geometry.crop", "rectangle", Drawn)
    crop.show_value(Rectangle(x=1, y=2, width=3, height=4), KNOWN)
    crop.clear.click()
    assert (said, dropped) == ([()], [None])


@pytest.mark.parametrize("key", list(STEPS))
def test_a_form_shows_the_parameters_of_every_step(qtbot: QtBot, key: str) -> None:
    kind = STEPS[key].parameters
    form = ParameterForm(kind)
    qtbot.addWidget(form)
    form.show_parameters(kind(), KNOWN, {})
    for name, control in form.fields.items():
        proxy = control.focusProxy()
        named = control.accessibleName() or (proxy.accessibleName() if proxy else "")
        assert named, name
        form.show_parameters(kind(), KNOWN, {name: 1})
        assert form.labels[name].property("apart")


def test_the_list_of_steps_is_searched_and_walked(qtbot: QtBot, window: Window) -> None:
    chooser = StepChooser(window)
    qtbot.addWidget(chooser)
    chosen: list[str] = []
    chooser.chosen.connect(chosen.append)
    chooser.fill("")
    assert chooser.list.count() == len(STEPS) + len(FAMILIES)
    chooser.fill("background polynomial")
    assert chooser.list.count() == 2
    chooser.take()
    assert chosen == ["background.surface"]
    chooser.fill("smooth")
    first = chooser.list.currentRow()
    QTest.keyClick(chooser.field, Qt.Key.Key_Down)
    assert chooser.list.currentRow() > first
    for _ in range(50):
        QTest.keyClick(chooser.field, Qt.Key.Key_Up)
    # Heads of families cannot be chosen.
    assert chooser.list.currentRow() == 1
    chooser.fill("no such step")
    chooser.take()
    assert len(chosen) == 1


def test_commands_that_cannot_be_done_now_are_passed_over(window: Window) -> None:
    search = CommandSearch(window)
    actions = [("Edit", window.menus.actions[i]) for i in ("edit.undo", "study.new", "edit.redo")]
    search.open(actions)
    assert search.list.currentRow() == 1
    QTest.keyClick(search.field, Qt.Key.Key_Down)
    assert search.list.currentRow() == 1
    QTest.keyClick(search.field, Qt.Key.Key_Escape)
    assert not search.isVisible()


def test_a_newer_request_stops_the_older_one(qtbot: QtBot) -> None:
    jobs = Jobs()
    begun, said = threading.Event(), []

    def endless() -> str:
        begun.set()
        while True:
            checkpoint()

    jobs.run("slot", endless, said.append)
    assert begun.wait(5)
    jobs.run("slot", lambda: "newer", said.append)
    qtbot.waitUntil(lambda: jobs.idle, timeout=WAIT)
    assert said == ["newer"]
    begun.clear()
    jobs.run("slot", endless, said.append)
    assert begun.wait(5)
    jobs.forget("slot")
    qtbot.waitUntil(lambda: jobs.idle, timeout=WAIT)
    assert said == ["newer"]
    jobs.close()
