"""What goes in and out of the window: images, studies, methods, tables, plots.

The `ask_…` functions open a dialog and hand the chosen name on; the others do the work, off the
interface thread where it takes time, and report in place.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import platformdirs
from PyQt6.QtCore import QSettings
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFileDialog, QMessageBox

from rilievo.core.errors import FileError, RilievoError
from rilievo.core.files import image_suffixes, images_below
from rilievo.core.files.import_naming import Proposal
from rilievo.core.method.method import Method
from rilievo.core.method.step_edits import taken_over
from rilievo.core.report.figures import FIGURE_KINDS, save_figure, use_fonts
from rilievo.core.report.style import FigureLook
from rilievo.core.study.archive import PACKED_SUFFIX, pack_study, unpack_study
from rilievo.core.study.study_file import SUFFIX
from rilievo.core.table.table import chosen_frame, tab_separated
from rilievo.demo.sets import DEMO_SETS, write_demo_study
from rilievo.ui.recovery import left_behind

if TYPE_CHECKING:
    from rilievo.ui.window import Window

_MOST_RECENT = 8
Kind = TypeVar("Kind")


class Files:
    """Reading and writing for one window."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._model, self._bench = window.model, window.bench

    # -- images

    def ask_images(self) -> None:
        """Choose image files."""
        patterns = " ".join(f"*{suffix}" for suffix in image_suffixes())
        names, _ = QFileDialog.getOpenFileNames(
            self._window, "Add images", self._folder(), f"Images ({patterns});;All files (*)"
        )
        if names:
            self.open_any([Path(name) for name in names], ask=True)

    def ask_folder(self) -> None:
        """Choose a folder of images."""
        name = QFileDialog.getExistingDirectory(self._window, "Add folder", self._folder())
        if name:
            self.open_any([Path(name)], ask=True)

    def open_any(self, paths: Sequence[Path], *, ask: bool = False) -> None:
        """Open what was dropped or named: one study, or images and folders.

        ask : show first what would be taken, unless it is one plain file.
        """
        studies = [path for path in paths if path.suffix == SUFFIX]
        packed = [path for path in paths if path.name.endswith(PACKED_SUFFIX)]
        if packed:
            self.ask_unpack(packed[0])
        elif studies:
            self.open_study(studies[0])
        elif paths and ask:
            self.preview(paths)
        elif paths:
            self.add(paths)

    def preview(self, paths: Sequence[Path]) -> None:
        """Show what files and folders would become; one file of one plane is added at once."""
        self._remember_folder(paths[0])
        evaluator = self._bench.evaluator

        def work() -> tuple[list[Path], bool]:
            found = images_below(paths)
            if len(found) != 1:
                return found, False
            sample = evaluator.file(found[0].absolute())
            plain = set(sample.channel_names) <= {"gray", "red", "green", "blue", "brightness"}
            return found, plain and len(sample.images) < 2

        def done(result: tuple[list[Path], bool]) -> None:
            found, plain = result
            if plain or not found:
                self.add(paths)
            else:
                self._window.show_intake(found)

        self._bench.jobs.run(
            "preview", work, done, lambda error: self._window.notice.warn(str(error))
        )

    def add_proposals(self, proposals: Sequence[Proposal]) -> None:
        """Bring samples in as they were proposed."""
        self._window.show_picture()
        count = len(proposals)
        what = proposals[0].name if count == 1 else f"{count} samples"
        before = len(self._model.state.samples)
        self._model.change(f"Add {what}", self._model.state.with_proposals(list(proposals)))
        if len(self._model.state.samples) == before:
            self._window.notice.tell("These images are in the study already.")

    def add(self, paths: Sequence[Path]) -> None:
        """Bring images in; those that cannot be read are named, the others open all the same."""
        self._remember_folder(paths[0])
        bench = self._bench
        self._window.notice.tell("Reading …")

        def work() -> tuple[list[Path], list[str]]:
            good, problems = [], []
            files = images_below(paths)
            for path in files:
                try:
                    bench.evaluator.file(path.absolute())
                    good.append(path)
                except FileError as exc:
                    problems.append(str(exc))
            if not files:
                problems.append("There is no image in this folder; choose another.")
            return good, problems

        def done(result: tuple[list[Path], list[str]]) -> None:
            good, problems = result
            self._window.notice.hide()
            before = len(self._model.state.samples)
            if good:
                count = len(good)
                what = good[0].name if count == 1 else f"{count} images"
                self._model.change(f"Add {what}", self._model.state.with_files(good))
            if problems:
                self._window.notice.warn("\n".join(_shortened(problems)))
            elif len(self._model.state.samples) == before:
                self._window.notice.tell("These images are in the study already.")

        bench.jobs.run(f"add {paths[0]}", work, done)

    def open_demo(self, key: str = "lipid") -> None:
        """Write a made-up study to the user's data folder and open it."""
        folder = Path(platformdirs.user_data_dir("rilievo")) / "demo" / key
        self._window.notice.tell(f"Making up {DEMO_SETS[key].title} …")
        self._bench.jobs.run(
            "demo",
            lambda: write_demo_study(key, folder)[0],
            self.open_study,
            lambda error: self._window.notice.warn(str(error)),
        )

    # -- studies

    def new(self) -> None:
        """Begin a new study."""
        if self.may_leave():
            self._model.clear()

    def ask_study(self) -> None:
        """Choose a study."""
        name, _ = QFileDialog.getOpenFileName(
            self._window,
            "Open study",
            self._folder(),
            f"Rilievo studies (*{SUFFIX} *{PACKED_SUFFIX})",
        )
        if name:
            self.open_any([Path(name)])

    def open_study(self, path: Path) -> None:
        """Open a study file in place of the present one."""
        if not self.may_leave():
            return
        try:
            self._model.load(path)
        except RilievoError as exc:
            self._window.notice.warn(str(exc))
            return
        self._remember_folder(path)
        self._remember_recent(path)

    def offer_unsaved(self) -> None:
        """Offer what a crash left behind."""
        found = left_behind()
        if not found:
            return
        self._window.notice.warn(
            "Rilievo was not closed properly last time; the unsaved work was kept.",
            "Open it",
            lambda: self.open_unsaved(found[0]),
        )

    def open_unsaved(self, path: Path) -> None:
        """Take up unsaved work."""
        if not self.may_leave():
            return
        try:
            self._model.load_unsaved(path)
        except RilievoError as exc:
            self._window.notice.warn(str(exc))
            return
        path.unlink(missing_ok=True)

    def may_leave(self) -> bool:
        """Ask to save what would be lost; False means stay."""
        if not self._window.asks or not self._model.has_unsaved or not self._model.state.samples:
            return True
        answer = QMessageBox.question(
            self._window,
            "Save changes?",
            f"“{self._model.state.name}” has changes that are not saved.",
            QMessageBox.StandardButton.Save
            | QMessageBox.StandardButton.Discard
            | QMessageBox.StandardButton.Cancel,
        )
        if answer == QMessageBox.StandardButton.Save:
            return self.save()
        return answer == QMessageBox.StandardButton.Discard

    def save(self) -> bool:
        """Save under the present name, or ask for one; False when that did not happen."""
        if self._model.path is None:
            return self.ask_save()
        return self.save_to(self._model.path)

    def ask_save(self) -> bool:
        """Choose a name and save."""
        path = self.ask_name("Save study", f"study{SUFFIX}", f"Rilievo studies (*{SUFFIX})")
        if path is None:
            return False
        return self.save_to(path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX))

    def save_to(self, path: Path) -> bool:
        """Save the study."""
        try:
            self._model.save(path)
        except RilievoError as exc:
            self._window.notice.warn(str(exc))
            return False
        self._remember_recent(path)
        self._window.notice.tell(f"Saved {path.name}.")
        return True

    # -- handing over

    def ask_pack(self) -> None:
        """Choose a name for the packed study."""
        name = f"{self._model.state.name}{PACKED_SUFFIX}".replace("/", "-")
        path = self.ask_name("Pack study", name, f"Packed studies (*{PACKED_SUFFIX})")
        if path is not None:
            plain = path.name.removesuffix(".zip").removesuffix(SUFFIX)
            self.pack(path.with_name(plain + PACKED_SUFFIX))

    def pack(self, path: Path) -> None:
        """Write the study with copies of its images."""
        model = self._model
        state, history = model.state, model.history()
        tables = {} if model.is_stale else dict(model.tables)
        self._window.notice.tell(f"Packing {len(state.samples)} samples …")
        self.write(path, lambda: pack_study(state, path, tables, history))

    def ask_unpack(self, path: Path) -> None:
        """Choose where a packed study is unpacked."""
        folder = self.ask_folder_for(f"Unpack “{path.name}” into")
        if folder is not None:
            self.unpack(path, folder)

    def unpack(self, path: Path, folder: Path) -> None:
        """Unpack a study below a folder, and open it."""
        self._window.notice.tell(f"Unpacking {path.name} …")
        self._bench.jobs.run(
            "unpack",
            lambda: unpack_study(path, folder),
            self.open_study,
            lambda error: self._window.notice.warn(str(error)),
        )

    # -- method

    def ask_method(self) -> None:
        """Choose a method file."""
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Load method", self._folder(), "Methods (*.json)"
        )
        if name:
            self.load_method(Path(name))

    def load_method(self, path: Path) -> None:
        """Take the method from a file, undoable; what is known of samples stays where it fits."""
        try:
            method = taken_over(Method.load(path), self._model.state.method)
        except RilievoError as exc:
            self._window.notice.warn(str(exc))
            return
        self._model.change_method(f"Load method {path.name}", method)

    def ask_save_method(self) -> None:
        """Choose a name for the method."""
        path = self.ask_name("Save method", "method.json", "Methods (*.json)")
        if path is not None:
            self.save_method(path)

    def save_method(self, path: Path) -> None:
        """Write the method file."""
        method = self._model.state.method
        self.write(path, lambda: method.save(path))

    # -- tables and plots

    def copy_table(self) -> None:
        """Copy the chosen rows, or all, as tab-separated text."""
        tables, rows = self._window.drawer.measurements.selected_or_all()

        def work() -> str:
            return tab_separated(chosen_frame(tables, rows))

        def done(text: str) -> None:
            _to_clipboard(text)
            self._window.notice.tell(f"{len(rows)} rows copied.")

        self._bench.jobs.run("copy", work, done)

    def ask_plot(self) -> None:
        """Choose a name for the plot."""
        path = self.ask_name("Save plot", "comparison.svg", "Plots (*.svg *.png *.pdf)")
        if path is not None:
            self.save_plot(path)

    def save_plot(self, path: Path) -> None:
        """Write the plot as PNG, SVG or PDF, by the name's ending."""
        panel = self._window.compare_panel
        comparisons, material = panel.comparisons, panel.material
        if not comparisons:
            return
        if path.suffix.lower().lstrip(".") not in FIGURE_KINDS:
            path = path.with_name(path.name + ".svg")

        def work() -> None:
            use_fonts()
            save_figure(comparisons, path, FigureLook(), material)

        self.write(path, work)

    def copy_plot(self) -> None:
        """Copy the plot as it is shown."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setPixmap(self._window.comparison.plot.grab())
            self._window.notice.tell("Plot copied.")

    def copy_groups(self) -> None:
        """Copy the statistics of the groups."""
        drawer = self._window.drawer
        _to_clipboard(f"{drawer.groups.as_text()}\n\n{drawer.tests.as_text()}")
        self._window.notice.tell("Statistics and tests copied.")

    # -- helpers

    def write(self, path: Path, work: Callable[[], None]) -> None:
        notice = self._window.notice
        self._remember_folder(path)
        self._bench.jobs.run(
            f"write {path}",
            work,
            lambda _: notice.tell(f"Saved {path.name}."),
            lambda error: notice.warn(str(error)),
        )

    def ask_name(self, title: str, name: str, kinds: str) -> Path | None:
        start = str(Path(self._folder()) / name)
        chosen, _ = QFileDialog.getSaveFileName(self._window, title, start, kinds)
        return Path(chosen) if chosen else None

    def ask_name_of(
        self, title: str, name: str, kinds: Mapping[str, Kind]
    ) -> tuple[Path | None, Kind]:
        """As `ask_name`, with several kinds of file; return also the kind that was chosen."""
        start = str(Path(self._folder()) / name)
        chosen, kind = QFileDialog.getSaveFileName(self._window, title, start, ";;".join(kinds))
        return (Path(chosen) if chosen else None), kinds.get(kind, next(iter(kinds.values())))

    def ask_folder_for(self, title: str) -> Path | None:
        """Choose a folder to write into; None when none was chosen."""
        name = QFileDialog.getExistingDirectory(self._window, title, self._folder())
        return Path(name) if name else None

    @staticmethod
    def _folder() -> str:
        return str(QSettings().value("folder", str(Path.home())))

    @staticmethod
    def _remember_folder(path: Path) -> None:
        folder = path if path.is_dir() else path.parent
        QSettings().setValue("folder", str(folder.absolute()))

    @staticmethod
    def recent() -> list[Path]:
        """Return the studies used last that are still there."""
        names = QSettings().value("recent", [])
        listed = [names] if isinstance(names, str) else list(names or [])
        return [path for path in map(Path, listed) if path.exists()]

    def _remember_recent(self, path: Path) -> None:
        others = [known for known in self.recent() if known != path.absolute()]
        names = [str(p) for p in (path.absolute(), *others)][:_MOST_RECENT]
        QSettings().setValue("recent", names)


def _shortened(problems: list[str], most: int = 4) -> list[str]:
    if len(problems) <= most:
        return problems
    return [*problems[:most], f"… and {len(problems) - most} more files that cannot be read."]


def _to_clipboard(text: str) -> None:
    clipboard = QGuiApplication.clipboard()
    if clipboard is not None:
        clipboard.setText(text)
