"""Measure everything again, and say of each number, file and version whether it is the same."""

from __future__ import annotations

import csv
import io
import math
import tempfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.batch import Measurer, Outcome, Resources, RunRequest
from rilievo.core.errors import FileError, StudyError
from rilievo.core.files.reader import file_checksum
from rilievo.core.files.sample_parts import same_files
from rilievo.core.files.sample_ref import labelled
from rilievo.core.method.method import Method
from rilievo.core.pipeline.fingerprints import package_versions
from rilievo.core.pipeline.provenance import method_checksum
from rilievo.core.progress import no_report
from rilievo.core.report.page import Contents, Findings
from rilievo.core.report.result_archive import STUDY_NAME, code_of
from rilievo.core.study.archive import PACKED_SUFFIX, unpack_study
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import StudyContent, load_study
from rilievo.core.table.table import IDENTITY_COLUMNS, RegionTable, region_frame
from rilievo.core.untrusted_json import JsonError, parsed

TABLE_NAME, METADATA_NAME = "regions.csv", "regions.metadata.json"
_MOST_TOLD = 10


@dataclass(frozen=True)
class Number:
    """A number that is not what it was; texts, "" where there is none."""

    sample: str
    region: str
    channel: str
    quantity: str
    before: str
    now: str


@dataclass(frozen=True)
class Verdict:
    """What became of measuring again.

    files : what is to be said of files that are not as they were, by sample. numbers : how many
    were looked at; differing : those that are not the same. method : what is to be said of the
    method. packages : those of another version, then and now. code : of the whole as it is now;
    recorded : as it was. failures : why samples could not be measured.
    """

    samples: int
    files: Mapping[str, str]
    numbers: int
    differing: tuple[Number, ...]
    method: str = ""
    packages: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    code: str = ""
    recorded: str = ""
    failures: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_same(self) -> bool:
        """Whether all is as it was."""
        other = self.code != self.recorded if self.recorded else False
        return not (self.files or self.differing or self.method or self.packages
                    or self.failures or other)  # fmt: skip

    def sentences(self) -> list[str]:
        """Return what is to be said, a line each."""
        lines = []
        good = self.samples - len(self.files)
        lines.append(f"Files of {good} of {self.samples} samples are as they were measured.")
        lines += self.files.values()
        lines += [f"{name} could not be measured: {why}" for name, why in self.failures.items()]
        same = self.numbers - len(self.differing)
        exact = "" if self.differing else " to the bit"
        lines.append(f"{same} of {self.numbers} numbers are the same{exact}.")
        lines += [
            f"{cell.sample}, region {cell.region}, {cell.channel} {cell.quantity}: "
            f"{cell.before or 'nothing'} then, {cell.now or 'nothing'} now."
            for cell in self.differing[:_MOST_TOLD]
        ]
        if len(self.differing) > _MOST_TOLD:
            lines.append(f"… and {len(self.differing) - _MOST_TOLD} more.")
        lines.append(self.method or "The method is the one that they were measured with.")
        lines += [
            f"{name} was of version {then or 'unknown'}, and is of {now or 'none'} now."
            for name, (then, now) in self.packages.items()
        ]
        if not self.packages:
            lines.append("All packages are of the versions that they were measured with.")
        code_text = f"Code of the whole: {self.code}"
        if self.recorded:
            code_text += (
                ", as recorded" if self.code == self.recorded else f"; it was {self.recorded}"
            )
        lines.append(f"{code_text}.")
        return lines


@dataclass(frozen=True)
class _Kept:
    """What was recorded: a study, its numbers, and what computed them."""

    state: StudyState
    tables: Mapping[str, RegionTable]
    packages: Sequence[Mapping[str, str]] = ()
    metadata: Mapping[str, Any] = field(default_factory=dict)
    text: str = ""


def verify(
    path: Path,
    *,
    jobs: int = 1,
    load: Callable[[Path], StudyContent] = load_study,
    report: Callable[[float], None] = no_report,
) -> Verdict:
    """Measure a study, a packed one or a folder of results again.

    load : reads a study file. Raises StudyError where there is nothing to verify.
    """
    with ExitStack() as stack:
        if path.name.endswith(PACKED_SUFFIX):
            folder = stack.enter_context(tempfile.TemporaryDirectory(prefix="rilievo-"))
            path = unpack_study(path, Path(folder))
        archived = _of_folder(path, load) if path.is_dir() else _of_study(path, load)
        request = RunRequest(
            samples=labelled(archived.state.samples), methods=(archived.state.method,)
        )
        with Measurer(resources=Resources(jobs=jobs)) as measurer:
            results = measurer.measure(
                request, lambda progress: report(progress.done / progress.total)
            )
            return _verdict(archived, list(results[0]))


def _of_study(path: Path, load: Callable[[Path], StudyContent]) -> _Kept:
    state, tables, _, environments = load(path)
    if not tables:
        raise StudyError(
            f"“{path.name}” holds no measurements of its method; measure all samples and save it, "
            "or verify a folder of results."
        )
    names = {entry.id: entry.name for entry in state.samples}
    return _Kept(state, {names[k]: table for k, table in tables.items()}, environments)


