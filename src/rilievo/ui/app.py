"""Start-up of the window.

First the application with its theme, then the empty window, painted; only then are the files
named on the command line opened, in threads, so that the window stands at once.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from rilievo.ui.theme.roles import PAPER
from rilievo.ui.theme.style import apply_theme


def make_application() -> QApplication:
    """Return the application, dressed; there is one a process."""
    # Threads that compute hand over five times more often than by default, so that the window
    # never waits long for its turn.
    sys.setswitchinterval(0.001)
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    application.setOrganizationName("rilievo")
    application.setApplicationName("rilievo")
    application.setDesktopFileName("rilievo")
    apply_theme(application, PAPER)
    return application


def run_window(files: Sequence[Path]) -> int:
    """Show the window, open the files, and stay until it is closed."""
    application = make_application()
    from rilievo.ui.window import Window  # noqa: PLC0415 (after the application exists)

    window = Window()
    window.show()
    QTimer.singleShot(0, window.files.offer_unsaved)
    if files:
        QTimer.singleShot(0, lambda: window.files.open_any(list(files)))
    return application.exec()
