"""What one looks through: tools, picks, repairs, split line, copied views. For one window."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QTimer

from rilievo.core.parameters import Rectangle
from rilievo.core.signal.steps.repair_pixels import Repair
from rilievo.core.study.study import OwnView

if TYPE_CHECKING:
    from rilievo.ui.window import Window


class Looking:
    """Connects the parts that are looked through, and does what their actions ask for."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self.copied_view: OwnView | None = None

    def connect(self) -> None:
        """Connect what one looks at with what one looks through."""
        window = self._window
        viewing, picture, drawer = window.model.viewing, window.area.picture, window.drawer
        window.area.sheet.pointed.connect(window.status.point_at)
        window.area.sheet.viewed.connect(window.show_zoom)
        viewing.changed.connect(window.show_zoom)
        # Once for all that changes while a pointer moves.
        self._refresh_timer = QTimer(self._window)
        self._refresh_timer.setSingleShot(True)
        self._refresh_timer.timeout.connect(window.refresh_actions)
        for signal in (viewing.changed, viewing.line_changed):
            signal.connect(lambda: self._refresh_timer.start(0))
        viewing.tool_changed.connect(self._on_tool)
        picture.pick_wanted.connect(self._pick)
        picture.line_drawn.connect(drawer.profile.set_line)
        picture.length_drawn.connect(window.look_panel.levels.take_length)
        picture.repair_wanted.connect(self._repair)
        picture.tool_done.connect(lambda: viewing.choose(tool="point"))
        drawer.profile.cursor_moved.connect(self._show_line_cursor)
        drawer.picks.chosen_changed.connect(self._choose_picks)
        drawer.picks.go_to.connect(self._look_at)
        drawer.picks.copy_wanted.connect(window.readings.copy_picks)
        drawer.picks.save_wanted.connect(window.readings.ask_picks)
        drawer.profile.copy_wanted.connect(window.readings.copy_profile)
        drawer.profile.save_wanted.connect(window.readings.ask_profile)
        drawer.histogram.copy_wanted.connect(window.readings.copy_histogram)
        drawer.histogram.save_wanted.connect(window.readings.ask_histogram)
        window.look_panel.levels.length_wanted.connect(lambda: viewing.use("length"))
        window.look_panel.sample.metadata_wanted.connect(window.show_metadata)
        window.look_panel.statistics.place_wanted.connect(self._look_at)
        window.metadata.closed.connect(window.show_picture)
        window.intake.closed.connect(window.show_picture)
        window.intake.accepted.connect(window.files.add_proposals)

    def _on_tool(self, tool: str) -> None:
        """Bring to the front what a tool fills, and say how it is used."""
        tabs = {"pick": "Picks", "line": "Profile", "repair": "Pixels"}
        if tool in tabs:
            self._window.drawer.show_tab(tabs[tool])
        if tool == "length":
            self._window.notice.tell(
                "Drag a line over something of known length, then type the length."
            )
        if tool != "point":
            self._window.show_picture()
            self._window.model.viewing.choose(layout_kind="one")
        self._window.refresh_actions()

    def _pick(self, x: int, y: int) -> None:
        self._window.model.add_pick(*self._window.bench.seen.file_pixel(x, y))

    def _repair(self, patch: Rectangle) -> None:
        x, y = self._window.bench.seen.file_pixel(patch.x, patch.y)
        patch = patch.model_copy(update={"x": x, "y": y})
        value = self._window.drawer.pixels.repair_value.value
        self._window.model.repair(Repair(**patch.model_dump(), value=value))
        count = patch.width * patch.height
        self._window.notice.tell(
            f"{count} pixel{'s' if count != 1 else ''} repaired in the signal; the file and its "
            "native values stay as they are. See Correct, or undo."
        )

    def _show_line_cursor(self, distance: float | None) -> None:
        self._window.area.picture.line_cursor = distance
        self._window.area.picture.update()

    def _choose_picks(self, numbers: frozenset[int]) -> None:
        self._window.area.picture.chosen_picks = numbers
        self._window.area.picture.update()

    def _look_at(self, x: int, y: int) -> None:
        """Bring a pixel into the middle, large enough to be seen."""
        self._window.show_picture()
        self._window.model.viewing.choose(layout_kind="one")
        picture = self._window.area.picture
        if picture.zoom < 4:
            picture.zoom_to(8.0)
        picture.centre_on(x, y)

    def split_with_next(self) -> None:
        """Set the focused sample beside another, each time the one after."""
        viewing = self._window.model.viewing
        others = [
            e.id for e in self._window.model.state.samples if e.id != self._window.model.sample_id
        ]
        if not others:
            self._window.notice.tell(
                "A split line needs a second sample; Shift+S splits with plain gray."
            )
            return
        k = others.index(viewing.split) + 1 if viewing.split in others else 0
        viewing.choose(split=others[k % len(others)], layout_kind="one")

    def copy_view(self) -> None:
        """Keep how the focused sample is shown."""
        state, sample_id = self._window.model.state, self._window.model.sample_id
        own = state.own_views.get(sample_id or 0)
        self.copied_view = own or OwnView(dict(state.ranges), dict(state.styles))
        self._window.refresh_actions()

    def paste_view(self) -> None:
        """Show the chosen samples as the one whose view was copied."""
        if self.copied_view is None:
            return
        state = self._window.model.state
        for entry in self._window.model.chosen:
            state = state.with_own_view(entry.id, self.copied_view)
        self._window.model.change("Use copied view", state)

    def pick_here(self) -> None:
        """Pin what is read under the pointer."""
        if self._window.model.viewing.pixel is not None:
            self._pick(*self._window.model.viewing.pixel)
            self._window.drawer.show_tab("Picks")
