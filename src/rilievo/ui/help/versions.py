"""What is installed: Rilievo, the packages that it computes with, the system."""

from __future__ import annotations

import platform
import sys
from email.message import Message
from importlib.metadata import PackageNotFoundError, metadata, version
from typing import cast

from PyQt6.QtCore import QT_VERSION_STR
from PyQt6.QtGui import QGuiApplication

from rilievo._version import __version__
from rilievo.core.registry import left_out
from rilievo.ui.help.log import last_lines, log_file

_PACKAGES = (
    "PyQt6", "numpy", "scipy", "numba", "pyqtgraph", "matplotlib", "tifffile", "imagecodecs",
    "astropy", "Pillow", "simplejpeg", "zarr", "pandas", "pyarrow", "pydantic", "typer", "Jinja2",
    "weasyprint", "openpyxl", "platformdirs", "cachetools", "rich", "distributed", "fsspec",
)  # fmt: skip


_LONGEST_LICENCE = 60


def packages() -> list[tuple[str, str, str]]:
    """Return name, version and licence of the packages that are installed."""
    found = []
    for name in _PACKAGES:
        try:
            about = metadata(name)
            found.append((name, version(name), _licence(cast(Message, about))))
        except PackageNotFoundError:
            continue
    return found


def _licence(about: Message) -> str:
    """The licence as a package states it, in one line."""
    stated = about.get("License-Expression") or about.get("License") or ""
    lines = [line.strip() for line in str(stated).splitlines() if line.strip()]
    if len(lines) == 1 and len(lines[0]) <= _LONGEST_LICENCE:
        return lines[0]
    named = [
        line.rpartition("::")[2].strip()
        for line in about.get_all("Classifier") or []
        if line.startswith("License ::")
    ]
    return ", ".join(named) or (lines[0][:_LONGEST_LICENCE] if lines else "not stated")


def system() -> list[tuple[str, str]]:
    """Return what the program runs on."""
    screens = [
        f"{s.name()} {s.size().width()}×{s.size().height()} × {s.devicePixelRatio():g}"
        for s in QGuiApplication.screens()
    ]
    return [
        ("Rilievo", __version__),
        ("Python", sys.version.split()[0]),
        ("Qt", f"{QT_VERSION_STR} ({QGuiApplication.platformName()})"),
        ("System", platform.platform()),
        ("Screens", "; ".join(screens)),
        ("Log", str(log_file())),
    ]


def problem_facts() -> str:
    """Return what a report of a problem needs beside what happened: versions, end of the log.

    No pixels and no numbers of a study are in it; names of files may be in the log.
    """
    lines = [f"{name}: {value}" for name, value in system()]
    lines += ["", "Packages: " + ", ".join(f"{name} {known}" for name, known, _ in packages())]
    lines += [f"Left out: {sentence}" for sentence in left_out()]
    return "\n".join([*lines, "", "The end of the log:", last_lines() or "(empty)"])
