"""`rilievo completion`: what a shell reads to complete commands, options and file names."""

from __future__ import annotations

import os
from typing import Annotated

import typer

from rilievo.cli.console import WRONG_USAGE, stop

_SHELLS = ("bash", "zsh", "fish")
# By this variable a shell asks for completions; the name follows from that of the program.
_ASKS = "_RILIEVO_COMPLETE"


def completion(
    shell: Annotated[str, typer.Argument(metavar="SHELL", help=", ".join(_SHELLS))],
) -> None:
    """Print the completion for a shell, such as: eval "$(rilievo completion bash)"."""
    from typer.completion import get_completion_script  # type: ignore[attr-defined] # noqa: PLC0415

    if shell not in _SHELLS:
        raise stop(f"“{shell}” is no shell that is known; use {', '.join(_SHELLS)}", WRONG_USAGE)
    typer.echo(get_completion_script(prog_name="rilievo", complete_var=_ASKS, shell=shell))


def is_asked() -> bool:
    """Whether a shell asks for completions; makes ready to answer."""
    if _ASKS not in os.environ:
        return False
    from typer.completion import completion_init  # type: ignore[attr-defined] # noqa: PLC0415

    completion_init()
    return True
