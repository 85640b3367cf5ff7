"""Options that say what a run or a report compares, and by which design."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Annotated, Any

import typer

from rilievo.cli.console import WRONG_USAGE, stop


@dataclass(frozen=True, kw_only=True)
class ComparisonOptions:
    """What is compared, by which design."""

    reference: Annotated[
        str,
        typer.Option(
            "--reference", metavar="GROUP", help="The group that others are compared with."
        ),
    ] = ""
    unit: Annotated[
        str,
        typer.Option(
            "--unit", metavar="NAME", help="What one value is: sample, region, or an attribute."
        ),
    ] = ""
    factor: Annotated[
        str,
        typer.Option(
            "--factor", metavar="NAME", help="A second factor: an attribute, such as day."
        ),
    ] = ""
    block: Annotated[
        list[str] | None,
        typer.Option(
            "--block", metavar="NAME", help="An attribute that is taken out; several may be."
        ),
    ] = None
    within: Annotated[
        list[str] | None,
        typer.Option(
            "--within",
            metavar="NAME",
            help="What samples lie in, the outermost first: animal, dish.",
        ),
    ] = None
    modelled: Annotated[
        bool, typer.Option("--modelled", help="Model the levels in place of averaging them.")
    ] = False
    numbered_anew: Annotated[
        bool,
        typer.Option("--numbered-anew", help="Animal 1 of one group is another in the next."),
    ] = False
    bootstrap: Annotated[
        bool, typer.Option("--bootstrap", help="Intervals of differences from units drawn again.")
    ] = False
    choices: Annotated[
        bool,
        typer.Option(
            "--choices", help="Compare again under other choices: what changes the answer?"
        ),
    ] = False

    def question_fields(self) -> dict[str, Any]:
        """Return the fields of a question that were asked for. Ends with wrong usage."""
        if self.modelled and not (self.within or self.factor or self.block):
            raise stop("--modelled needs --within, --factor or --block beside it", WRONG_USAGE)
        unit = self.unit
        design = {
            "factor": _key(self.factor) if self.factor else "",
            "blocks": tuple(map(_key, self.block or ())),
            "levels": tuple(map(_key, self.within or ())),
            "modelled": self.modelled,
            "numbered_anew": self.numbered_anew,
        }
        fields = {
            "against": self.reference,
            "unit": unit if unit in ("", "sample", "region") else f"sample:{unit}",
            "bootstrap": self.bootstrap,
            "design": {name: value for name, value in design.items() if value},
        }
        return {name: value for name, value in fields.items() if value}

    def check_reference(self, groups: Iterable[str]) -> None:
        """End with wrong usage where no sample is of the group that others are compared with."""
        names = list(dict.fromkeys(groups))
        if self.reference and self.reference not in names:
            raise stop(
                f"no sample is of the group “{self.reference}”; the groups are {', '.join(names)}",
                WRONG_USAGE,
            )


def _key(name: str) -> str:
    return name if name == "group" else f"sample:{name}"
