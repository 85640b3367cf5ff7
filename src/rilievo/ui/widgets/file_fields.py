"""Controls for parameters that are image files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QFileDialog, QLabel, QPushButton, QVBoxLayout, QWidget

from rilievo.core.files.reader import image_suffixes
from rilievo.core.image.calibration_frames import Frames, ImageFile
from rilievo.ui.widgets.card import choice_box, faint, side_by_side
from rilievo.ui.widgets.parameter_fields import Field, Known


def ask_images(parent: QWidget, title: str) -> list[Path]:
    """Let images be chosen; the folder is remembered."""
    endings = " ".join(f"*{suffix}" for suffix in image_suffixes())
    start = str(QSettings().value("frames folder", ""))
    names, _ = QFileDialog.getOpenFileNames(parent, title, start, f"Images ({endings})")
    if names:
        QSettings().setValue("frames folder", str(Path(names[0]).parent))
    return [Path(name) for name in names]


class FramesField(Field):
    """Files that are averaged."""

    wide = True

    def __init__(self, title: str) -> None:
        super().__init__()
        self._title = title
        self._frames = Frames()
        self.choose = QPushButton("Choose …")
        self.choose.clicked.connect(lambda: self.set_files(ask_images(self, title)))
        self.clear = QPushButton("Clear")
        self.clear.setProperty("role", "link")
        self.clear.clicked.connect(lambda: self.entered.emit(Frames(combine=self._frames.combine)))
        self.combine = choice_box(
            f"{title}: averaged by",
            [("mean", "mean"), ("median", "median"), ("clipped", "clipped mean")],
            116,
        )
        self.combine.activated.connect(
            lambda _: self.entered.emit(
                Frames(files=self._frames.files, combine=self.combine.currentData())
            )
        )
        self.names = faint()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(
            side_by_side(QLabel(title), self.choose, self.combine, self.clear, stretch=True)
        )
        layout.addWidget(self.names)
        self.setFocusProxy(self.choose)

    def set_files(self, paths: Sequence[Path]) -> None:
        """Take these files; none leaves the present ones."""
        if paths:
            files = tuple(ImageFile(file=str(path.absolute())) for path in paths)
            self.entered.emit(Frames(files=files, combine=self._frames.combine))

    def show_value(self, value: Any, known: Known) -> None:
        self._frames = value
        count = len(value.files)
        self.combine.setVisible(count > 1)
        self.combine.setCurrentIndex(self.combine.findData(value.combine))
        self.clear.setVisible(count > 0)
        names = ", ".join(Path(file.file).name for file in value.files[:4])
        more = f" and {count - 4} more" if count > 4 else ""
        self.names.setText(f"{names}{more}" if count else "No file chosen yet.")


class FileField(Field):
    """One file: a sample of the study, or any other."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._title = title
        self.box = choice_box(title, [])
        self.box.activated.connect(self._choose)
        self._lay(self.box)

    def _choose(self, index: int) -> None:
        path = self.box.itemData(index)
        if path == "other":
            chosen = ask_images(self, self._title)
            path = str(chosen[0].absolute()) if chosen else None
            if path is None:
                return
        self.entered.emit(ImageFile(file=path) if path else None)

    def show_value(self, value: Any, known: Known) -> None:
        self.box.clear()
        self.box.addItem("choose …", "")
        for name, path in known.samples:
            self.box.addItem(name, str(path.absolute()))
        if value is not None and self.box.findData(value.file) < 0:
            self.box.addItem(Path(value.file).name, value.file)
        self.box.addItem("another file …", "other")
        self.box.setCurrentIndex(self.box.findData(value.file) if value is not None else 0)
