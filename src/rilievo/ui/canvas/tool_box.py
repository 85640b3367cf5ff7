"""The tools of the picture: which is in hand, and where presses and moves go."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt

from rilievo.ui.canvas.canvas_context import CanvasContext
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.card_tool import CardTool
from rilievo.ui.canvas.drawing_tools import DRAWING, EditTool, PolygonTool
from rilievo.ui.canvas.star_circles_overlay import StarCircleTool
from rilievo.ui.canvas.tools import TOOLS, PatchTool, PictureTool
from rilievo.ui.compute.compute import Compute
from rilievo.ui.session.study_session import StudySession


class ToolBox:
    """One tool at a time; handles and circles are taken hold of where they lie.

    patch_is_drawable : whether dragging draws a rectangle for the open card of Correct.
    """

    def __init__(self, canvas: CanvasContext, session: StudySession, compute: Compute) -> None:
        self._canvas, self._session = canvas, session
        self._tools: dict[str, PictureTool] = {n: make(canvas) for n, make in TOOLS.items()}
        self._tools |= {n: make(canvas) for n, make in DRAWING.items()}
        self.edit = EditTool(canvas)
        self.patch = PatchTool(canvas)
        self.card = CardTool(canvas)
        self.circles = StarCircleTool(canvas, session, compute)
        self.patch_is_drawable = False
        self._taken: PictureTool | None = None
        self._pressed = False

    @property
    def current(self) -> PictureTool | None:
        """What the pointer does now, if it does anything but select."""
        tool = self._tools.get(self._session.view.tool)
        if tool is None and self._session.stage == "correct" and self.patch_is_drawable:
            return self.patch
        if tool is None and self._session.stage == "correct" and self._canvas.card is not None:
            return self.card
        return tool if tool is not None else self._taken

    def named(self, name: str) -> PictureTool:
        """Return a tool by its name."""
        return self._tools[name]

    def press(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> bool:
        """Begin to use the tool in hand, or what lies under the pointer; return whether any."""
        tool = self.current
        if tool is None and self._canvas.editor.drawn.is_drawing:
            self._taken = self.edit if self.edit.taken(geometry, at) else None
            tool = self.current
        elif tool is None and self.circles.taken(geometry, at):
            self._taken = tool = self.circles
        if tool is None:
            return False
        self._pressed = True
        tool.press(geometry, at, modifiers)
        return True

    def move(self, geometry: Geometry, at: QPointF, modifiers: Qt.KeyboardModifier) -> bool:
        """Follow the pointer; return whether a tool is in hand."""
        tool = self.current
        if tool is None:
            return False
        (tool.move if self._pressed else tool.hover)(geometry, at, modifiers)
        return True

    def release(self, geometry: Geometry | None, at: QPointF | None) -> None:
        """End the use of a tool."""
        tool = self.current
        if self._pressed and tool is not None and geometry is not None and at is not None:
            tool.release(geometry, at)
        self._pressed, self._taken = False, None

    def double_click(self) -> bool:
        """Close a polygon that is being drawn; return whether one is."""
        tool = self.current
        if isinstance(tool, PolygonTool):
            tool.close()
            return True
        return False
