"""What the open card of Correct has on the picture: patches, the frame of a crop, a gray card."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QObject, pyqtSignal

from rilievo.core.errors import StepError
from rilievo.core.method import step_edits
from rilievo.core.parameters import Rectangle
from rilievo.core.signal.steps.curve_card import Card
from rilievo.core.signal.steps.step import CanvasTool
from rilievo.ui.canvas.marked_card import MarkedCard
from rilievo.ui.session.study_session import StudySession
from rilievo.ui.stages.correct.step_editor import StepEditor


class StepMarks(QObject):
    """Shown while their card is open; drawn and moved on the picture.

    What a step has there is said by the canvas tool of its parameters.
    drawing : whether a rectangle was asked for on the card.
    """

    taken = pyqtSignal(str, str, object)  # step id, parameter, value
    points_wanted = pyqtSignal(str)  # a step whose points are to be taken from picks

    def __init__(self, session: StudySession, editor: StepEditor, parent: QObject) -> None:
        super().__init__(parent)
        self._session, self._editor = session, editor
        self.drawing = False

    @property
    def _tool(self) -> CanvasTool | None:
        use = self._editor.active_use
        return None if use is None else use.parameters.canvas_tool

    @property
    def shown(self) -> tuple[Rectangle, ...]:
        """The rectangles of the open card that count for the focused sample."""
        use, entry, tool = self._editor.active_use, self._session.focus.entry, self._tool
        if use is None or entry is None or tool is None or tool.kind in ("picks", "card"):
            return ()
        parameters = step_edits.parameters_for(self._editor.method, use.id, entry.name)
        value = getattr(parameters, tool.field)
        if tool.kind == "rectangles":
            return tuple(value)
        return (value,) if self.drawing and value is not None else ()

    @property
    def label(self) -> str:
        """What the rectangles of the open card are called."""
        return self._tool.label if self._tool is not None else ""

    @property
    def is_drawable(self) -> bool:
        """Whether dragging over the picture draws a rectangle for the open card."""
        tool = self._tool
        if tool is None or tool.kind in ("picks", "card"):
            return False
        moved = step_edits.moves_pixels(self._editor.method)
        return self.drawing or (tool.kind == "rectangles" and not moved)

    @property
    def card(self) -> MarkedCard | None:
        """The card of known patches that the open step marks; None for no such step."""
        use, entry, tool = self._editor.active_use, self._session.focus.entry, self._tool
        if use is None or entry is None or tool is None or tool.kind != "card":
            return None
        if step_edits.moves_pixels(self._editor.method) and not self.drawing:
            return None
        parameters = step_edits.parameters_for(self._editor.method, use.id, entry.name)
        if not isinstance(parameters, Card):
            return None
        corners = tuple((one.x, one.y) for one in parameters.corners)
        try:
            layout = parameters.layout()
        except StepError:
            # Typed values that are no card are said by the step.
            layout = None
        return MarkedCard((use.id, entry.name), corners, layout, parameters.inner)

    def take_card(self, corners: Sequence[tuple[float, float]]) -> None:
        """Take the four corners of a card; none begins anew."""
        use, tool = self._editor.active_use, self._tool
        if use is not None and tool is not None and tool.kind == "card":
            self.taken.emit(use.id, tool.field, [{"x": x, "y": y} for x, y in corners])

    def start_drawing(self, step_id: str) -> None:
        """Show the picture as it enters a step, to draw on it."""
        tool = step_edits.use_of(self._editor.method, step_id).parameters.canvas_tool
        if tool is not None and tool.kind == "picks":
            self.points_wanted.emit(step_id)
            return
        self.drawing = True
        if tool is not None and tool.kind == "card":
            self.take_card(())
        one = tool is not None and tool.kind == "rectangle"
        if one or step_edits.moves_pixels(self._editor.method):
            self._editor.look_at(step_id, "before")
        self._session.view.changed.emit()

    def take(self, rectangle: Rectangle, index: int) -> None:
        """Take a rectangle that was drawn.

        index : which one was moved; −1 draws anew, −2 adds one.
        """
        use, tool = self._editor.active_use, self._tool
        if use is None or tool is None:
            return
        self._editor.begin_drag()
        self._editor.end_edit()
        if tool.kind == "rectangle":
            self.drawing = False
            self.taken.emit(use.id, tool.field, rectangle)
            self._editor.leave_aspect(use.id)
            return
        rectangles = list(self.shown)
        if index >= 0:
            rectangles[index] = rectangle
        elif index == -2:
            rectangles.append(rectangle)
        else:
            rectangles = [rectangle]
        self.taken.emit(use.id, tool.field, tuple(rectangles))
