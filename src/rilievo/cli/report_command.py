"""`rilievo report` and `rilievo pack`: what leaves the house, made from a study."""

from __future__ import annotations

import tempfile
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rilievo.cli.comparison_options import ComparisonOptions
from rilievo.cli.console import WRONG_USAGE, failed_status, say, stop
from rilievo.cli.image_inputs import AllowOutside

if TYPE_CHECKING:
    from rilievo.core.study.report_options import ReportOptions


@dataclass(frozen=True, kw_only=True)
class PageOptions:
    """What the report's page says beside the numbers."""

    without: Annotated[
        list[str] | None, typer.Option("--without", help="A section that is left out.")
    ] = None
    title: Annotated[str, typer.Option("--title", help="In place of the study's name.")] = ""
    note: Annotated[str, typer.Option("--note", help="Remarks at the top.")] = ""
    date: Annotated[str | None, typer.Option("--date", help="In place of now; empty for none.")] = (
        None
    )

    def changed(self, options: ReportOptions, *, choices: bool) -> ReportOptions:
        """Return the study's options with what was typed."""
        from rilievo.core.method.method import checked_copy  # noqa: PLC0415

        return checked_copy(
            options,
            left_out=tuple(dict.fromkeys((*options.left_out, *(self.without or ())))),
            title=self.title or options.title,
            note=self.note or options.note,
            with_choices=choices or options.with_choices,
        )


def report(
    study: Annotated[Path, typer.Argument(metavar="STUDY", help="A study, or a packed one.")],
    out: Annotated[Path, typer.Option("--out", "-o", help="The file: .html or .pdf.")],
    page: PageOptions,
    comparison: ComparisonOptions,
    jobs: Annotated[int, typer.Option("--jobs", min=1, help="Worker processes.")] = 1,
    allow_outside: AllowOutside = False,
) -> None:
    """Measure a study and write its report, one file that needs nothing else."""
    from rilievo.core.batch import Measurer, Resources  # noqa: PLC0415
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.report.study_report import study_contents, write_study_report  # noqa: PLC0415
    from rilievo.core.study.archive import PACKED_SUFFIX, unpack_study  # noqa: PLC0415
    from rilievo.core.study.run_inputs import load_trusted_study, refuse_blinded  # noqa: PLC0415

    if out.suffix.lower() not in (".html", ".pdf"):
        raise stop("the report's name must end in .html or .pdf", WRONG_USAGE)
    asked = comparison.question_fields()
    with ExitStack() as stack:
        try:
            if study.name.endswith(PACKED_SUFFIX):
                folder = stack.enter_context(tempfile.TemporaryDirectory(prefix="rilievo-"))
                study = unpack_study(study, Path(folder))
            content = load_trusted_study(study, allow=allow_outside)
            state = content.state
            refuse_blinded(study, state)
            comparison.check_reference(entry.group or "no group" for entry in state.samples)
            options = page.changed(state.report, choices=comparison.choices)
            state = replace(state, report=options)
            with Measurer(resources=Resources(jobs=jobs)) as measurer:
                contents = study_contents(
                    state, content.history, measurer, date=page.date, asked=asked
                )
            write_study_report(contents, out)
        except RilievoError as exc:
            raise stop(str(exc), WRONG_USAGE) from exc
        failures = [outcome.failure for outcome in contents.outcomes if outcome.failure is not None]
    typer.echo(f"{len(contents.outcomes) - len(failures)} samples: {out}")
    for failure in failures:
        say(f"not measured: {failure}")
    if failures:
        raise typer.Exit(failed_status(len(contents.outcomes) - len(failures), len(failures)))


def pack(
    study: Annotated[Path, typer.Argument(metavar="STUDY", help="A study.")],
    out: Annotated[Path, typer.Option("--out", "-o", help="The file: .rilievo.zip.")],
    author: Annotated[
        list[str] | None,
        typer.Option("--author", metavar="NAME", help="Who made it: “Name (https://orcid.org/…)”."),
    ] = None,
    licence: Annotated[
        str, typer.Option("--licence", help="Of the data: an address, or words.")
    ] = "",
    allow_outside: AllowOutside = False,
) -> None:
    """Put a study and copies of its images into one file, for handing over."""
    from rilievo.core.errors import RilievoError  # noqa: PLC0415
    from rilievo.core.method.method import checked_copy  # noqa: PLC0415
    from rilievo.core.study.archive import PACKED_SUFFIX, pack_study  # noqa: PLC0415
    from rilievo.core.study.run_inputs import load_trusted_study  # noqa: PLC0415

    if not out.name.endswith(PACKED_SUFFIX):
        out = out.with_name(out.name.removesuffix(".zip") + PACKED_SUFFIX)
    try:
        content = load_trusted_study(study, allow=allow_outside)
        state = content.state
        changed = {
            "authors": tuple(author or state.report.authors),
            "licence": licence or state.report.licence,
        }
        state = replace(state, report=checked_copy(state.report, **changed))
        pack_study(state, out, content.tables, content.history, environments=content.environments)
    except RilievoError as exc:
        raise stop(str(exc), WRONG_USAGE) from exc
    typer.echo(f"{len(state.samples)} samples: {out}")
