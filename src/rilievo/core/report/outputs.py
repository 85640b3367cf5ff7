"""The files that a run leaves behind: tables, method, checks, report."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from rilievo.core.atomic_write import cannot_write, write_text_safely
from rilievo.core.batch import Outcome
from rilievo.core.compare.comparison import Comparison
from rilievo.core.compare.result_tables import (
    curves_frame,
    groups_frame,
    mean_curves_frame,
    model_means_frame,
    terms_frame,
    tests_frame,
    variation_frame,
)
from rilievo.core.errors import ComparisonError
from rilievo.core.method.method import Method
from rilievo.core.method.picks import pick_frame, specimen_frame
from rilievo.core.pipeline.provenance import metadata_of
from rilievo.core.report.large_outputs import (
    PARTS,
    is_large,
    remove_regions,
    write_regions_in_parts,
)
from rilievo.core.report.page import Contents, Findings, report_page
from rilievo.core.report.pdf import write_pdf
from rilievo.core.report.result_archive import RESULTS, STUDY_NAME, code_of, entry_of, may_write
from rilievo.core.report.sensitivity import alternatives_frame
from rilievo.core.result_frame import ResultFrame
from rilievo.core.study.history import history_frame
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import save_study
from rilievo.core.table.star_series import as_date, make_series, series_frame
from rilievo.core.table.summaries import sample_frame
from rilievo.core.table.table import RegionTable, region_frame
from rilievo.core.table.table_files import wide, write_metadata, write_table


@dataclass(frozen=True, kw_only=True)
class FilesWanted:
    """Which files a run leaves beside the usual tables.

    formats : further endings for the regions, such as ".xlsx"; as_wide : these have a row per
    region instead of one per region and channel. page : another file for the report, HTML or PDF
    by its ending; with_report : False leaves it out.
    """

    formats: Sequence[str] = ()
    as_wide: bool = False
    page: Path | None = None
    with_report: bool = True


def write_outputs(
    contents: Contents,
    folder: Path,
    files: FilesWanted = FilesWanted(),
) -> Sequence[Outcome]:
    """Write tables of regions, samples, groups, tests and checks, method.json and report.html.

    With picks in the method also picks.csv and specimens.csv, with a history history.csv, with
    stars in several samples light-curves.csv.
    Of very many samples (`large_outputs`) the regions are written in parts, beside regions.csv as
    a folder of Parquet files in place of further formats. Return the outcomes as they were read,
    of very many with few columns.
    Raises FileUnreadable when the folder cannot be made or written to.
    """
    outcomes, method, history = contents.outcomes, contents.method, contents.history
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(folder, exc) from exc
    now = datetime.now().astimezone()
    if not contents.date:
        contents = replace(contents, date=now.isoformat(timespec="seconds"))
    summaries: ResultFrame | None = None
    if is_large(outcomes, method):
        outcomes, summaries = write_regions_in_parts(outcomes, method, contents.options, folder)
    findings = Findings.of(replace(contents, outcomes=outcomes), with_columns=summaries is None)
    outcomes, tables = findings.outcomes, findings.tables
    checksums = {o.item.name: o.checksums for o in outcomes}
    own_checks = [check for outcome in outcomes for check in outcome.checks]
    metadata = metadata_of(tables, method, checksums, now, own_checks)
    if summaries is None:
        metadata |= _write_record(outcomes, method, folder, contents)
        try:
            # Parts of an earlier run: its regions are no longer these.
            if (folder / PARTS).is_dir():
                remove_regions(folder)
        except OSError as exc:
            raise cannot_write(folder / PARTS, exc) from exc
        frame = region_frame(tables)
        write_table(frame, folder / "regions.csv", metadata)
        for suffix in files.formats:
            write_table(
                wide(frame) if files.as_wide else frame, folder / f"regions{suffix}", metadata
            )
        _write_light_curves(tables, outcomes, method, folder)
        summaries = sample_frame(tables)
    else:
        write_metadata(folder / "regions.csv", metadata)
    summaries.write_csv(folder / "samples.csv")
    method.save(folder / "method.json")
    picks = [row for outcome in outcomes for row in outcome.picks]
    if method.picks:
        pick_frame(picks).write_csv(folder / "picks.csv")
        specimen_frame(picks).write_csv(folder / "specimens.csv")
    _check_frame(findings).write_csv(folder / "checks.csv")
    if history:
        history_frame(history).write_csv(folder / "history.csv")
    comparisons = [comparison for several in findings.comparisons for comparison in several]
    _write_comparisons(comparisons, folder)
    if contents.choices:
        alternatives_frame(contents.choices).write_csv(folder / "choices.csv")
    if files.with_report:
        text = report_page(replace(contents, outcomes=outcomes), findings)
        write_page(text, files.page or folder / "report.html")
    return outcomes


def _write_record(
    outcomes: Sequence[Outcome], method: Method, folder: Path, contents: Contents
) -> dict[str, Any]:
    """Write the samples as a study, which the window opens; return what verifying needs beside.

    Samples at URLs have no place in a study: there is none then. A study of that name that is the
    user's own stays.
    """
    path = folder / STUDY_NAME
    if may_write(path):
        path.unlink(missing_ok=True)
        if not any(outcome.item.url for outcome in outcomes):
            entries = tuple(entry_of(outcome, k) for k, outcome in enumerate(outcomes, start=1))
            state = StudyState(
                name=contents.study or method.name, samples=entries, method=method,
                report=contents.options,
            )  # fmt: skip
            save_study(state, path, role=RESULTS)
    failed = [outcome.item.name for outcome in outcomes if outcome.failure is not None]
    return {"code": code_of(method, outcomes), "failed": failed}


def _write_comparisons(comparisons: Sequence[Comparison], folder: Path) -> None:
    """Write groups and tests, and what else some comparisons have."""
    groups_frame(comparisons).write_csv(folder / "groups.csv")
    tests_frame(comparisons).write_csv(folder / "tests.csv")
    if any(comparison.design for comparison in comparisons):
        terms_frame(comparisons).write_csv(folder / "terms.csv")
        model_means_frame(comparisons).write_csv(folder / "model-means.csv")
    if any(comparison.variation for comparison in comparisons):
        variation_frame(comparisons).write_csv(folder / "variation.csv")
    if any(comparison.curves for comparison in comparisons):
        curves_frame(comparisons).write_csv(folder / "curves.csv")
        mean_curves_frame(comparisons).write_csv(folder / "mean-curves.csv")


def write_page(page: str, path: Path) -> None:
    """Write a report as HTML or PDF, by the name's ending. Raises ComparisonError for another."""
    if path.suffix.lower() not in (".html", ".pdf"):
        raise ComparisonError(f"“{path.name}” must end in .html or .pdf.")
    if path.suffix.lower() == ".pdf":
        write_pdf(page, path)
    else:
        write_text_safely(path, page)


