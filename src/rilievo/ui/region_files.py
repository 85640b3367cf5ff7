"""Regions of the class in focus as files: JSON of our own, and label images."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFileDialog

from rilievo.core.regions.drawn import DrawnRegion
from rilievo.core.regions.label_image import write_label_image
from rilievo.core.regions.region_file import (
    RegionFile,
    as_drawn,
    load_regions,
    save_regions,
)

if TYPE_CHECKING:
    from rilievo.ui.window import Window

_LABELS = (".tif", ".tiff")


class RegionFiles:
    """Asks for a name, writes or reads, and says what came of it."""

    def __init__(self, window: Window) -> None:
        self._window = window

    def ask_save(self) -> None:
        """Choose a name: the ending decides between JSON and label image."""
        window = self._window
        entry = window.model.entry
        if entry is None:
            return
        name = f"{entry.name}-{window.model.outline.region_class}.json"
        chosen, _ = QFileDialog.getSaveFileName(
            window, "Save regions", name, "Regions (*.json);;Label image (*.tif)"
        )
        if chosen:
            self.save(Path(chosen))

    def save(self, path: Path) -> None:
        """Write the regions of the class in focus; label images of the sample in focus."""
        window, bench = self._window, self._window.bench
        outline, entry = window.model.outline, window.model.entry
        regions = bench.focused_regions
        if entry is None or regions is None:
            return
        if path.suffix.lower() not in (*_LABELS, ".json"):
            path = path.with_name(path.name + ".json")

        def work() -> None:
            if path.suffix.lower() in _LABELS:
                write_label_image(regions, path)
            elif outline.source == "drawn":
                save_regions(path, outline.region_class, outline.drawn)
            else:
                save_regions(path, outline.region_class, as_drawn(regions, entry.name))

        bench.jobs.run(
            "write regions",
            work,
            lambda _: window.notice.tell(f"Saved {path.name}."),
            lambda error: window.notice.warn(str(error)),
        )

    def ask_load(self) -> None:
        """Choose a file of regions."""
        chosen, _ = QFileDialog.getOpenFileName(
            self._window, "Load regions", "", "Regions (*.json)"
        )
        if chosen:
            self.load(Path(chosen))

    def load(self, path: Path) -> None:
        """Add the regions of a file to the class in focus, or to a new drawn one.

        Regions of a sample that the study does not have become those of the sample in focus.
        """
        window = self._window
        window.bench.jobs.run(
            "load regions",
            lambda: load_regions(path),
            lambda file: self._take(file, path.name),
            lambda error: window.notice.warn(str(error)),
        )

    def _take(self, file: RegionFile, name: str) -> None:
        window, model = self._window, self._window.model
        if model.outline.source != "drawn":
            window.outline_panel.classes.add_class("drawn")
        known = {entry.name for entry in model.state.samples}
        here = model.entry.name if model.entry is not None else None
        taken: list[DrawnRegion] = [
            one if one.sample is None or one.sample in known
            else one.model_copy(update={"sample": here})
            for one in file.regions
        ]  # fmt: skip
        window.bench.change_outline("Load regions", drawn=(*model.outline.drawn, *taken))
        window.notice.tell(f"Took {len(taken)} regions from {name}.")
