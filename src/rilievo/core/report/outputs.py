"""The files that a run leaves behind: tables, method, checks, report."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rilievo.core.batch import Outcome, measured
from rilievo.core.method import Method, cannot_write, write_text_safely
from rilievo.core.report.page import report_page
from rilievo.core.table import region_frame, sample_frame, write_csv


def write_outputs(outcomes: Sequence[Outcome], method: Method, folder: Path) -> None:
    """Write regions.csv, samples.csv, method.json, checks.csv and report.html.

    Raises FileUnreadable when the folder cannot be made or written to.
    """
    import pandas  # noqa: PLC0415 (slow to import)

    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(folder, exc) from exc
    tables = measured(outcomes)
    write_csv(region_frame(tables), folder / "regions.csv")
    write_csv(sample_frame(tables), folder / "samples.csv")
    method.save(folder / "method.json")
    rows = [
        {
            "sample": outcome.item.name,
            "file": outcome.item.path.name,
            "kind": "failed",
            "channel": "",
            "text": outcome.failure,
        }
        for outcome in outcomes
        if outcome.failure is not None
    ]
    rows += [
        {
            "sample": check.sample,
            "file": outcome.item.path.name,
            "kind": check.kind,
            "channel": check.channel,
            "text": check.text,
        }
        for outcome in outcomes
        for check in outcome.checks
    ]
    checks = pandas.DataFrame(rows, columns=["sample", "file", "kind", "channel", "text"])
    write_csv(checks, folder / "checks.csv")
    write_text_safely(folder / "report.html", report_page(outcomes, method))
