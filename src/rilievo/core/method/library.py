"""Named methods: four that come with the program, and the user's own in a folder."""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

import platformdirs

from rilievo.core.atomic_write import cannot_write
from rilievo.core.errors import MethodError
from rilievo.core.method.method import Method

_SUFFIX = ".json"
_MOST_NAME = 100


@dataclass(frozen=True)
class NamedMethod:
    """A method of the library. own : whether it is the user's and can be removed."""

    name: str
    path: Path
    own: bool

    def load(self) -> Method:
        """Return the method. Raises MethodError, FileUnreadable."""
        return Method.load(self.path)


def library_folder() -> Path:
    """Return where the user's methods are kept."""
    return Path(platformdirs.user_data_dir("rilievo")) / "methods"


def shipped() -> list[NamedMethod]:
    """Return the methods that come with the program."""
    folder = resources.files("rilievo.core.method") / "shipped"
    with resources.as_file(folder) as index:
        return [NamedMethod(_title(p), p, own=False) for p in sorted(index.glob(f"*{_SUFFIX}"))]


def _title(path: Path) -> str:
    return path.stem.replace("-", " ").capitalize()


def own_methods(folder: Path | None = None) -> list[NamedMethod]:
    """Return the user's methods by name; an absent folder has none."""
    folder = folder or library_folder()
    if not folder.is_dir():
        return []
    methods = [NamedMethod(path.stem, path, own=True) for path in folder.glob(f"*{_SUFFIX}")]
    return sorted(methods, key=lambda method: method.name.casefold())


def find_method(word: str) -> tuple[Method, Path]:
    """Return a method and its file: a path, or the name of a shipped or own one.

    Raises MethodError with the nearest name, FileMissing, FileUnreadable.
    """
    path = Path(word)
    if path.exists() or path.suffix:
        return Method.load(path), path
    named = {method.name.casefold(): method for method in (*shipped(), *own_methods())}
    named_method = named.get(word.casefold())
    if named_method is None:
        near = difflib.get_close_matches(word.casefold(), named, n=1, cutoff=0.4)
        hint = f"did you mean “{named[near[0]].name}”?" if near else "“rilievo methods” lists them"
        raise MethodError(f"There is no method “{word}”; {hint}")
    return named_method.load(), named_method.path


def save_method(method: Method, name: str, folder: Path | None = None) -> NamedMethod:
    """Save a method under a name, in place of one of that name.

    Raises MethodError for a name that no file can have, FileUnreadable.
    """
    name = name.strip()
    if not name or len(name) > _MOST_NAME or re.search(r'[/\\:*?"<>|\x00-\x1f]|^\.', name):
        raise MethodError(
            'A name needs 1 to 100 characters without / \\ : * ? " < > | and no dot in front. '
            f"Got “{name[:40]}”."
        )
    folder = folder or library_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(folder, exc) from exc
    path = folder / f"{name}{_SUFFIX}"
    # What is known of single samples stays with the study.
    plain = method.changed(name=name, exceptions={}, picks=())
    plain.save(path)
    return NamedMethod(name, path, own=True)


def delete_method(method: NamedMethod) -> None:
    """Delete one of the user's methods. Raises MethodError for one that is not, FileUnreadable."""
    if not method.own:
        raise MethodError(f"“{method.name}” comes with the program and stays.")
    try:
        method.path.unlink(missing_ok=True)
    except OSError as exc:
        raise cannot_write(method.path, exc) from exc
