"""Files that a study or a method leads to and that do not lie below its own folder.

Whoever opens the file of someone else has not chosen them. Those that the user chose are kept in
the user's own folder, a text file a study, so that a study cannot bring its own permission.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Collection, Iterable
from pathlib import Path

import platformdirs

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.errors import FileError, FileOutside
from rilievo.core.files.file_state import is_below
from rilievo.core.method.method import Method
from rilievo.core.method.named_files import files_named
from rilievo.core.study.study import StudyState

_MOST_NAMED = 10
_MOST_BYTES = 100_000_000


def files_of_method(method: Method, samples: Iterable[str] = ()) -> list[Path]:
    """Return the files that a method leads to; patterns of label images are tried by sample."""
    names: list[str] = list(samples)
    files_read: dict[Path, None] = {}
    for file in files_named(method):
        if "{sample}" in str(file):
            files_read |= dict.fromkeys(Path(str(file).replace("{sample}", name)) for name in names)
            # Without samples the pattern stands for all that it may lead to.
            files_read |= {} if names else {file: None}
        else:
            files_read[file] = None
    return list(files_read)


def files_of_study(state: StudyState) -> list[Path]:
    """Return all files that a study leads to: samples, frames, references, label images."""
    parts = dict.fromkeys(part.path for entry in state.samples for part in entry.sources)
    named = files_of_method(state.method, [entry.name for entry in state.samples])
    return list({**parts, **dict.fromkeys(named)})


def outside(
    files: Iterable[Path], folders: Collection[Path], chosen: Collection[Path] = ()
) -> list[Path]:
    """Return the files that lie, links followed, below none of the folders and were not chosen."""
    chosen_set = set(chosen)
    inside: dict[Path, bool] = {}

    def lies_inside(file: Path) -> bool:
        # Thousands of files lie in few folders; a link needs a look of its own.
        if file.is_symlink():
            return any(is_below(file, folder) for folder in folders)
        if file.parent not in inside:
            inside[file.parent] = any(is_below(file.parent, folder) for folder in folders)
        return inside[file.parent]

    return [file for file in files if file not in chosen_set and not lies_inside(file)]


def refuse(path: Path, files: Collection[Path], remedy: str) -> None:
    """Raise FileOutside that names the files in full; nothing for none."""
    if not files:
        return
    named = ", ".join(f"“{file}”" for file in list(files)[:_MOST_NAMED])
    more = f" and {len(files) - _MOST_NAMED} more" if len(files) > _MOST_NAMED else ""
    raise FileOutside(
        path, f"leads to files that are not below its own folder: {named}{more}", remedy
    )


def _kept_in(study: Path) -> Path:
    name = hashlib.sha256(str(study.absolute()).encode(errors="surrogateescape")).hexdigest()[:32]
    return Path(platformdirs.user_state_dir("rilievo")) / "chosen" / f"{name}.txt"


def chosen_files(study: Path) -> set[Path]:
    """Return the files outside its folder that the user chose in a study."""
    try:
        record = _kept_in(study)
        if record.stat().st_size > _MOST_BYTES:
            return set()
        return {Path(line) for line in record.read_text("utf-8", "surrogateescape").splitlines()}
    except OSError:
        return set()  # nothing was chosen yet, or nobody can tell: the user is asked


def remember_chosen(study: Path, files: Iterable[Path]) -> None:
    """Keep what the user chose in a study; where that cannot be kept, the user is asked again."""
    lines = sorted(str(file) for file in set(files) if "\n" not in str(file))
    if {Path(line) for line in lines} == chosen_files(study):
        return
    record = _kept_in(study)
    with contextlib.suppress(OSError, FileError, UnicodeError):
        record.parent.mkdir(parents=True, exist_ok=True)
        write_text_safely(record, "\n".join(lines))
