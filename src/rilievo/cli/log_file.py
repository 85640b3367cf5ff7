"""What is told for finding faults: to standard error, and to a file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, stop

_FORMAT = "%(asctime)s %(levelname)s %(message)s"


@dataclass(frozen=True, kw_only=True)
class LogOptions:
    """How much is told, and where."""

    quiet: Annotated[bool, typer.Option("--quiet", "-q", help="Say only what went wrong.")] = False
    verbose: Annotated[
        bool, typer.Option("--verbose", "-v", help="Also say what is done, sample by sample.")
    ] = False
    log: Annotated[
        Path | None, typer.Option("--log", metavar="FILE", help="Add what is done to this file.")
    ] = None

    def begin(self) -> None:
        """Log to a file, and to standard error with `verbose`. Ends with wrong usage."""
        file = self.log
        if file is None and not self.verbose:
            return
        import logging  # noqa: PLC0415 (not needed for a version or a help page)

        logger = logging.getLogger("rilievo")
        logger.setLevel(logging.INFO)
        for old in logger.handlers[:]:
            logger.removeHandler(old)
        if self.verbose:
            logger.addHandler(logging.StreamHandler())
        if file is not None:
            try:
                handler = logging.FileHandler(file, encoding="utf-8")
            except OSError as exc:
                raise stop(
                    f"the log {file} cannot be written ({exc.strerror})", WRONG_USAGE
                ) from exc
            handler.setFormatter(logging.Formatter(_FORMAT))
            logger.addHandler(handler)
