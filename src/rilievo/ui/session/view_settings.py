"""How the study is looked at: tool, number scale, layout, line, pointer. None of it is measured.

Kept from one session to the next where that helps; never part of the study.
"""

from __future__ import annotations

from typing import Any, Literal, get_args

from PyQt6.QtCore import QObject, QSettings, pyqtSignal

from rilievo.core.image.line_profile import Line
from rilievo.core.image.neighbourhood import Form
from rilievo.core.image.number_scale import Scale
from rilievo.core.pipeline.thumbnails import Aspect

Tool = Literal[
    "point", "pick", "line", "length", "zoom", "repair",
    "rectangle", "ellipse", "turned", "polygon", "freehand", "brush", "band line", "disc", "ring",
    "flood", "grid", "stamp", "cut", "redraw", "pick_inside", "pick_outside",
]  # fmt: skip
Layout = Literal["one", "samples", "channels"]

_TRUE = ("true", "1", "True")


class ViewSettings(QObject):
    """One attribute a choice; `choose` changes several and says so once."""

    changed = pyqtSignal()  # anything but the line
    tool_changed = pyqtSignal(str)
    line_changed = pyqtSignal()
    pointed = pyqtSignal(object)  # image pixel (x, y) under the pointer, or None

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        settings = QSettings()
        self.tool: Tool = "point"
        self.scale: Scale = _one_of(settings.value("scale"), get_args(Scale), "native")
        self.form: Form = _one_of(settings.value("form"), get_args(Form), "square")
        self.count_from_one = settings.value("fits places") in _TRUE
        self.rulers = settings.value("rulers", "true") in (*_TRUE, True)
        self.marked = settings.value("marked regions", "true") in (*_TRUE, True)
        self.navigator = settings.value("navigator", "true") in (*_TRUE, True)
        # What stands on saved pictures beside the picture itself.
        kept = settings.value("on pictures", "scale bar,key,labels")
        self.on_pictures: frozenset[str] = frozenset(str(kept).split(",")) - {""}
        self.layout_kind: Layout = "one"
        self.overlay = False
        self.hidden: frozenset[str] = frozenset()
        # The sample on the right of the split line; 0 is the plain view of the focused one.
        self.split: int | None = None
        # A step and what of it is shown large in Correct, in place of the whole method.
        self.aspect: tuple[str, Aspect] | None = None
        self.background_as_relief = settings.value("background as relief", "true") in (
            *_TRUE,
            True,
        )
        # Gray classes are shown in flat tints while they are chosen.
        self.flat_classes = False
        self.line: Line | None = None
        self.pixel: tuple[int, int] | None = None

    def choose(self, **choices: Any) -> None:
        """Change choices by name."""
        changed = {name: value for name, value in choices.items() if getattr(self, name) != value}
        for name, value in changed.items():
            setattr(self, name, value)
            if name in _KEPT:
                plain = ",".join(sorted(value)) if isinstance(value, frozenset) else value
                QSettings().setValue(_KEPT[name], plain)
        if "tool" in changed:
            self.tool_changed.emit(self.tool)
        if "line" in changed:
            self.line_changed.emit()
        # A line that follows the pointer changes no picture and no number.
        if changed.keys() - {"line"}:
            self.changed.emit()

    def use(self, tool: Tool) -> None:
        """Take a tool into hand; taking the same again puts it away."""
        self.choose(tool="point" if tool == self.tool else tool)

    def point_at(self, pixel: tuple[int, int] | None) -> None:
        """Move the pointer; the same pixel again says nothing."""
        if pixel != self.pixel:
            self.pixel = pixel
            self.pointed.emit(pixel)


_KEPT = {
    "scale": "scale",
    "form": "form",
    "count_from_one": "fits places",
    "rulers": "rulers",
    "navigator": "navigator",
    "marked": "marked regions",
    "on_pictures": "on pictures",
    "background_as_relief": "background as relief",
}


def _one_of(value: Any, allowed: tuple[Any, ...], default: Any) -> Any:
    return value if value in allowed else default
