"""Opening a study in the real window, which reads it in a thread."""

from __future__ import annotations

import time
from pathlib import Path

from PyQt6.QtWidgets import QApplication

from rilievo.ui.shell.window import Window

_PATIENCE_S = 60.0


def open_study(window: Window, path: Path) -> None:
    """Open a study and wait until it was read, or refused."""
    window.commands.study.open_study(path)
    end = time.monotonic() + _PATIENCE_S
    while window.jobs.is_busy("open study"):
        QApplication.processEvents()
        if time.monotonic() > end:
            raise TimeoutError(f"{path.name} was not opened.")
        time.sleep(0.001)
