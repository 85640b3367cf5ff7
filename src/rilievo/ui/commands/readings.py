"""Readings out of the window: picks, profile, histogram as tables; the picture as it is seen."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtGui import QGuiApplication

from rilievo.core.image.histogram import histogram_frame
from rilievo.core.image.line_profile import profile_frame
from rilievo.core.method.picks import pick_frame, specimen_frame
from rilievo.core.result_frame import ResultFrame
from rilievo.ui.canvas.picture import Picture
from rilievo.ui.canvas.picture_export import PICTURE_SUFFIXES, PictureOrder, drawn, save_picture
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.compute.scene import scene_of
from rilievo.ui.panels.drawer import Drawer
from rilievo.ui.theme.roles import Theme


class ReadingCommands:
    """Copies and saves; frames are made off the interface thread."""

    def __init__(
        self, context: CommandContext, picture: Picture, drawer: Drawer, theme: Theme
    ) -> None:
        self._context, self._picture, self._drawer, self._theme = context, picture, drawer, theme
        self._session, self._compute = context.session, context.compute

    # -- picks

    def _pick_rows(self) -> Callable[[], list[dict[str, Any]]]:
        """Return what reads the picks of all samples loaded."""
        analyses = [
            (self._compute.store.analysis(e.id), e.group)
            for e in self._session.state.samples
            if e.id in self._compute.store.samples
        ]
        return lambda: [row for analysis, group in analyses for row in analysis.picks(group)]

    def copy_picks(self) -> None:
        """Copy the picks of all samples as tab-separated text."""
        rows = self._pick_rows()
        self._copy("picks", lambda: pick_frame(rows()).csv_text(separator="\t"))

    def ask_picks(self) -> None:
        """Choose a name for the picks."""
        path = self._context.dialogs.ask_name("Save picks", "picks.csv", "CSV (*.csv)")
        if path is not None:
            self.save_picks(path)

    def save_picks(self, path: Path) -> None:
        """Write the picks of all samples, and beside them their specimens."""
        rows = self._pick_rows()

        def work() -> None:
            found = rows()
            pick_frame(found).write_csv(path)
            specimen_frame(found).write_csv(path.with_name(f"{path.stem}-specimens.csv"))

        self._context.write(path, work)

    # -- profile

    def copy_profile(self) -> None:
        """Copy the profiles shown."""
        frame = self._profile_frame()
        if frame is not None:
            self._copy("profile", lambda: frame().csv_text(separator="\t"))

    def ask_profile(self) -> None:
        """Choose a name for the profile."""
        path = self._context.dialogs.ask_name("Save profile", "profile.csv", "CSV (*.csv)")
        if path is not None:
            self.save_profile(path)

    def save_profile(self, path: Path) -> None:
        """Write the profiles shown."""
        frame = self._profile_frame()
        if frame is not None:
            self._context.write(path, lambda: frame().write_csv(path))

    def _profile_frame(self) -> Callable[[], ResultFrame] | None:
        profiles = {one.name: one.profile for one in self._drawer.profile.profiles}
        sample = self._compute.store.focused
        if not profiles or sample is None:
            self._context.notices.tell("Draw a line on the picture first.")
            return None
        calibration = sample.first.calibration
        return lambda: profile_frame(profiles, calibration)

    # -- histogram

    def copy_histogram(self) -> None:
        """Copy the histograms shown, bin by bin."""
        shown = {one.name: one.histogram for one in self._drawer.histogram.histograms}
        self._copy("histogram", lambda: histogram_frame(shown).csv_text(separator="\t"))

    def ask_histogram(self) -> None:
        """Choose a name for the histogram."""
        path = self._context.dialogs.ask_name("Save histogram", "histogram.csv", "CSV (*.csv)")
        if path is not None:
            self.save_histogram(path)

    def save_histogram(self, path: Path) -> None:
        """Write the histograms shown, bin by bin."""
        shown = {one.name: one.histogram for one in self._drawer.histogram.histograms}
        self._context.write(path, lambda: histogram_frame(shown).write_csv(path))

    # -- picture

    def _order(self) -> PictureOrder | None:
        picture, entry = self._picture, self._session.focus.entry
        geometry = picture.geometry_now
        if geometry is None or entry is None or entry.id not in self._compute.store.samples:
            return None
        scene = scene_of(self._compute, entry.id, before=picture.shows_before)
        regions = self._compute.regions.focused if scene.labels is not None else None
        choices = self._session.view.on_pictures
        return PictureOrder(
            scene,
            geometry,
            self._theme.looks(),
            regions,
            scale_bar="scale bar" in choices,
            key="key" in choices,
            labels="labels" in choices,
            title=entry.name,
        )

    def ask_picture(self) -> None:
        """Choose a name for the picture."""
        kinds = "Pictures (" + " ".join(f"*{suffix}" for suffix in PICTURE_SUFFIXES) + ")"
        entry = self._session.focus.entry
        name = f"{entry.name}.png" if entry is not None else "picture.png"
        path = self._context.dialogs.ask_name("Save picture as seen", name, kinds)
        if path is not None:
            self.save_picture(path)

    def save_picture(self, path: Path) -> None:
        """Write the picture as it is seen, by the name's ending."""
        order = self._order()
        if order is None:
            return
        if path.suffix.lower() not in PICTURE_SUFFIXES:
            path = path.with_name(path.name + ".png")
        cache = self._compute.cache
        self._context.write(path, lambda: save_picture(order, path, cache))

    def copy_picture(self) -> None:
        """Copy the picture as it is seen."""
        order = self._order()
        if order is None:
            return

        def done(image: Any) -> None:
            clipboard = QGuiApplication.clipboard()
            if clipboard is not None:
                clipboard.setImage(image)
                self._context.notices.tell("Picture copied, for illustration.")

        cache = self._compute.cache
        self._compute.jobs.run("copy picture", lambda: drawn(order, cache), done)

    def _copy(self, what: str, work: Callable[[], str]) -> None:
        self._compute.jobs.run(
            f"copy {what}",
            work,
            lambda text: self._context.copy_text(text, f"{what.capitalize()} copied."),
            self._context.warn_of,
        )
