"""A study with copies of its images in one file, for handing over: a ZIP archive.

    NAME.rilievo            the study, which refers to …
    images/…                samples, frames and label images, once each

docs/file-formats.md describes it. The same study gives the same bytes.
"""

from __future__ import annotations

import contextlib
import shutil
import tempfile
import zipfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path, PurePosixPath

from rilievo.core.batch.naming import files_named
from rilievo.core.errors import FileError, FileUnreadable, StudyError
from rilievo.core.files.parts import Part
from rilievo.core.history import HistoryEntry
from rilievo.core.method import Method
from rilievo.core.study import SampleEntry, StudyState
from rilievo.core.study_file import SUFFIX, save_study
from rilievo.core.table import RegionTable
from rilievo.core.writing import cannot_write, write_safely

PACKED_SUFFIX = ".rilievo.zip"
_IMAGES = "images"
# The oldest date a ZIP archive can hold: the date of packing is nobody's concern.
_WHEN = (1980, 1, 1, 0, 0, 0)


def no_report(fraction: float) -> None:
    """Take how much is done and ignore it; a report that raises Cancelled stops the work."""


def pack_study(
    state: StudyState,
    path: Path,
    tables: Mapping[int, RegionTable] | None = None,
    history: Sequence[HistoryEntry] = (),
    report: Callable[[float], None] = no_report,
) -> None:
    """Write a study with copies of its images. Raises FileUnreadable for what cannot be read."""
    names = _names(state)
    with tempfile.TemporaryDirectory(prefix="rilievo-") as temporary:
        folder = Path(temporary)
        inside = {file: folder / _IMAGES / name for file, name in names.items()}
        study = folder / f"{_plain(path)}{SUFFIX}"
        save_study(_moved(state, inside), study, tables, _moved_history(history, inside))

        def fill(target: Path) -> None:
            with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
                _add(archive, study, study.name)
                for done, (file, name) in enumerate(names.items(), start=1):
                    _add_image(archive, file, f"{_IMAGES}/{name}")
                    report(done / len(names))

        write_safely(path, fill)


def _plain(path: Path) -> str:
    return path.name.removesuffix(PACKED_SUFFIX).removesuffix(".zip") or "study"


def _names(state: StudyState) -> dict[Path, str]:
    """Every file of a study and how it is called in the archive; names are made unique."""
    files = [part.path for entry in state.samples for part in entry.sources]
    for file in files_named(state.method):
        if "{sample}" in str(file):
            named = [Path(str(file).replace("{sample}", entry.name)) for entry in state.samples]
            files += [one for one in named if one.exists()]
        else:
            files.append(file)
    names: dict[Path, str] = {}
    taken: set[str] = set()
    for file in dict.fromkeys(one.absolute() for one in files):
        name, k = file.name, 1
        while name.lower() in taken:
            k += 1
            name = f"{k}-{file.name}"
        taken.add(name.lower())
        names[file] = name
    return names


def _moved(state: StudyState, inside: Mapping[Path, Path]) -> StudyState:
    entries = tuple(_moved_entry(entry, inside) for entry in state.samples)
    return replace(state, samples=entries, method=_moved_method(state.method, inside))


def _moved_entry(entry: SampleEntry, inside: Mapping[Path, Path]) -> SampleEntry:
    parts = tuple(
        Part(inside[part.path.absolute()], part.image, part.planes, part.channel)
        for part in entry.parts
    )
    return replace(entry, path=inside[entry.sources[0].path.absolute()], parts=parts)


def _moved_method(method: Method, inside: Mapping[Path, Path]) -> Method:
    def change(file: str) -> str:
        if "{sample}" in file:
            return str(next(iter(inside.values())).parent / Path(file).name)
        return str(inside.get(Path(file).absolute(), Path(file)))

    return method.with_files(change)


def _moved_history(
    history: Sequence[HistoryEntry], inside: Mapping[Path, Path]
) -> list[HistoryEntry]:
    return [replace(entry, method=_moved_method(entry.method, inside)) for entry in history]


def _add_image(archive: zipfile.ZipFile, file: Path, name: str) -> None:
    """Add a file, or a folder that is one image."""
    if not file.is_dir():
        _add(archive, file, name)
        return
    for one in sorted(file.rglob("*")):
        if one.is_file():
            _add(archive, one, f"{name}/{one.relative_to(file).as_posix()}")


def _add(archive: zipfile.ZipFile, file: Path, name: str) -> None:
    entry = zipfile.ZipInfo(name, _WHEN)
    entry.external_attr = 0o644 << 16
    try:
        with file.open("rb") as source, archive.open(entry, "w", force_zip64=True) as target:
            shutil.copyfileobj(source, target, 1 << 20)
    except FileNotFoundError as exc:
        raise FileUnreadable(
            file, "does not exist", "find it again, or remove its sample from the study"
        ) from exc


def unpack_study(path: Path, folder: Path, report: Callable[[float], None] = no_report) -> Path:
    """Unpack a study below `folder`, into a new folder of its name; return the study file.

    Raises StudyError for what is no packed study, FileError where it cannot be written.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            names = [PurePosixPath(info.filename) for info in archive.infolist()]
            studies = [name for name in names if len(name.parts) == 1 and name.suffix == SUFFIX]
            if len(studies) != 1 or any(_leaves(name) for name in names):
                raise StudyError(
                    f"“{path.name}” is no packed study; open a file that Rilievo packed."
                )
            target = _new_folder(folder, _plain(path))
            for done, info in enumerate(archive.infolist(), start=1):
                archive.extract(info, target)
                report(done / len(names))
            return target / str(studies[0])
    except (zipfile.BadZipFile, EOFError) as exc:
        raise StudyError(f"“{path.name}” is damaged ({exc}); have it packed again.") from exc
    except FileError:
        raise
    except OSError as exc:
        raise cannot_write(folder / _plain(path), exc) from exc


def _leaves(name: PurePosixPath) -> bool:
    return name.is_absolute() or ".." in name.parts


def _new_folder(folder: Path, name: str) -> Path:
    k = 1
    while True:
        target = folder / (name if k == 1 else f"{name} {k}")
        with contextlib.suppress(FileExistsError):
            target.mkdir(parents=True)
            return target
        k += 1