def _of_folder(path: Path, load: Callable[[Path], StudyContent]) -> _Kept:
    study = path / STUDY_NAME
    if not study.is_file() or not (path / TABLE_NAME).is_file():
        raise StudyError(
            f"“{path.name}” holds no {STUDY_NAME} and {TABLE_NAME} to verify; choose a folder of "
            "results (those of URLs and of over 5 000 samples have none), or a study."
        )
    try:
        metadata = parsed((path / METADATA_NAME).read_text("utf-8"))
        text = (path / TABLE_NAME).read_text("utf-8")
    except (OSError, UnicodeDecodeError, JsonError) as exc:
        raise StudyError(f"“{path.name}” cannot be verified ({exc}); write it again.") from exc
    if not isinstance(metadata, dict):
        raise StudyError(f"“{METADATA_NAME}” is none of Rilievo's; write the results again.")
    state = load(study).state
    if (path / "method.json").is_file():
        state = replace(state, method=Method.load(path / "method.json"))
    packages = metadata.get("packages")
    return _Kept(state, {}, [packages] if isinstance(packages, dict) else [], metadata, text)


def _verdict(archived: _Kept, outcomes: Sequence[Outcome]) -> Verdict:
    method = archived.state.method
    code = code_of(method, outcomes)
    if archived.text:
        numbers, differing = _cells(archived.text, outcomes, method)
    else:
        numbers, differing = _exact(archived.tables, outcomes)
    failed_names = archived.metadata.get("failed")
    # What could not be measured then needs not be measured now.
    failed = set(map(str, failed_names)) if isinstance(failed_names, list) else set()
    recorded = str(archived.metadata.get("method_checksum", ""))
    other = recorded not in ("", method_checksum(method))
    return Verdict(
        samples=len(outcomes),
        files=_files(archived.state),
        numbers=numbers,
        differing=tuple(differing),
        method="The method is not the one that the numbers were measured with." if other else "",
        packages=_packages(archived.packages),
        code=code,
        recorded=str(archived.metadata.get("code", "")),
        failures={
            o.item.name: o.failure
            for o in outcomes
            if o.failure is not None and o.item.name not in failed
        },
    )


def _files(state: StudyState) -> dict[str, str]:
    found = {}
    for entry in state.samples:
        files = list(dict.fromkeys(part.path for part in entry.sources))
        try:
            now = " ".join(file_checksum(file) for file in files)
        except FileError as exc:
            found[entry.name] = f"{entry.name}: {exc}"
            continue
        if not same_files(entry.checksum, now):
            names = ", ".join(file.name for file in files)
            found[entry.name] = f"{names} has changed since it was measured (other checksum)."
    return found


def _packages(recorded: Sequence[Mapping[str, str]]) -> dict[str, tuple[str, str]]:
    now = package_versions()
    found = {}
    for then in recorded:
        for name in {**then, **now}:
            if name in then and str(then[name]) != now.get(name, ""):
                found[name] = (str(then[name]), now.get(name, ""))
    return found


def _exact(
    tables: Mapping[str, RegionTable], outcomes: Sequence[Outcome]
) -> tuple[int, list[Number]]:
    """Numbers of a study against new ones, to the bit."""
    count, found = 0, []
    for outcome in outcomes:
        was, now = tables.get(outcome.item.name), outcome.table
        if was is None or now is None:
            continue
        regions = dict.fromkeys([*was.ids.tolist(), *now.ids.tolist()])
        for channel in now.channels:
            for key in now.quantities:
                then = _by_region(was, channel, key)
                again = _by_region(now, channel, key)
                count += len(regions)
                found += [
                    Number(outcome.item.name, str(region), channel, key,
                           _text(then.get(region)), _text(again.get(region)))
                    for region in regions
                    if not _is_same(then.get(region), again.get(region))
                ]  # fmt: skip
    return count, found


def _by_region(table: RegionTable, channel: str, key: str) -> dict[int, float]:
    if key not in table.columns.get(channel, {}):
        return {}
    return dict(zip(table.ids.tolist(), table.column(channel, key).tolist(), strict=True))


def _is_same(then: float | None, now: float | None) -> bool:
    if then is None or now is None:
        return then is now
    return then == now or (math.isnan(then) and math.isnan(now))


def _text(value: float | None) -> str:
    return "" if value is None or not np.isfinite(value) else f"{value:.17g}"


def _cells(text: str, outcomes: Sequence[Outcome], method: Method) -> tuple[int, list[Number]]:
    """Cells of a table as it was written against those of a new one."""
    tables = Findings.of(Contents(outcomes, method)).tables
    was, now = _rows(text), _rows(region_frame(tables).csv_text())
    count, found = 0, []
    for key in dict.fromkeys([*was, *now]):
        then, again = was.get(key, {}), now.get(key, {})
        for column in dict.fromkeys([*then, *again]):
            count += 1
            before, after = then.get(column, ""), again.get(column, "")
            if before != after:
                sample, name, region, channel = key
                found.append(Number(sample, f"{name} {region}", channel, column, before, after))
    return count, found


_KEYS = ("sample", "class", "region", "channel")


def _rows(text: str) -> dict[tuple[str, ...], dict[str, str]]:
    """Each row of a table by what it is of; without what only names it."""
    return {
        tuple(row.get(key) or "" for key in _KEYS): {
            name: value or "" for name, value in row.items() if name not in IDENTITY_COLUMNS
        }
        for row in csv.DictReader(io.StringIO(text))
    }
