"""What the actions of Compare do: show what was compared, lead to where it comes from, save it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtGui import QGuiApplication

from rilievo.core.compare import Comparison, Question
from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.compare.plots.panel import PlotInputs
from rilievo.core.files.sample_ref import labelled
from rilievo.core.method.method import Method
from rilievo.core.report.figures import FIGURE_KINDS, Dot, save_figure, use_fonts
from rilievo.core.report.sensitivity import AlternativeResult, run_alternatives
from rilievo.core.report.two_measurers import TwoMeasurements, measure_twice, write_agreement
from rilievo.core.study.outside_files import files_of_method, files_of_study, outside
from rilievo.core.study.study_file import SUFFIX, load_study
from rilievo.ui.canvas.picture import Picture
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.commands.measure import MeasureCommands
from rilievo.ui.panels.comparison_panel import ComparisonView
from rilievo.ui.panels.drawer import Drawer
from rilievo.ui.stages.compare.compare_panel import ComparePanel


class CompareCommands:
    """Works on the comparison that the cards ask for."""

    def __init__(
        self,
        context: CommandContext,
        panel: ComparePanel,
        view: ComparisonView,
        drawer: Drawer,
        picture: Picture,
        measure: MeasureCommands,
    ) -> None:
        self._context, self._panel, self._view = context, panel, view
        self._drawer, self._picture, self._measure = drawer, picture, measure
        self._session = context.session
        # Method and question with which the choices were tried last.
        self._tried: tuple[Method, Question] | None = None

    def show(self, comparisons: tuple[Comparison, ...], inputs: PlotInputs, message: str) -> None:
        """Show what was compared as plot and tables."""
        self._view.show_comparisons(comparisons, inputs, message, self._panel.toggle)
        self._drawer.groups.show_comparisons(comparisons)
        self._drawer.tests.show_comparisons(comparisons)
        self._note_stale_choices()
        self._context.follow()

    # -- from a value to where it comes from

    def focus_dot(self, dot: Dot) -> None:
        """Focus the sample, and the region, that a dot stands for."""
        entry = self._session.named(dot.sample)
        if entry is not None:
            regions = {dot.region} if dot.region else set()
            self._session.focus.set(sample_id=entry.id, regions=regions)

    def show_origin_of_dot(self, dot: Dot) -> None:
        """A dot that stands for one region leads to its number."""
        comparison = self._panel.comparison
        if dot.region and comparison is not None:
            self._measure.show_origin(
                dot.sample, dot.region, comparison.channel, comparison.quantity
            )

    def show_outlier(self, sample: str, region: int) -> None:
        """Go to what stands apart, in its picture."""
        entry = self._session.named(sample)
        if entry is None:
            return
        channel = self._panel.question.channel
        self._session.focus.set(
            sample_id=entry.id, channel=channel, regions={region} if region else set()
        )
        self._session.go_to("measure")
        if region:
            self._picture.show_region(region)

    def show_batch_checks(self) -> None:
        """Show what differs between the samples."""
        self._session.go_to("compare")
        self._view.show_view("checks")

    def try_choices(self) -> None:
        """Compare again under the choices that one could ask about, and show what follows."""
        self._session.go_to("compare")
        self._view.show_view("choices")
        state, question = self._session.state, self._panel.question
        samples, compute = labelled(state.samples), self._context.compute
        page = self._view.choices

        def done(results: list[AlternativeResult]) -> None:
            page.show_results(results)
            self._tried = state.method, question

        compute.awaited.run(
            "choices",
            "Comparing under other choices",
            lambda report: run_alternatives(
                samples, state.method, question, report, compute.measurer(), state.preregistration
            ),
            done,
            lambda error: page.say(str(error)),
            stopped=lambda: self._context.notices.tell("Trying the choices was stopped."),
            newest=True,
        )

    def ask_other(self) -> None:
        """Choose the study or method of the other measurer."""
        path = self._context.dialogs.ask_file(
            "The other measurer", f"Studies and methods (*{SUFFIX} *.json)"
        )
        if path is not None:
            self.measure_twice(path)

    def measure_twice(self, path: Path) -> None:
        """Measure all samples also by the method of a study or of a file, and match the regions."""
        self._session.go_to("compare")
        self._view.show_view("twice")

        def read() -> Method:
            return load_study(path).state.method if path.suffix == SUFFIX else Method.load(path)

        self._context.compute.jobs.run(
            "other measurer",
            read,
            lambda other: self._measure_by(other, path),
            lambda error: self._view.twice.say(str(error)),
        )

    def _measure_by(self, other: Method, path: Path) -> None:
        """Measure all samples also by another method, which is of a file."""
        state, question = self._session.state, self._panel.question
        samples, compute, page = labelled(state.samples), self._context.compute, self._view.twice
        names = [entry.name for entry in state.samples]
        led = outside(files_of_method(other, names), [path.parent], files_of_study(state))
        if led and not self._context.dialogs.ask_outside(path.name, led):
            return

        def work(report: Callable[[float], None]) -> TwoMeasurements:
            return measure_twice(
                samples, (state.method, other), ("this study", path.stem),
                quantity=question.quantities[0], channel=question.channel,
                region_class=question.region_class, report=report, measurer=compute.measurer(),
            )  # fmt: skip

        compute.awaited.run(
            "twice", "Measuring twice", work, page.show_found, lambda error: page.say(str(error)),
            stopped=lambda: self._context.notices.tell("Measuring twice was stopped."), newest=True,
        )  # fmt: skip

    def save_agreement(self) -> None:
        """Choose a folder for tables and plot of two measurers."""
        found = self._view.twice.found
        folder = self._context.dialogs.ask_folder("Folder for tables and plot")
        if folder is not None and found is not None:
            self._context.write(folder, lambda: write_agreement(found, folder))

    def _note_stale_choices(self) -> None:
        """Say where the choices were tried with another method or question."""
        if self._tried is None or not self._view.choices.results:
            return
        same = self._tried == (self._session.state.method, self._panel.question)
        why = "" if same else "Tried with another method or comparison; try again."
        self._view.choices.note_stale(why)

    # -- files and clipboard

    def ask_plot(self) -> None:
        """Choose a name for the plot."""
        path = self._context.dialogs.ask_name(
            "Save plot", "comparison.svg", "Plots (*.svg *.png *.pdf)"
        )
        if path is not None:
            self.save_plot(path)

    def save_plot(self, path: Path) -> None:
        """Write the plot as PNG, SVG or PDF, by the name's ending."""
        comparisons, inputs = self._panel.comparisons, self._panel.inputs
        if not comparisons:
            return
        if path.suffix.lower().lstrip(".") not in FIGURE_KINDS:
            path = path.with_name(path.name + ".svg")

        def work() -> None:
            use_fonts()
            save_figure(comparisons, path, FigureLook(), inputs)

        self._context.write(path, work)

    def copy_plot(self) -> None:
        """Copy the plot as it is shown."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setPixmap(self._view.plot.grab())
            self._context.notices.tell("Plot copied.")

    def copy_groups(self) -> None:
        """Copy the statistics of the groups, and the tests between them."""
        text = f"{self._drawer.groups.as_text()}\n\n{self._drawer.tests.as_text()}"
        self._context.copy_text(text, "Statistics and tests copied.")
