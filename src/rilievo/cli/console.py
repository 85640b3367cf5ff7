"""What the command line says, and with which status it ends."""

from __future__ import annotations

import json
import sys
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import typer

if TYPE_CHECKING:
    from rilievo.core.batch import Progress

SOME_FAILED, WRONG_USAGE, UNMATCHED, ALL_FAILED, INTERRUPTED = 1, 2, 3, 4, 130


def prepare_loops(*, quiet: bool = False) -> None:
    """Build the compiled loops where they are not there yet, before several workers begin to."""
    from rilievo.core.pipeline.kernel_warmup import are_built, build_all  # noqa: PLC0415

    if not are_built():
        if not quiet:
            say("The compiled loops are built for this machine first; it takes up to a minute.")
        build_all()


def say(text: str) -> None:
    """Print to standard error."""
    typer.echo(text, err=True)


def write_out(text: str) -> None:
    """Print to standard output as it stands."""
    typer.echo(text, nl=False)


def failed_status(good: int, failed: int) -> int:
    """Return with which status it ends when some were measured and some failed."""
    if not failed:
        return 0
    return SOME_FAILED if good else ALL_FAILED


def stop(text: str, status: int) -> typer.Exit:
    """Say why it ends; return what is raised."""
    say(f"rilievo: {text}")
    return typer.Exit(status)


class ProgressPrinter:
    """Tells of a batch: a bar on a terminal, plain lines elsewhere, JSON lines for scripts."""

    def __init__(self, total: int, *, json_lines: bool, quiet: bool = False) -> None:
        self._total, self._json, self._quiet = total, json_lines, quiet
        self._bar: Any = None
        if not json_lines and not quiet and sys.stderr.isatty():
            self._bar = _bar()
            self._task = self._bar.add_task("Measuring", total=total)

    def __enter__(self) -> Self:
        if self._bar is not None:
            self._bar.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._bar is not None:
            self._bar.stop()

    def event(self, event: str, **facts: Any) -> None:
        """Print an event as a line of JSON, where these are wanted."""
        if self._json:
            typer.echo(json.dumps({"event": event, **facts}, ensure_ascii=False))

    def __call__(self, progress: Progress) -> None:
        """Tell of one sample."""
        status = "failed" if progress.failure else "unchanged" if progress.known else "measured"
        self.event(
            "sample",
            sample=progress.item.name,
            file=progress.item.place,
            status=status,
            regions=progress.regions,
            seconds=round(progress.seconds, 4),
            reason=progress.failure,
            done=progress.done,
            total=progress.total,
        )
        if self._bar is not None:
            self._bar.update(self._task, completed=progress.done, total=progress.total)
        elif not self._json and not self._quiet:
            # Why one failed is said at the end, where it is not lost among the others.
            what = f"{progress.regions} regions" if status == "measured" else status
            say(f"{progress.done} of {progress.total}  {progress.item.name}: {what}")


def _bar() -> Any:
    from rich.console import Console  # noqa: PLC0415 (slow to import)
    from rich.progress import (  # noqa: PLC0415
        BarColumn,
        MofNCompleteColumn,
        TextColumn,
        TimeRemainingColumn,
    )
    from rich.progress import Progress as RichProgress  # noqa: PLC0415

    return RichProgress(
        TextColumn("{task.description}"),
        BarColumn(),
        MofNCompleteColumn(),
        TimeRemainingColumn(),
        console=Console(stderr=True),
    )
