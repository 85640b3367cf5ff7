"""Words on the command line that are no command: files to open, or a mistake that is named."""

from __future__ import annotations

import difflib
import os
from collections.abc import Collection, Sequence
from pathlib import Path

from rilievo.cli.console import WRONG_USAGE, say, stop


def check_words(words: Sequence[str], commands: Collection[str]) -> None:
    """End with wrong usage where the first word is neither command nor file.

    A file that is not there is named; another word gets the command nearest to it.
    """
    word = words[0]
    if word.startswith("-") or Path(word).exists():
        return
    if "/" in word or Path(word).suffix:
        folder = Path(word).absolute().parent
        say(f"rilievo: “{word}” does not exist; look for it in {folder}")
    else:
        near = difflib.get_close_matches(word, commands, n=1, cutoff=0.5)
        hint = f"did you mean “{near[0]}”?" if near else "“rilievo --help” lists the commands"
        say(f"rilievo: “{word}” is no command and no file; {hint}")
    raise SystemExit(WRONG_USAGE)


def check_window() -> None:
    """End with wrong usage where no window can be shown, with what to do instead."""
    from importlib.util import find_spec  # noqa: PLC0415

    if find_spec("PyQt6") is None or find_spec("pyqtgraph") is None:
        raise stop(
            "the window needs PyQt6 and pyqtgraph: pip install 'rilievo[window]' (rilievo run and "
            "report need no window)",
            WRONG_USAGE,
        )
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise stop(
            "there is no display to show the window on; use rilievo run and rilievo report, or "
            "start it by xvfb-run",
            WRONG_USAGE,
        )
