"""Random hands on the window: every command, keys, clicks, drags, stages, dialogs at random.

`bench/random_hands.py` walks long ways with them.

The same seed does the same. What it finds: an exception, a warning of Qt or Python, a state that
does not come back when everything is undone, memory that only grows.
"""

from __future__ import annotations

import random
import sys
import time
import traceback
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any
from unittest.mock import patch

from PyQt6 import sip
from PyQt6.QtCore import (
    QMessageLogContext,
    QPoint,
    QPointF,
    Qt,
    QTimer,
    QtMsgType,
    qInstallMessageHandler,
)
from PyQt6.QtGui import QDesktopServices, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QFileDialog,
    QInputDialog,
    QLineEdit,
    QMenu,
    QMessageBox,
    QWidget,
)

from rilievo.core.study.sealed_study import BLIND, UNBLIND
from rilievo.core.study.study import StudyState
from rilievo.ui.session.study_session import STAGES
from rilievo.ui.shell.dialogs import WindowDialogs
from rilievo.ui.shell.window import Window

# They end the program or leave it; how much memory may be used is not for random hands.
_NOT_PRESSED = {"study.quit", "study.close", "help.about"}
_KEYS = [
    *(getattr(Qt.Key, f"Key_{name}") for name in (
        "Tab", "Escape", "Return", "Delete", "Backspace", "Space", "Left", "Right", "Up", "Down",
        "Home", "End", "PageUp", "PageDown", "Plus", "Minus", "Period", "Comma", "F1", "F2", "F5",
    )),
    *(Qt.Key(code) for code in range(Qt.Key.Key_0, Qt.Key.Key_9 + 1)),
    *(Qt.Key(code) for code in range(Qt.Key.Key_A, Qt.Key.Key_Z + 1)),
]  # fmt: skip
_MODIFIERS = [
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
    Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
]
_TEXTS = (
    "",
    "0",
    "1",
    "-5",
    "1e9",
    "70000",
    "-70000",
    "0.001",
    "300",
    "nan",
    "x",
    "mean",
    "a b",
    "µ",
)
# What is worth undoing may begin anew with these.
_BUTTONS = [Qt.MouseButton.LeftButton] * 6 + [Qt.MouseButton.RightButton]


def _close_popup() -> None:
    open_one = QApplication.activePopupWidget() or QApplication.activeModalWidget()
    if open_one is not None:
        open_one.close()


def plain(state: StudyState) -> StudyState:
    """A state without what is read of files and found anew, which is no change of the study."""
    entries = tuple(replace(entry, checksum="") for entry in state.samples)
    return replace(state, name="", samples=entries, method=state.method.changed(name="m"))


@dataclass
class Findings:
    """What went wrong, with what was done before."""

    said: list[str] = field(default_factory=list)
    done: list[str] = field(default_factory=list)
    slowest: float = 0.0
    slow: list[str] = field(default_factory=list)

    def add(self, what: str) -> None:
        self.said.append(f"{what}\n    after {'; '.join(self.done[-6:])}")


