"""Bringing images into the study: files, folders, what was dropped, the demo."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

import platformdirs

from rilievo.core.errors import FileError
from rilievo.core.files import image_suffixes, images_below
from rilievo.core.files.file_state import cannot_read
from rilievo.core.files.plane_choice import is_stack
from rilievo.core.files.reader import check_recognised, read_layout
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.study.archive import PACKED_SUFFIX
from rilievo.core.study.study_file import SUFFIX
from rilievo.demo.sets import DEMO_SETS, write_demo_study
from rilievo.ui.commands.command_context import CommandContext
from rilievo.ui.commands.study_commands import StudyCommands

# Files of up to so many bytes are read before they are taken, for so many seconds in all.
_SMALL, _LOOK_S = 4_000_000, 0.5
_KNOWN = "These images are in the study already."


class ImageCommands:
    """Reads in threads; those that cannot be read are named, the others open all the same."""

    def __init__(self, context: CommandContext, study: StudyCommands) -> None:
        self._context, self._study = context, study
        self._session, self._compute = context.session, context.compute

    def ask_images(self) -> None:
        """Choose image files."""
        patterns = " ".join(f"*{suffix}" for suffix in image_suffixes())
        paths = self._context.dialogs.ask_files("Add images", f"Images ({patterns});;All files (*)")
        if paths:
            self.open_any(paths, ask=True)

    def ask_folder(self) -> None:
        """Choose a folder of images."""
        path = self._context.dialogs.ask_folder("Add folder")
        if path is not None:
            self.open_any([path], ask=True)

    def open_any(self, paths: Sequence[Path], *, ask: bool = False) -> None:
        """Open what was dropped or named: one study, or images and folders.

        ask : show first what would be taken, unless it is one plain file.
        """
        studies = [path for path in paths if path.name.endswith((SUFFIX, PACKED_SUFFIX))]
        if studies:
            self._study.open_file(studies[0])
        elif paths and ask:
            self.preview(paths)
        elif paths:
            self.add(paths)

    def preview(self, paths: Sequence[Path]) -> None:
        """Show what files and folders would become; one file of one plane is added at once."""
        self._context.dialogs.remember_folder(paths[0])
        cache = self._compute.cache

        def work() -> tuple[list[Path], bool]:
            found = images_below(paths)
            if len(found) != 1:
                return found, False
            if is_stack(read_layout(found[0].absolute())):
                return found, False
            sample = cache.file(found[0].absolute())
            plain = set(sample.channel_names) <= {"gray", "red", "green", "blue", "brightness"}
            return found, plain and len(sample.images) < 2

        def done(result: tuple[list[Path], bool]) -> None:
            found, plain = result
            if plain or not found:
                self.add(paths)
            else:
                self._context.pages.show_intake(found)

        self._compute.jobs.run("preview", work, done, self._context.warn_of)

    def add_proposals(self, proposals: Sequence[SampleRef]) -> None:
        """Bring samples in as they were proposed."""
        self._context.pages.show_picture()
        count = len(proposals)
        what = proposals[0].name if count == 1 else f"{count} samples"
        before = len(self._session.state.samples)
        self._session.change(f"Add {what}", self._session.state.with_samples(list(proposals)))
        if len(self._session.state.samples) == before:
            self._context.notices.tell(_KNOWN)

    def add(self, paths: Sequence[Path]) -> None:
        """Bring images in."""
        self._context.dialogs.remember_folder(paths[0])
        self._context.notices.tell("Reading …")
        cache = self._compute.cache

        def work() -> tuple[list[Path], list[str]]:
            good, problems = [], []
            files = images_below(paths)
            ends = time.monotonic() + _LOOK_S
            for path in files:
                try:
                    # A few small ones are read whole, so that what is damaged is refused at once;
                    # of the others it is said where they are shown.
                    if time.monotonic() < ends and path.stat().st_size <= _SMALL:
                        cache.file(path.absolute())
                    else:
                        check_recognised(path)
                    good.append(path)
                except OSError as exc:
                    problems.append(str(cannot_read(path, exc)))
                except FileError as exc:
                    problems.append(str(exc))
            if not files:
                problems.append("There is no image in this folder; choose another.")
            return good, problems

        self._compute.jobs.run(f"add {paths[0]}", work, lambda result: self._take(*result))

    def _take(self, good: list[Path], problems: list[str]) -> None:
        notices, session = self._context.notices, self._session
        notices.hide()
        before = len(session.state.samples)
        if good:
            what = good[0].name if len(good) == 1 else f"{len(good)} images"
            session.change(f"Add {what}", session.state.with_files(good))
        if problems:
            notices.warn("\n".join(_shortened(problems)))
        elif len(session.state.samples) == before:
            notices.tell(_KNOWN)

    def open_demo(self, key: str = "lipid") -> None:
        """Write a synthetic study to the user's data folder and open it."""
        folder = Path(platformdirs.user_data_dir("rilievo")) / "demo" / key
        self._context.notices.tell(f"Generating {DEMO_SETS[key].title} …")
        self._compute.jobs.run(
            "demo",
            lambda: write_demo_study(key, folder)[0],
            self._study.open_study,
            self._context.warn_of,
        )


def _shortened(problems: list[str], most: int = 4) -> list[str]:
    if len(problems) <= most:
        return problems
    return [*problems[:most], f"… and {len(problems) - most} more files that cannot be read."]
