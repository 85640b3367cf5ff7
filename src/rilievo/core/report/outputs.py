"""The files that a run leaves behind: tables, method, checks, report."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rilievo.core.batch import Outcome, measured
from rilievo.core.checks import check_batch
from rilievo.core.checks_measured import check_measured_batch
from rilievo.core.columns import with_derived
from rilievo.core.history import HistoryEntry, history_frame
from rilievo.core.method import Method
from rilievo.core.picks import pick_frame, specimen_frame
from rilievo.core.report.page import report_page
from rilievo.core.table import region_frame, sample_frame, write_csv
from rilievo.core.writing import cannot_write, write_text_safely


def write_outputs(
    outcomes: Sequence[Outcome],
    method: Method,
    folder: Path,
    history: Sequence[HistoryEntry] = (),
) -> None:
    """Write regions.csv, samples.csv, method.json, checks.csv and report.html.

    With picks in the method also picks.csv and specimens.csv, with a history history.csv.
    Raises FileUnreadable when the folder cannot be made or written to.
    """
    import pandas  # noqa: PLC0415 (slow to import)

    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(folder, exc) from exc
    tables = measured(outcomes)
    tables = with_derived(tables, method.measure.derived)
    write_csv(region_frame(tables), folder / "regions.csv")
    write_csv(sample_frame(tables), folder / "samples.csv")
    method.save(folder / "method.json")
    picks = [row for outcome in outcomes for row in outcome.picks]
    if method.picks:
        write_csv(pick_frame(picks), folder / "picks.csv")
        write_csv(specimen_frame(picks), folder / "specimens.csv")
    checks = pandas.DataFrame(_check_rows(outcomes), columns=list(_CHECK_COLUMNS))
    write_csv(checks, folder / "checks.csv")
    if history:
        write_csv(history_frame(history), folder / "history.csv")
    write_text_safely(folder / "report.html", report_page(outcomes, method, history))


_CHECK_COLUMNS = ("sample", "file", "kind", "severity", "channel", "text")


def _check_rows(outcomes: Sequence[Outcome]) -> list[dict[str, str]]:
    files = {outcome.item.name: outcome.item.path.name for outcome in outcomes}
    rows = [
        {
            "sample": outcome.item.name,
            "file": outcome.item.path.name,
            "kind": "failed",
            "severity": "serious",
            "channel": "",
            "text": outcome.failure,
        }
        for outcome in outcomes
        if outcome.failure is not None
    ]
    found = [check for outcome in outcomes for check in outcome.checks]
    found += check_measured_batch(measured(outcomes))
    found += check_batch({o.item.name: o.traits for o in outcomes if o.traits is not None})
    for check in found:
        rows.append(
            {
                "sample": check.sample,
                "file": files[check.sample],
                "kind": check.kind,
                "severity": check.severity,
                "channel": check.channel,
                "text": check.text,
            }
        )
    return rows
