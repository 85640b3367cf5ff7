"""What is read off the picture: picks, repaired pixels, positions to look at."""

from __future__ import annotations

from rilievo.core.parameters import Rectangle
from rilievo.core.signal.steps.repair_pixels import Repair
from rilievo.core.wording.lists import counted
from rilievo.ui.canvas.picture_area import PictureArea
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.panels.drawer import Drawer
from rilievo.ui.session.sample_edits import add_pick, repair

_TABS = {"pick": "Picks", "line": "Profile", "repair": "Pixels"}


class LookCommands:
    """What the tools of Look ask for."""

    def __init__(self, context: CommandContext, area: PictureArea, drawer: Drawer) -> None:
        self._context, self._area, self._drawer = context, area, drawer
        self._session, self._compute = context.session, context.compute

    def follow_tool(self, tool: str) -> None:
        """Bring to the front what a tool fills, and say how it is used."""
        if tool in _TABS:
            self._drawer.show_tab(_TABS[tool])
        if tool == "length":
            self._context.notices.tell(
                "Drag a line over something of known length, then type the length."
            )
        if tool != "point":
            self._context.pages.show_picture()
            self._session.view.choose(layout_kind="one")
        self._context.follow()

    def add_pick(self, x: int, y: int) -> None:
        """Pin what is read at a pixel of the picture."""
        add_pick(self._session, *self._compute.displayed.file_pixel(x, y))

    def pick_here(self) -> None:
        """Pin what is read under the pointer."""
        if self._session.view.pixel is not None:
            self.add_pick(*self._session.view.pixel)
            self._drawer.show_tab("Picks")

    def choose_picks(self, numbers: frozenset[int]) -> None:
        """Show which picks are chosen in their list."""
        self._area.picture.chosen_picks = numbers
        self._area.picture.update()

    def repair(self, patch: Rectangle) -> None:
        """Replace a patch of the picture in the signal."""
        x, y = self._compute.displayed.file_pixel(patch.x, patch.y)
        patch = patch.model_copy(update={"x": x, "y": y})
        value = self._drawer.pixels.repair_value.value
        repair(self._session, Repair(**patch.model_dump(), value=value))
        count = patch.width * patch.height
        self._context.notices.tell(
            f"{counted(count, 'pixel')} repaired in the signal; the file and its "
            "native values stay as they are. See Correct, or undo."
        )

    def show_line_cursor(self, distance: float | None) -> None:
        """Show where the pointer stands along the profile."""
        self._area.picture.line_cursor = distance
        self._area.picture.update()

    def look_at(self, x: int, y: int) -> None:
        """Bring a pixel into the middle, large enough to be seen."""
        self._context.pages.show_picture()
        self._session.view.choose(layout_kind="one")
        picture = self._area.picture
        if picture.zoom < 4:
            picture.zoom_to(8.0)
        picture.centre_on(x, y)
