"""Regions of the class in focus as files: JSON of our own, and label images."""

from __future__ import annotations

from pathlib import Path

from rilievo.core.regions.drawn_shapes import DrawnRegion
from rilievo.core.regions.label_image import write_label_image
from rilievo.core.regions.region_file import (
    RegionFile,
    as_drawn,
    load_regions,
    save_regions,
)
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.stages.outline.classes_card import ClassesCard

_LABELS = (".tif", ".tiff", ".zarr")


class RegionFileCommands:
    """Asks for a name, writes or reads, and says what came of it."""

    def __init__(self, context: CommandContext, classes: ClassesCard) -> None:
        self._context, self._classes = context, classes
        self._session, self._compute = context.session, context.compute

    def ask_save(self) -> None:
        """Choose a name: the ending decides between JSON and label image."""
        focus = self._session.focus
        if focus.entry is None:
            return
        path = self._context.dialogs.ask_name(
            "Save regions",
            f"{focus.entry.name}-{focus.outline.region_class}.json",
            "Regions (*.json);;Label image (*.tif);;OME-TIFF labels (*.ome.tif);;"
            "OME-Zarr labels (*.ome.zarr)",
        )
        if path is not None:
            self.save(path)

    def save(self, path: Path) -> None:
        """Write the regions of the class in focus; label images of the sample in focus."""
        outline, entry = self._session.focus.outline, self._session.focus.entry
        regions = self._compute.regions.focused
        if entry is None or regions is None:
            return
        calibration = self._compute.displayed.frame_of(entry.id).calibration
        if path.suffix.lower() not in (*_LABELS, ".json"):
            path = path.with_name(path.name + ".json")

        def work() -> None:
            if path.suffix.lower() in _LABELS:
                write_label_image(regions, path, outline.region_class, calibration)
            elif outline.source == "drawn":
                save_regions(path, outline.region_class, outline.drawn)
            else:
                save_regions(path, outline.region_class, as_drawn(regions, entry.name))

        self._context.write(path, work)

    def ask_load(self) -> None:
        """Choose a file of regions."""
        path = self._context.dialogs.ask_file("Load regions", "Regions (*.json)")
        if path is not None:
            self.load(path)

    def load(self, path: Path) -> None:
        """Add the regions of a file to the class in focus, or to a new drawn one.

        Regions of a sample that the study does not have become those of the sample in focus.
        """
        self._compute.jobs.run(
            f"load regions {path}",
            lambda: load_regions(path),
            lambda file: self._take(file, path.name),
            self._context.warn_of,
        )

    def _take(self, file: RegionFile, name: str) -> None:
        session = self._session
        if session.focus.outline.source != "drawn":
            self._classes.add_class("drawn")
        known = {entry.name for entry in session.state.samples}
        here = session.focus.entry.name if session.focus.entry is not None else None
        taken: list[DrawnRegion] = [
            one if one.sample is None or one.sample in known
            else one.model_copy(update={"sample": here})
            for one in file.regions
        ]  # fmt: skip
        session.change_class("Load regions", drawn=(*session.focus.outline.drawn, *taken))
        self._context.notices.tell(f"Took {len(taken)} regions from {name}.")
