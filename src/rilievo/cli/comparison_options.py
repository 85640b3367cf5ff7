"""Options that say what a run or a report compares, and by which design."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Annotated, Any

import typer

from rilievo.cli.console import WRONG_USAGE, stop

Reference = Annotated[
    str,
    typer.Option("--reference", metavar="GROUP", help="The group that others are compared with."),
]
Unit = Annotated[
    str,
    typer.Option(
        "--unit", metavar="NAME", help="What one value is: sample, region, or an attribute."
    ),
]
Factor = Annotated[
    str,
    typer.Option("--factor", metavar="NAME", help="A second factor: an attribute, such as day."),
]
Block = Annotated[
    list[str] | None,
    typer.Option("--block", metavar="NAME", help="An attribute that is taken out; several may be."),
]
Within = Annotated[
    list[str] | None,
    typer.Option(
        "--within", metavar="NAME", help="What samples lie in, the outermost first: animal, dish."
    ),
]
Modelled = Annotated[
    bool, typer.Option("--modelled", help="Model the levels in place of averaging them.")
]
Anew = Annotated[
    bool, typer.Option("--numbered-anew", help="Animal 1 of one group is another in the next.")
]
Bootstrap = Annotated[
    bool, typer.Option("--bootstrap", help="Intervals of differences from units drawn again.")
]


Choices = Annotated[
    bool,
    typer.Option("--choices", help="Compare again under other choices: what changes the answer?"),
]


def question_fields(
    reference: str = "",
    unit: str = "",
    factor: str = "",
    block: Sequence[str] | None = None,
    within: Sequence[str] | None = None,
    *,
    modelled: bool = False,
    anew: bool = False,
    bootstrap: bool = False,
) -> dict[str, Any]:
    """Return the fields of a question that were asked for. Ends with wrong usage."""
    if modelled and not within and not factor and not block:
        raise stop("--modelled needs --within, --factor or --block beside it", WRONG_USAGE)
    fields: dict[str, Any] = {}
    if reference:
        fields["against"] = reference
    if unit:
        fields["unit"] = unit if unit in ("sample", "region") else f"sample:{unit}"
    if bootstrap:
        fields["bootstrap"] = True
    design: dict[str, Any] = {}
    if factor:
        design["factor"] = _key(factor)
    if block:
        design["blocks"] = tuple(map(_key, block))
    if within:
        design["levels"] = tuple(map(_key, within))
    if modelled:
        design["modelled"] = True
    if anew:
        design["numbered_anew"] = True
    return {**fields, **({"design": design} if design else {})}


def _key(name: str) -> str:
    return name if name == "group" else f"sample:{name}"


def check_reference(reference: str, groups: Iterable[str]) -> None:
    """End with wrong usage where no sample is of the group that others are compared with."""
    names = list(dict.fromkeys(groups))
    if reference and reference not in names:
        raise stop(
            f"no sample is of the group “{reference}”; the groups are {', '.join(names)}",
            WRONG_USAGE,
        )
