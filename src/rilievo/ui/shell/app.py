"""Start-up of the window.

First the application with its theme, then the empty window, painted; only then are the files
named on the command line opened, in threads, so that the window stands at once.

The maps of the program are in `rilievo.ui` and `rilievo.core`.
"""

from __future__ import annotations

import sys
import traceback
from collections.abc import Callable, Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from rilievo._version import __version__
from rilievo.ui.help.log import LOG, begin_log
from rilievo.ui.theme.choice import dress
from rilievo.ui.theme.style import load_fonts

if TYPE_CHECKING:
    from rilievo.ui.shell.window import Window


_BUILDING = (
    "Preparing the fast loops for this machine, once; until then the first measurement waits."
)
_PATIENCE_MS = 3000


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
    if not application.property("dressed"):
        # Once: fonts would be loaded again, and every widget dressed anew.
        load_fonts()
        dress(application)
        application.setProperty("dressed", True)
    return application


def _reporter(window: Window) -> Callable[..., None]:
    """Return what tells of an error that nobody foresaw: in the window, details in the log."""

    def report(
        kind: type[BaseException], error: BaseException, trace: TracebackType | None
    ) -> None:
        traceback.print_exception(kind, error, trace)
        LOG.error("A fault", exc_info=(kind, error, trace))
        window.views.notice.warn(
            f"Something went wrong inside Rilievo ({kind.__name__}: {error}). Your files are as "
            "they were; save the study.",
            "Report it",
            window.commands.help.open_problem,
        )

    return report


def _build_loops() -> None:
    """Build the compiled loops, which takes up to a minute the first time, or read them."""
    from rilievo.core.pipeline.kernel_warmup import build_all  # noqa: PLC0415 (the window comes first)

    build_all()


def _prepare(window: Window) -> None:
    """Have the loops ready, in the background; say so where that takes a while."""
    notice, slot = window.views.notice, "build loops"

    def done(_: object) -> None:
        window.garbage.keep_all()
        if notice.text == _BUILDING:
            notice.hide()

    window.jobs.run(slot, _build_loops, done, background=True)
    QTimer.singleShot(
        _PATIENCE_MS, lambda: notice.tell(_BUILDING) if window.jobs.is_busy(slot) else None
    )


def run_window(files: Sequence[Path]) -> int:
    """Show the window, open the files, and stay until it is closed."""
    application = make_application()
    from rilievo.ui.shell.window import Window  # noqa: PLC0415 (after the application exists)

    window = Window()
    sys.excepthook = _reporter(window)
    begin_log()
    LOG.info("Rilievo %s begins", __version__)
    window.show()
    QTimer.singleShot(0, window.commands.study.offer_unsaved)
    QTimer.singleShot(0, lambda: _prepare(window))
    if files:
        QTimer.singleShot(0, lambda: window.commands.images.open_any(list(files), ask=True))
    return application.exec()
