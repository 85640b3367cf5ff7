"""A study with copies of its images in one file, for handing over: a ZIP archive.

    ro-crate-metadata.json  what each file is, who made it, and how: RO-Crate 1.1
    NAME.rilievo            the study, which refers to …
    images/…                samples and frames, once each; of equal names one in images/2/…
    labels/…                label images that a class names by sample
    method.json             the method; regions.csv what was measured with it, where it was

docs/file-formats.md describes it. The same study gives the same bytes.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath

from rilievo.core.atomic_write import cannot_write, write_safely
from rilievo.core.errors import FileError, FileUnreadable, StudyError
from rilievo.core.method.method import Method
from rilievo.core.method.named_files import files_named
from rilievo.core.pipeline.fingerprints import numbers_digest, package_versions, whole_code
from rilievo.core.pipeline.provenance import method_checksum
from rilievo.core.progress import no_report
from rilievo.core.result_frame import ResultFrame
from rilievo.core.study.crate import METADATA_NAME, CrateFile, crate_metadata
from rilievo.core.study.history import HistoryEntry
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.study.study_file import SUFFIX, save_study
from rilievo.core.table.derived_columns import with_derived
from rilievo.core.table.table import RegionTable, region_frame
from rilievo.core.table.track_columns import with_tracks
from rilievo.core.temporary_files import listed

PACKED_SUFFIX = ".rilievo.zip"
_MOST_FILES = 1_000_000
_IMAGES, _LABELS = "images", "labels"
# The oldest date a ZIP archive can hold: the date of packing is nobody's concern.
_WHEN = (1980, 1, 1, 0, 0, 0)


def pack_study(
    state: StudyState,
    path: Path,
    tables: Mapping[int, RegionTable] | None = None,
    history: Sequence[HistoryEntry] = (),
    report: Callable[[float], None] = no_report,
    environments: Sequence[Mapping[str, str]] = (),
) -> None:
    """Write a study with copies of its images. Raises FileUnreadable for what cannot be read."""
    names = _names(state)
    with (
        tempfile.TemporaryDirectory(prefix="rilievo-") as temporary,
        listed(Path(temporary)),
    ):
        folder = Path(temporary)
        inside = {file: folder / name for file, name in names.items()}
        study = folder / f"{_plain(path)}{SUFFIX}"
        move = _Moving(inside, folder / _LABELS)
        moved = move.state(state)
        save_study(moved, study, tables, move.history(history), environments=environments)

        def fill(target: Path) -> None:
            with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
                parts = [_add(archive, study, study.name, "The study: samples, method, history")]
                for done, (file, name) in enumerate(names.items(), start=1):
                    parts += _add_image(archive, file, name)
                    report(done / len(names))
                moved.method.save(folder / "method.json")
                about = "The method that made the measurements"
                parts.append(_add(archive, folder / "method.json", "method.json", about))
                if tables:
                    _region_frame(state, tables).write_csv(folder / "regions.csv")
                    about = "Measurements, a row for each region and channel"
                    parts.append(
                        _add(archive, folder / "regions.csv", "regions.csv", about, "result")
                    )
                text = crate_metadata(
                    state.report.title or state.name,
                    parts,
                    _date(history, names),
                    environments[-1] if environments else package_versions(),
                    authors=state.report.authors,
                    licence=state.report.licence,
                    code=_code(state, tables or {}),
                )
                (folder / METADATA_NAME).write_text(text, "utf-8")
                _add(archive, folder / METADATA_NAME, METADATA_NAME, "")

        write_safely(path, fill)


def _region_frame(state: StudyState, tables: Mapping[int, RegionTable]) -> ResultFrame:
    """The measurements as they stand in a table of results."""
    current = [
        replace(tables[entry.id], group=entry.group, attributes=dict(entry.attributes))
        for entry in state.samples
        if entry.id in tables
    ]
    return region_frame(with_derived(with_tracks(current), state.method.measure.derived))


def _date(history: Sequence[HistoryEntry], files: Iterable[Path]) -> str:
    """When the study was worked on last: packed again, it is the same."""
    if history:
        return history[-1].time
    newest = max((file.stat().st_mtime for file in files if file.exists()), default=0.0)
    return datetime.fromtimestamp(newest, UTC).isoformat(timespec="seconds")


def _code(state: StudyState, tables: Mapping[int, RegionTable]) -> str:
    """The short code of the whole, where all was measured and all files are known."""
    if not state.samples or any(e.id not in tables or not e.checksum for e in state.samples):
        return ""
    return whole_code(
        method_checksum(state.method),
        ((e.name, e.checksum, numbers_digest(tables[e.id])) for e in state.samples),
    )


def _plain(path: Path) -> str:
    return path.name.removesuffix(PACKED_SUFFIX).removesuffix(".zip") or "study"


def _names(state: StudyState) -> dict[Path, str]:
    """Every file of a study and its path in the archive; each keeps its own name."""
    files = [part.path for entry in state.samples for part in entry.sources]
    names: dict[Path, str] = {}
    for file in files_named(state.method):
        if "{sample}" not in str(file):
            files.append(file)
            continue
        named = [Path(str(file).replace("{sample}", entry.name)) for entry in state.samples]
        names |= {
            method_file.absolute(): f"{_LABELS}/{method_file.name}"
            for method_file in named
            if method_file.exists()
        }
    taken: set[str] = set()
    for file in dict.fromkeys(image.absolute() for image in files):
        name, k = file.name, 1
        while name.lower() in taken:
            k += 1
            name = f"{k}/{file.name}"
        taken.add(name.lower())
        names[file] = f"{_IMAGES}/{name}"
    return names


class _Moving:
    """The study as it refers to the copies. labels : where label images are."""

    def __init__(self, inside: Mapping[Path, Path], labels: Path) -> None:
        self._inside, self._labels = inside, labels

    def state(self, state: StudyState) -> StudyState:
        entries = tuple(self._entry(entry) for entry in state.samples)
        preregistration = state.preregistration.with_method(self._method)
        return replace(
            state,
            samples=entries,
            method=self._method(state.method),
            preregistration=preregistration,
        )

    def _entry(self, entry: SampleEntry) -> SampleEntry:
        parts = tuple(
            replace(part, path=self._inside[part.path.absolute()]) for part in entry.parts
        )
        return replace(entry, path=self._inside[entry.sources[0].path.absolute()], parts=parts)

    def _method(self, method: Method) -> Method:
        def change(file: str) -> str:
            if "{sample}" in file:
                return str(self._labels / Path(file).name)
            return str(self._inside.get(Path(file).absolute(), Path(file)))

        return method.with_files(change)

    def history(self, history: Sequence[HistoryEntry]) -> list[HistoryEntry]:
        return [replace(entry, method=self._method(entry.method)) for entry in history]


def _add_image(archive: zipfile.ZipFile, file: Path, name: str) -> list[CrateFile]:
    """Add a file, or a folder that is one image."""
    if not file.is_dir():
        return [_add(archive, file, name, "An image", "image")]
    return [
        _add(
            archive,
            part,
            f"{name}/{part.relative_to(file).as_posix()}",
            "Part of an image",
            "image",
        )
        for part in sorted(file.rglob("*"))
        if part.is_file()
    ]


def _add(archive: zipfile.ZipFile, file: Path, name: str, about: str, role: str = "") -> CrateFile:
    """Add a file; return what is said of it. about, role : as in `CrateFile`."""
    sums, size = hashlib.sha256(), 0
    entry = zipfile.ZipInfo(name, _WHEN)
    entry.external_attr = 0o644 << 16
    try:
        with file.open("rb") as source, archive.open(entry, "w", force_zip64=True) as target:
            while block := source.read(1 << 20):
                target.write(block)
                sums.update(block)
                size += len(block)
    except FileNotFoundError as exc:
        raise FileUnreadable(
            file, "does not exist", "find it again, or remove its sample from the study"
        ) from exc
    return CrateFile(name, size, sums.hexdigest(), about, role)


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
            _check_contents(path, folder, archive.infolist())
            target = _new_folder(folder, _plain(path))
            for done, info in enumerate(archive.infolist(), start=1):
                archive.extract(info, target)
                report(done / len(names))
            return target / str(studies[0])
    except (zipfile.BadZipFile, zlib.error, EOFError, ValueError) as exc:
        raise StudyError(f"“{path.name}” is damaged ({exc}); have it packed again.") from exc
    except FileError:
        raise
    except OSError as exc:
        raise cannot_write(folder / _plain(path), exc) from exc


def _check_contents(path: Path, folder: Path, contents: Sequence[zipfile.ZipInfo]) -> None:
    """Raise StudyError for what is not packed as Rilievo packs, before anything is unpacked."""
    if len(contents) > _MOST_FILES:
        raise StudyError(f"“{path.name}” has {len(contents)} files, more than a study has.")
    for info in contents:
        if info.flag_bits & 1:
            raise StudyError(
                f"“{path.name}”: “{info.filename}” is encrypted; have it packed without a password."
            )
        if info.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
            raise StudyError(
                f"“{path.name}”: “{info.filename}” is compressed in a way that is not read; have "
                "it packed by Rilievo."
            )
        if max(map(len, map(os.fsencode, PurePosixPath(info.filename).parts)), default=0) > 255:
            raise StudyError(f"“{path.name}” holds a name of over 255 bytes; have it packed again.")
    size = sum(info.file_size for info in contents)
    free = shutil.disk_usage(_existing_parent(folder)).free
    if size > free:
        raise StudyError(
            f"“{path.name}” needs {size / 1e9:.1f} GB unpacked, and {free / 1e9:.1f} GB are free "
            f"in {folder}; choose a folder on another drive."
        )


def _existing_parent(folder: Path) -> Path:
    """Return a folder itself, or the nearest above it that is there."""
    return next(
        (candidate for candidate in (folder, *folder.parents) if candidate.is_dir()), Path("/")
    )


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
