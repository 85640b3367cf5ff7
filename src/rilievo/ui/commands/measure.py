"""What the actions of Measure do: measuring, the origin of a number, tables and light curves."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path

import numpy as np

from rilievo.core.files.sample_parts import named_checksums
from rilievo.core.pipeline.origin import Origin, origin_of
from rilievo.core.pipeline.provenance import metadata_of
from rilievo.core.pipeline.uncertainty import NumberErrors, camera_of, errors_of_numbers
from rilievo.core.report.camera_noise_report import camera_from_files, errors_of_table
from rilievo.core.report.figures import use_fonts
from rilievo.core.table.error_columns import Errors
from rilievo.core.table.number_reference import find_reference
from rilievo.core.table.star_series import series_frame
from rilievo.core.table.table import chosen_frame, region_frame
from rilievo.core.table.table_files import wide, write_table
from rilievo.core.table.track_columns import with_missing_tracks
from rilievo.core.table.writers import WRITERS
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.panels.drawer import Drawer
from rilievo.ui.panels.origin_panel import OriginPanel
from rilievo.ui.session.study_session import STAGES

# So many pixels of all channels take well under a second.
_AT_ONCE = 4_000_000


class MeasureCommands:
    """Runs the method, leads from numbers to where they come from, writes tables."""

    def __init__(self, context: CommandContext, drawer: Drawer, origin: OriginPanel) -> None:
        self._context, self._drawer, self._origin = context, drawer, origin
        self._session, self._compute = context.session, context.compute
        # False in tests that are about a study without numbers.
        self.at_once = True
        # The region whose number is shown in the origin.
        self._origin_region = 0

    # -- measuring

    def measure_all(self) -> None:
        """Run the method on every sample."""
        self._compute.batch.start([entry.id for entry in self._session.state.samples])
        # The plot comes next: load what draws it while the numbers are computed.
        self._compute.jobs.run("warm up", use_fonts, lambda _: None)
        if self._session.stage in ("look", "correct", "outline"):
            self._session.go_to("measure")

    def measure_at_once(self, stage: str) -> None:
        """Measure the focused sample when Measure is entered, where that is soon done.

        The other samples wait for *Measure all*; what was chosen to be followed is kept.
        """
        sample, sample_id = self._compute.store.focused, self._session.focus.sample_id
        if stage != "measure" or sample is None or sample_id is None or not self.at_once:
            return
        pixels = sum(plane.pixels.size for plane in sample.channels.values())
        known = sample_id in self._session.measurements.tables
        if pixels <= _AT_ONCE and not known and not self._compute.batch.is_running:
            self._compute.batch.start([sample_id])

    def measure_one(self) -> None:
        """Run the method on the focused sample."""
        if self._session.focus.sample_id is not None:
            self._compute.batch.start([self._session.focus.sample_id])
            self._session.go_to("measure")

    # -- origin

    def show_origin(self, sample: str, region: int, channel: str, key: str) -> None:
        """Show where a number comes from, and its pixels in the picture."""
        session, compute = self._session, self._compute
        entry = session.named(sample)
        tables = session.measurements.ordered_tables()
        table = next((t for t in tables if t.sample == sample), None)
        if entry is None or table is None or entry.id not in compute.store.samples:
            self._context.notices.warn(f"“{sample}” is not measured now; measure it first.")
            return
        if session.measurements.is_stale:
            self._context.notices.warn(
                "The method has changed since this number was measured; measure all again "
                "(Ctrl+M), then click the number."
            )
            return
        session.focus.set(sample_id=entry.id, channel=channel, regions={region})
        analysis = compute.store.analysis(entry.id)
        files = named_checksums(entry.sources, entry.checksum)

        def done(origin: Origin) -> None:
            self._origin_region = region
            self._origin.show_origin(origin, compute.ranges.number_scale(channel))
            self._context.pages.show_origin(True)

        compute.jobs.run(
            "origin",
            lambda: origin_of(analysis, table, region, channel, key, files),
            done,
            self._context.warn_of,
        )

    def find_error(self) -> None:
        """Find the standard error of the number whose origin is shown."""
        origin, session, compute = self._origin.origin, self._session, self._context.compute
        entry = session.named(origin.sample) if origin is not None else None
        card = self._origin.error
        if origin is None or entry is None:
            return
        if session.measurements.is_stale:
            card.say(
                "The method has changed since this number was measured; measure all again "
                "(Ctrl+M), then click the number."
            )
            return
        method = session.state.method
        key, region = origin.quantity.key, self._origin_region

        def work(report: Callable[[float], None]) -> tuple[NumberErrors, int]:
            with compute.measurer().analyses(entry, [method]) as (analysis,):
                position = method.class_index(origin.region_class)
                errors = errors_of_numbers(
                    analysis, position, origin.channel, (key,),
                    camera_of(analysis.given, card.noise), report=report,
                )  # fmt: skip
                ids = analysis.regions(position).ids
                return errors[key], int(np.searchsorted(ids, region))

        def done(found: tuple[NumberErrors, int]) -> None:
            if self._origin.origin is not origin:
                return
            errors, row = found
            pixels, background, finding = (
                float(part[row]) for part in (errors.pixels, errors.background, errors.found)
            )
            card.show_error(
                origin.value,
                float(errors.total[row]),
                (pixels, background, finding),
                origin.unit,
            )

        compute.awaited.run(
            "error", "Finding the error", work, done, lambda error: card.say(str(error)),
            stopped=lambda: card.say("Finding the error was stopped."), newest=True,
        )  # fmt: skip

    def toggle_errors(self) -> None:
        """Find the standard errors of all numbers as columns beside them, or take these away."""
        measurements, compute = self._session.measurements, self._context.compute
        if measurements.has_errors:
            measurements.drop_errors()
            return
        state, noise = self._session.state, self._origin.error.noise
        tables = dict(measurements.tables)
        samples = [entry for entry in state.samples if entry.id in tables]
        ids = {entry.name: entry.id for entry in samples}

        def work(report: Callable[[float], None]) -> tuple[dict[int, Errors], list[str]]:
            found, failures = compute.measurer().each(
                samples,
                [state.method],
                lambda ref, analyses: errors_of_table(ref, analyses[0], noise),
                report,
            )
            return {ids[name]: errors for name, errors in found.items()}, list(failures.values())

        def done(result: tuple[dict[int, Errors], list[str]]) -> None:
            found, failed = result
            for sample_id, errors in found.items():
                measurements.take_errors(sample_id, tables[sample_id], errors)
            if failed:
                self._context.notices.warn(failed[0])

        compute.awaited.run(
            "errors", f"Finding the errors of {len(samples)} samples", work, done,
            self._context.warn_of,
            stopped=lambda: self._context.notices.tell("Finding errors was stopped."), newest=True,
        )  # fmt: skip

    def ask_camera_frames(self) -> None:
        """Choose flats, then darks, and find the camera's noise from them."""
        dialogs = self._context.dialogs
        flats = dialogs.ask_files("Flats: two at each of several levels", "Images (*)")
        darks = dialogs.ask_files("Darks: two at least", "Images (*)") if flats else []
        if flats and darks:
            self.find_camera(flats, darks)

    def find_camera(self, flats: Sequence[Path], darks: Sequence[Path]) -> None:
        """Find the camera's noise from frames, and take it for the errors of numbers."""
        card = self._origin.error
        self._context.compute.jobs.run(
            "camera",
            lambda: camera_from_files(flats, darks),
            lambda found: card.take_noise(found.noise, found.sentence()),
            lambda error: card.say(str(error)),
        )

    def step_back(self) -> None:
        """Leave the origin of a number; without one, choose no region."""
        if self._context.pages.origin_shown:
            self.leave_origin()
        else:
            self._session.focus.set(regions=())

    def leave_origin(self) -> None:
        """Go back from the origin to the cards of the stage."""
        self._context.pages.show_origin(False)

    def leave_stale_origin(self) -> None:
        """A number that a changed method would not give any more is not shown."""
        if self._context.pages.origin_shown and self._session.measurements.is_stale:
            self.leave_origin()

    def ask_number(self) -> None:
        """Ask for a number by what a report or a file calls it."""
        text = self._context.dialogs.ask_text(
            "Go to a number",
            "Sample / region / channel / quantity, as a report or file names it:",
        )
        if text:
            self.go_to_number(text)

    def go_to_number(self, text: str) -> None:
        """Show the origin of a number named as a report writes it."""
        found = find_reference(text, self._session.measurements.ordered_tables())
        if isinstance(found, str):
            self._context.notices.warn(found)
            return
        if self._session.stage not in STAGES[2:4]:
            self._session.go_to("measure")
        self.show_origin(*found)

    # -- tables

    def copy_table(self) -> None:
        """Copy the chosen rows, or all, as tab-separated text."""
        tables, rows = self._drawer.measurements.selected_or_all()
        self._compute.jobs.run(
            "copy",
            lambda: chosen_frame(tables, rows).csv_text(separator="\t"),
            lambda text: self._context.copy_text(text, f"{len(rows)} rows copied."),
        )

    def ask_table(self) -> None:
        """Choose a name and a format for the table."""
        kinds = {
            f"{one.title}, {form} (*{one.suffix})": (one.suffix, form == "one row per region")
            for one in WRITERS.values()
            for form in ("one row per region and channel", "one row per region")
        }
        path, kind = self._context.dialogs.ask_name_of("Save table", "regions.csv", kinds)
        if path is not None:
            suffix, as_wide = kind
            known = path.suffix.lower() in {one.suffix for one in WRITERS.values()}
            self.save_table(path if known else path.with_name(path.name + suffix), as_wide=as_wide)

    def save_table(self, path: Path, *, as_wide: bool = False) -> None:
        """Write every region of every sample, with the metadata, in the format of the name."""
        tables = self._session.measurements.ordered_tables()
        method = self._session.state.method
        entries = self._session.state.samples
        files = {e.name: named_checksums(e.sources, e.checksum) for e in entries}
        now, checks = datetime.now().astimezone(), self._compute.checks.all()

        def work() -> None:
            # Measured a moment ago, regions may not have been followed yet.
            frame = region_frame(with_missing_tracks(tables))
            metadata = metadata_of(tables, method, files, now, checks)
            write_table(wide(frame) if as_wide else frame, path, metadata)

        self._context.write(path, work)

    def ask_light_curve(self) -> None:
        """Choose a name for the light curves."""
        path = self._context.dialogs.ask_name(
            "Save light curves", "light-curves.csv", "CSV (*.csv)"
        )
        if path is not None:
            self.save_light_curve(path)

    def save_light_curve(self, path: Path) -> None:
        """Write all stars of the series with their magnitudes, errors and dates."""
        series = self._drawer.series
        if series is not None:
            self._context.write(path, lambda: series_frame(series).write_csv(path))
