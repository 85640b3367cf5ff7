"""What is hidden of a blinded study, as data."""

from __future__ import annotations

from pydantic import Field

from rilievo.core.parameters import Parameters

# These are changes of the history between which all others were made blind.
BLIND, UNBLIND = "Blind the study", "Unblind the study"
HIDDEN = "Hidden while the study is blinded."


class Sealed(Parameters):
    """What is hidden of a sample. id : in the study. code : its name meanwhile."""

    id: int
    code: str = Field(max_length=80)
    name: str = Field(max_length=4000)
    group: str = Field("", max_length=4000)
    replicate: str = Field("", max_length=4000)
    attributes: dict[str, str] = Field(default_factory=dict)


class Blinding(Parameters):
    """The seal of a study. is_on : whether it is blinded now. sealed : in the samples' own order.

    What was sealed stays after it is unblinded, so that the history can be read.
    """

    is_on: bool = False
    sealed: tuple[Sealed, ...] = ()

    @property
    def names(self) -> dict[str, str]:
        """Code → name."""
        return {sealed_sample.code: sealed_sample.name for sealed_sample in self.sealed}