def _write_light_curves(
    tables: Sequence[RegionTable], outcomes: Sequence[Outcome], method: Method, folder: Path
) -> None:
    """Follow the stars of the first class of stars through the samples, where there are several."""
    positions = [k for k, outline in enumerate(method.outlines) if outline.source == "stars"]
    if not positions or len(tables) < 2:
        return
    dates = {outcome.item.name: as_date(outcome.date) for outcome in outcomes}
    channel = method.outlines[positions[0]].channel or tables[0].channels[0]
    series = make_series(
        tables,
        [dates[t.sample] for t in tables],
        channel,
        positions[0],
        method.measure.comparison_stars,
    )
    if series is not None:
        series_frame(series).write_csv(folder / "light-curves.csv")


_CHECK_COLUMNS = ("sample", "file", "kind", "severity", "channel", "text")


def _check_frame(findings: Findings) -> ResultFrame:
    outcomes = findings.outcomes
    files = {outcome.item.name: outcome.item.label for outcome in outcomes}
    rows = [
        {
            "sample": outcome.item.name,
            "file": outcome.item.label,
            "kind": "failed",
            "severity": "serious",
            "channel": "",
            "text": outcome.failure,
        }
        for outcome in outcomes
        if outcome.failure is not None
    ]
    rows += [
        {
            "sample": check.sample,
            "file": files[check.sample],
            "kind": check.kind,
            "severity": check.severity,
            "channel": check.channel,
            "text": check.text,
        }
        for check in findings.checks
    ]
    return ResultFrame.of_records(rows, _CHECK_COLUMNS)
