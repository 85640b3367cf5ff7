"""`rilievo install-desktop`: menu entry, icon and file types, put in place or taken away."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, stop

# Where a package brings its own start, that is what the menu starts.
_LAUNCHER = "RILIEVO_LAUNCHER"
_FILES = (
    "applications/rilievo.desktop",
    "icons/hicolor/scalable/apps/rilievo.svg",
    "mime/packages/rilievo.xml",
    "metainfo/org.rilievo.Rilievo.metainfo.xml",
)
# What takes notice of new files, with the folder it is told; where it is installed.
_NOTICED_BY = (
    ("update-desktop-database", "applications"),
    ("update-mime-database", "mime"),
    ("gtk-update-icon-cache", "icons/hicolor"),
)


def install_desktop(
    remove: Annotated[bool, typer.Option("--remove", help="Take them away again.")] = False,
) -> None:
    """Put menu entry, icon and file types in place for you, or take them away."""
    home = _data_home()
    try:
        if remove:
            for name in _FILES:
                (home / name).unlink(missing_ok=True)
        else:
            _install(home)
        _tell(home)
        if remove:
            _clear(home)
    except OSError as exc:
        raise stop(f"{home} cannot be changed ({exc.strerror})", WRONG_USAGE) from exc
    if remove:
        typer.echo(f"Menu entry, icon and file types are taken away ({home}).")
    else:
        typer.echo(f"Rilievo is in the menu, and opens .rilievo files ({home}).")


def _tell(home: Path) -> None:
    """Let those take notice that keep lists of menu entries, icons and file types."""
    for program, folder in _NOTICED_BY:
        program_path = shutil.which(program)
        if program_path and (home / folder).is_dir():
            order = [program_path, str(home / folder)]
            subprocess.run(order, check=False, capture_output=True)  # noqa: S603


def _install(home: Path) -> None:
    source = _share()
    for name in _FILES:
        target = home / name
        target.parent.mkdir(parents=True, exist_ok=True)
        text = (source / name).read_text(encoding="utf-8")
        if name.endswith(".desktop"):
            text = text.replace("Exec=rilievo", f"Exec={_quoted(_launcher())}")
        target.write_text(text, encoding="utf-8")


def _clear(home: Path) -> None:
    """Remove the lists and folders that were there for our files alone."""
    packages = home / "mime" / "packages"
    if packages.is_dir() and not any(packages.iterdir()):
        # All else below is made from the packages.
        shutil.rmtree(packages.parent)
    made = (home / "applications/mimeinfo.cache", home / "icons/hicolor/icon-theme.cache")
    for path in made:
        if path.is_file() and list(path.parent.iterdir()) == [path]:
            path.unlink()
    for name in _FILES:
        for folder in (home / name).parents:
            if folder == home or not folder.is_dir() or any(folder.iterdir()):
                break
            folder.rmdir()


def _data_home() -> Path:
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def _share() -> Path:
    """The folder of the files, as installed or as in the source tree."""
    import rilievo  # noqa: PLC0415

    package = Path(rilievo.__file__).parent
    return package / "share" if (package / "share").is_dir() else package.parents[1] / "share"


def _launcher() -> str:
    given = os.environ.get(_LAUNCHER)
    if given:
        return given
    beside = Path(sys.executable).with_name("rilievo")
    return str(beside) if beside.exists() else (shutil.which("rilievo") or "rilievo")


def _quoted(path: str) -> str:
    """A path as the key Exec wants it: quoted where it has a blank or a reserved character."""
    if all(letter.isalnum() or letter in "/._-+" for letter in path):
        return path
    inner = "".join(f"\\{letter}" if letter in '"`$\\' else letter for letter in path)
    # The value of a key is unescaped once before it is read as a command.
    return '"' + inner.replace("\\", "\\\\").replace("%", "%%") + '"'
