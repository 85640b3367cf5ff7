"""Changes of the method's steps as the cards of Correct ask for them, and the open card's step."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from rilievo.core.errors import MethodError
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method, StepUse
from rilievo.core.pipeline.thumbnails import Aspect
from rilievo.core.signal.steps import STEPS
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.drag_gesture import DragGesture
from rilievo.ui.session.study_session import StudySession

LEVEL_KEY = "background.level"
# A setting that has not changed for this long is at rest: later changes are undone apart.
_REST_MS = 900


class StepEditor(QObject):
    """Each change is undoable; what is refused is said at its card.

    active : id of the step whose card is open.
    """

    refused = pyqtSignal(str, str, str)  # step id, parameter or "", sentence

    def __init__(self, session: StudySession, compute: Compute, parent: QObject) -> None:
        super().__init__(parent)
        self._session, self._compute = session, compute
        self.active: str | None = None
        self._gesture = DragGesture("step parameter")
        self._last_edit: tuple[str, str] = ("", "")
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST_MS)
        self._rest.timeout.connect(self.end_edit)

    @property
    def method(self) -> Method:
        """The method of the study."""
        return self._session.state.method

    @property
    def active_use(self) -> StepUse | None:
        """The step whose card is open."""
        return next((use for use in self.method.steps if use.id == self.active), None)

    # -- the list of steps

    def add(self, key: str) -> str:
        """Add a step at the end and open its card; return its id."""
        fields: dict[str, Any] = {}
        channel = self._session.focus.channel
        if key == LEVEL_KEY:
            fields = {"level": self._first_level(channel)}
        method, step_id = step_edits.added(self.method, key, **fields)
        if key == LEVEL_KEY and channel is not None:
            method = step_edits.with_use(method, step_id, channels=(channel,))
        self.active = step_id
        self._session.change_method(f"Add {STEPS[key].title.lower()}", method)
        self.look_at(step_id, None)
        return step_id

    def _first_level(self, channel: str | None) -> float:
        """The median of the focused sample's signal."""
        queue = self._compute.queue
        known, now = queue.focused, queue.current(self._session.focus.sample_id or 0)
        histogram = now.signal.get(channel or "") if now is not None else None
        if histogram is None and known is not None:
            histogram = known.native.get(channel or "")
        level = histogram.quantile(0.5) if histogram is not None else math.nan
        return round(level, 2) if math.isfinite(level) else 0.0

    def change(self, step_id: str, word: str) -> None:
        """Duplicate, reset, remove a step, or move it up or down."""
        use = step_edits.use_of(self.method, step_id)
        name = use.title.lower()
        if word == "duplicate":
            method, self.active = step_edits.duplicated(self.method, step_id)
            self._session.change_method(f"Duplicate {name}", method)
        elif word == "reset":
            self._session.change_method(f"Reset {name}", step_edits.reset(self.method, step_id))
        elif word == "remove":
            self.leave_aspect(step_id)
            self._session.change_method(f"Remove {name}", self.method.without_step(step_id))
        else:
            index = self.method.steps.index(use)
            self.move(step_id, index + (-1 if word == "up" else 1))

    def move(self, step_id: str, to: int) -> None:
        """Move a step to a position among the others."""
        method = step_edits.moved(self.method, step_id, to)
        if method != self.method:
            name = step_edits.use_of(method, step_id).title.lower()
            self._session.change_method(f"Move {name}", method)

    def set_use(self, step_id: str, text: str, **fields: Any) -> None:
        """Change switch, name or channels of a step."""
        use = step_edits.use_of(self.method, step_id)
        try:
            method = step_edits.with_use(self.method, step_id, **fields)
        except MethodError as exc:
            self.refused.emit(step_id, "", str(exc))
            return
        self._session.change_method(f"{use.title}: {text}", method)

    # -- parameters

    def begin_drag(self) -> None:
        """Start a drag: all its changes become one entry of the undo list."""
        self._gesture.begin()

    def end_edit(self) -> None:
        """What is set from now on is undone apart from what was set before."""
        self._last_edit = ("", "")

    def set_parameter(self, step_id: str, name: str, value: Any, sample: str | None = None) -> None:
        """Change a parameter, for all samples or for one."""
        try:
            method = step_edits.with_parameters(self.method, step_id, sample, **{name: value})
        except MethodError as exc:
            self.refused.emit(step_id, name, str(exc))
            return
        # Steps of an arrow key in quick succession are undone together.
        if self._last_edit != (step_id, name):
            self.begin_drag()
        self._last_edit = (step_id, name)
        self._rest.start()
        use = step_edits.use_of(self.method, step_id)
        title = type(use.parameters).model_fields[name].title or name
        where = f" of {sample}" if sample else ""
        text = f"{use.title}: {title.lower()}{where}"
        self._session.change_method(text, method, self._gesture.merge_id)

    def drag(self, key: str, value: float) -> None:
        """Follow the marker of a typed background on the Ridges: “background STEP”."""
        step_id = key.removeprefix("background ")
        method = step_edits.with_parameters(self.method, step_id, level=value)
        self._session.change_method("Set background level", method, self._gesture.merge_id)

    def use_common(self, sample: str, step_id: str) -> None:
        """Use the common settings of a step in a sample."""
        use = step_edits.use_of(self.method, step_id)
        method = step_edits.without_exception(self.method, sample, step_id)
        self._session.change_method(f"{use.title}: common setting in {sample}", method)

    def use_common_here(self, step_id: str) -> None:
        """Use the common settings of a step in the focused sample."""
        if self._session.focus.entry is not None:
            self.use_common(self._session.focus.entry.name, step_id)

    # -- what is looked at

    def look_at(self, step_id: str, aspect: Aspect | None) -> None:
        """Show the picture before or after a step, or its background; None: the whole method."""
        self._session.view.choose(aspect=None if aspect is None else (step_id, aspect))

    def leave_aspect(self, step_id: str) -> None:
        """Show the whole method again, if a step by itself is shown."""
        shown_now = self._session.view.aspect
        if shown_now is not None and shown_now[0] == step_id:
            self._session.view.choose(aspect=None)