class Hands:
    """One walk over a window. folder : where dialogs may read and write."""

    def __init__(self, window: Window, folder: Path, studies: list[Path], seed: int) -> None:
        self.window, self.folder, self.studies = window, folder, studies
        self.random = random.Random(seed)  # noqa: S311 (not a secret)
        self.findings = Findings()
        self.begin = plain(window.session.state)
        take = type(window.session).take
        clear = type(window.session).clear

        def taken(session: Any, *given: Any, **named: Any) -> None:
            take(session, *given, **named)
            self.begin = plain(session.state)

        def cleared(session: Any) -> None:
            clear(session)
            self.begin = plain(session.state)

        # A menu that opens by itself waits for somebody: it is closed again.
        self._closer = QTimer()
        self._closer.setInterval(30)
        self._closer.timeout.connect(_close_popup)
        self._patches = [
            patch.object(type(window.session), "take", taken),
            patch.object(type(window.session), "clear", cleared),
        ]

    # -- what is answered

    def _file(self, *_: object, **__: object) -> Path | None:
        return self.random.choice([*self.studies, None, self.folder / "nothing.tif"])

    def _name(self, *_: object, **__: object) -> Path | None:
        name = self.random.choice(["a.rilievo", "b.csv", "m.json", "r.html", "p.png", "x", None])
        return None if name is None else self.folder / name

    def dialogs(self) -> Iterator[Any]:
        """Patches that answer every dialog at random."""
        choose = self.random.choice
        answers: dict[str, Callable[..., object]] = {
            "ask_files": lambda *_: [p for p in [self._file()] if p is not None],
            "ask_file": self._file,
            "ask_name": self._name,
            "ask_name_of": lambda _self, _t, _n, kinds: (
                self._name(),
                choose(list(kinds.values())),
            ),
            "ask_folder": lambda *_: choose([None, self.folder]),
            "ask_text": lambda *_: choose([None, "name", "g 2"]),
            "ask_leaving": lambda *_: choose(["save", "discard", "cancel"]),
            "ask_locked": lambda *_: choose(["read only", "copy", "cancel"]),
            "ask_changed": lambda *_: choose(["overwrite", "elsewhere", "cancel"]),
            "ask_outside": lambda *_: choose([True, False]),
            "ask_unblinding": lambda *_: choose([True, False]),
        }
        for name, answer in answers.items():
            yield patch.object(WindowDialogs, name, answer)
        named = lambda *_, **__: (str(self._name() or ""), "")  # noqa: E731
        yield patch.object(QFileDialog, "getOpenFileName", named)
        yield patch.object(QFileDialog, "getOpenFileNames", lambda *_, **__: ([], ""))
        yield patch.object(QFileDialog, "getSaveFileName", named)
        yield patch.object(QInputDialog, "getText", lambda *_, **__: ("x", choose([True, False])))
        yield patch.object(QMessageBox, "exec", lambda *_: 0)
        yield patch.object(QMessageBox, "about", lambda *_: None)
        yield patch.object(QMenu, "exec", lambda *_, **__: None)
        yield patch.object(QDesktopServices, "openUrl", lambda *_: True)

    # -- what is done

    def command(self) -> str:
        actions = self.window.menus.actions
        pressed = [n for n in sorted(actions) if n not in _NOT_PRESSED and "memory" not in n]
        name = self.random.choice(pressed)
        if actions[name].isEnabled():
            actions[name].trigger()
        return name

    def key(self) -> str:
        target = QApplication.focusWidget() or self.window
        key, held = self.random.choice(_KEYS), self.random.choice(_MODIFIERS)
        if held == Qt.KeyboardModifier.ControlModifier and key in (Qt.Key.Key_Q, Qt.Key.Key_W):
            return "no key"
        QTest.keyClick(target, key, held)
        return f"key {held.name} {key.name}"

    def _somewhere(self) -> tuple[QWidget, QPoint] | None:
        widgets = [
            w
            for w in self.window.findChildren(QWidget)
            if w.isVisible() and w.width() > 2 and w.height() > 2
        ]
        if not widgets:
            return None
        widget = self.random.choice(widgets)
        x = self.random.randrange(widget.width())
        return widget, QPoint(x, self.random.randrange(widget.height()))

    def click(self) -> str:
        found = self._somewhere()
        if found is None:
            return "nothing to click"
        widget, at = found
        if self.random.random() < 0.15:
            QTest.mouseDClick(widget, Qt.MouseButton.LeftButton, pos=at)
        else:
            button, held = self.random.choice(_BUTTONS), self.random.choice(_MODIFIERS)
            QTest.mouseClick(widget, button, held, at)
        return f"click {type(widget).__name__} {at.x()},{at.y()}"

    def drag(self) -> str:
        picture: QWidget = self.window.views.area.picture
        found = self._somewhere()
        if self.random.random() < 0.6 and picture.isVisible():
            found = (
                picture,
                QPoint(
                    self.random.randrange(picture.width()), self.random.randrange(picture.height())
                ),
            )
        if found is None:
            return "nothing to drag"
        widget, at = found
        held = self.random.choice(_MODIFIERS)
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, held, at)
        for _ in range(self.random.randrange(1, 6)):
            at += QPoint(self.random.randrange(-80, 81), self.random.randrange(-80, 81))
            QTest.mouseMove(widget, at)
            QApplication.processEvents()
            if sip.isdeleted(widget):
                # Its panel was built anew under the hand.
                return "drag what went away"
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, held, at)
        return f"drag {type(widget).__name__}"

    def wheel(self) -> str:
        found = self._somewhere()
        if found is None:
            return "nothing to turn"
        widget, at = found
        event = QWheelEvent(
            QPointF(at), QPointF(widget.mapToGlobal(at)), QPoint(),
            QPoint(0, self.random.choice([-240, -120, 120, 240])), Qt.MouseButton.NoButton,
            self.random.choice(_MODIFIERS), Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(widget, event)
        return f"wheel {type(widget).__name__}"

    def type_text(self) -> str:
        fields = [w for w in self.window.findChildren(QLineEdit) if w.isVisible() and w.isEnabled()]
        if not fields:
            return "no field"
        line = self.random.choice(fields)
        text = self.random.choice(_TEXTS)
        line.setFocus()
        line.selectAll()
        QTest.keyClicks(line, text)
        QTest.keyClick(line, Qt.Key.Key_Return)
        return f"type {text!r}"

    def choose(self) -> str:
        boxes = [w for w in self.window.findChildren(QComboBox) if w.isVisible() and w.isEnabled()]
        boxes = [box for box in boxes if box.count()]
        if not boxes:
            return "no list"
        box = self.random.choice(boxes)
        index = self.random.randrange(box.count())
        box.setCurrentIndex(index)
        box.activated.emit(index)
        return f"choose {box.currentText()!r}"

    def spin(self) -> str:
        found = [w for w in self.window.findChildren(QAbstractSpinBox) if w.isVisible()]
        if not found:
            return "no number"
        box = self.random.choice(found)
        box.stepBy(self.random.choice([-10, -1, 1, 10]))
        return "spin"

    def undo(self) -> str:
        stack = self.window.session.undo_stack
        for _ in range(self.random.randrange(1, 6)):
            (stack.undo if self.random.random() < 0.6 else stack.redo)()
        return "undo and redo"

    def stage(self) -> str:
        stage = self.random.choice(STAGES)
        self.window.session.go_to(stage)
        return stage

    def begin_again(self) -> str:
        study = self.window.commands.study
        if self.random.random() < 0.3:
            study.new()
            return "new"
        study.open_study(self.random.choice(self.studies))
        return "open"

    def resize(self) -> str:
        self.window.resize(self.random.randrange(900, 1500), self.random.randrange(600, 1000))
        return "resize"

    def step(self) -> None:
        """Do one thing, and let the window answer for a while or not at all."""
        ways: list[tuple[float, Callable[[], str]]] = [
            (6, self.command), (4, self.key), (6, self.click), (5, self.drag), (2, self.wheel),
            (3, self.type_text), (3, self.choose), (1, self.spin), (3, self.undo), (2, self.stage),
            (0.4, self.begin_again), (0.3, self.resize),
        ]  # fmt: skip
        way = self.random.choices([w for _, w in ways], [weight for weight, _ in ways])[0]
        start = time.perf_counter()
        try:
            self.findings.done.append(way.__name__)
            self.findings.done[-1] = way()
            QApplication.processEvents()
        except Exception:
            self.findings.add(traceback.format_exc())
        seconds = time.perf_counter() - start
        if seconds > 0.5:
            self.findings.slow.append(f"{seconds:.2f} s: {self.findings.done[-1]}")
        self.findings.slowest = max(self.findings.slowest, seconds)
        if self.random.random() < 0.15:
            end = time.perf_counter() + self.random.choice([0.01, 0.1, 0.4])
            while time.perf_counter() < end:
                QApplication.processEvents()
                time.sleep(0.002)

    @contextmanager
    def watching(self) -> Iterator[None]:
        """Have every exception, and every warning of Qt and Python, become a finding."""

        def heard(kind: QtMsgType, _where: QMessageLogContext, text: str | None) -> None:
            # What the screen that is none cannot do is no fault of the window.
            if str(text).startswith("This plugin does not support"):
                return
            if kind in (QtMsgType.QtWarningMsg, QtMsgType.QtCriticalMsg, QtMsgType.QtFatalMsg):
                self.findings.add(f"Qt: {text}")

        def raised(kind: Any, error: BaseException, trace: Any) -> None:
            self.findings.add("".join(traceback.format_exception(kind, error, trace)))

        def warned(message: Any, category: Any, *where: Any, **_: Any) -> None:
            self.findings.add(f"{category.__name__}: {message} {where[:2]}")

        before = qInstallMessageHandler(heard)
        with warnings.catch_warnings():
            warnings.simplefilter("always")
            hooks = [patch.object(sys, "excepthook", raised), patch("warnings.showwarning", warned)]
            patches = [*hooks, *self._patches, *self.dialogs()]
            for one in patches:
                one.start()
            self._closer.start()
            try:
                yield
            finally:
                self._closer.stop()
                for one in reversed(patches):
                    one.stop()
                qInstallMessageHandler(before)

    def walk(self, actions: int, told: Callable[[int], object] = lambda _: None) -> None:
        """Do so many things, then undo them all and compare the study with its beginning.

        told : is called with the number of actions after every 250.
        """
        for number in range(1, actions + 1):
            self.step()
            if number % 250 == 0:
                told(number)
        # A batch that was paused would wait for ever.
        self.window.compute.batch.cancel()
        session = self.window.session
        session.undo_stack.setIndex(0)
        # No undo leads behind the blinding of a study.
        sealed = any(entry.text in (BLIND, UNBLIND) for entry in session.history())
        if plain(session.state) != self.begin and not sealed:
            self.findings.add("the study is not what it was after undoing everything")
        # Profiles of thousands of wide stars, where hands have asked for them, take minutes.
        if not self.wait_idle(300):
            self.findings.add("something is still computed minutes after undoing everything")

    def wait_idle(self, seconds: float) -> bool:
        end = time.perf_counter() + seconds
        while time.perf_counter() < end:
            QApplication.processEvents()
            if self.window.jobs.idle:
                return True
            time.sleep(0.005)
        return False


def memory_now() -> float:
    """Resident memory in GB."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmRSS:"):
            return int(line.split()[1]) / 1e6
    return 0.0
