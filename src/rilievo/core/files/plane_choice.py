"""Which planes of a stack become samples: each one, or what is made of them along an axis."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Literal

from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.stack import (
    AXIS_WORDS,
    PROJECTIONS,
    Along,
    Frame,
    Projection,
    StackLayout,
    proposed_along,
)

# With more pages than this of unknown meaning, channels are the least likely meaning.
MOST_CHANNELS = 5
_MADE = re.compile(r"(?P<how>[a-z]+) of (?P<along>z|time)(?: (?P<first>\d+)[-–](?P<last>\d+))?")
_SEVERAL = re.compile(r"(?P<rest>.+) of (?P<count>\d+) channels")
# So many channels are offered where they divide the pages.
_OFFERED = (2, 3, 4)


@dataclass(frozen=True)
class PlaneChoice:
    """How planes of files are taken.

    kind : channels, every plane is a channel of one sample; each, every plane is a sample, pages
    of unknown meaning along `along`; or what is made of the planes along it, `first` to `last`
    of them, counted from 0. channels : pages of each place, one after another.
    """

    kind: Literal["channels", "each"] | Projection = "channels"
    along: Along | None = None
    first: int = 0
    last: int | None = None
    channels: int = 1

    @classmethod
    def parse(cls, text: str) -> PlaneChoice:
        """Return the choice of a text: channels, each, z, time, “max of z”, “mean of time 2-9”.

        z and time : each plane, pages of unknown meaning taken as such; behind either may stand
        how many channels pages are in turn, such as “time of 2 channels”. Raises ValueError.
        """
        words = " ".join(text.lower().split())
        several = _SEVERAL.fullmatch(words)
        if several is not None and int(several["count"]) > 0:
            plain = cls.parse(several["rest"])
            if plain.along is not None:
                return replace(plain, channels=int(several["count"]))
        if words in ("channels", "each"):
            return cls("channels" if words == "channels" else "each")
        if words in ("z", "time"):
            return cls("each", "z" if words == "z" else "time")
        match = _MADE.fullmatch(words)
        how = next((key for key in PROJECTIONS if match and key == match["how"]), None)
        if match is None or how is None:
            raise ValueError(
                f"“{text}” is no choice of planes; write channels, each, z, time, or "
                f"{', '.join(PROJECTIONS)} with an axis, such as “max of z” or “mean of time 2-9”."
            )
        along: Along = "z" if match["along"] == "z" else "time"
        if match["first"] is None:
            return cls(how, along)
        first, last = int(match["first"]) - 1, int(match["last"]) - 1
        if not 0 <= first <= last:
            raise ValueError(f"“{text}”: planes are counted from 1, and a range rises.")
        return cls(how, along, first, last)

    @property
    def text(self) -> str:
        """The choice as it is written."""
        several = f" of {self.channels} channels" if self.channels > 1 else ""
        if self.kind in ("channels", "each"):
            return f"{self.along or self.kind}{several}"
        last = "" if self.last is None else f" {self.first + 1}-{self.last + 1}"
        return f"{self.kind} of {self.along}{last}{several}"

    @property
    def title(self) -> str:
        """The choice in words."""
        if self.channels > 1:
            plain = replace(self, channels=1).title.removeprefix("pages are ")
            return f"{plain}, {self.channels} channels in turn"
        if self.kind == "channels":
            return "planes of a file together"
        if self.kind == "each":
            words = {None: "each depth and time", "z": "pages are depth", "time": "pages are time"}
            return words[self.along]
        return f"{PROJECTIONS[self.kind]} over {AXIS_WORDS[self.along or 'z']}"

    def frames(self, layout: StackLayout, name: str = "") -> list[Frame]:
        """Return the samples that a file with a layout becomes; none where its planes are channels.

        name : of the file, which may say what its pages are. Raises ValueError for a range that
        is not there.
        """
        if self.kind == "channels" or layout.count == 1:
            return []
        layout = self.layout(layout, name)
        along = self.along or "z"
        if self.kind == "each" or (layout.z if along == "z" else layout.time) == 1:
            chosen = layout.frames()
        else:
            chosen = layout.projections(self.kind, along, self.first, self.last)
        if self.channels == 1:
            return chosen
        return [replace(frame, channels=self.channels) for frame in chosen]

    def layout(self, layout: StackLayout, name: str = "") -> StackLayout:
        """Return the layout with pages of unknown meaning taken as this choice has them."""
        return layout.of_channels(self.channels).taken_as(self.along or proposed_along(name))


def proposed_choice(layouts: Mapping[str, StackLayout]) -> PlaneChoice:
    """Return how the planes of files are most likely meant.

    layouts : by the names of the files.
    """
    stacks = {name: layout for name, layout in layouts.items() if layout.count > 1}
    if any(layout.z > 1 or layout.time > 1 for layout in stacks.values()):
        return PlaneChoice("each")
    if any(layout.pages > MOST_CHANNELS or layout.dated for layout in stacks.values()):
        axes = [proposed_along(name) for name in stacks]
        return PlaneChoice("each", "z" if "z" in axes else "time")
    return PlaneChoice()


def is_stack(layout: StackLayout) -> bool:
    """Whether planes are depth or time, rather than a few channels."""
    return layout.z * layout.time > 1 or layout.pages > MOST_CHANNELS or bool(layout.dated)


def offered_choices(layouts: Iterable[StackLayout]) -> list[str]:
    """Return the choices that mean something for files of some layouts, in words to parse."""
    every = list(layouts)
    if all(layout.count == 1 for layout in every):
        return []
    unknown = any(layout.pages > 1 for layout in every)
    choices = ["time", "z"] if unknown else ["each"]
    lengths: dict[Along, list[int]] = {
        "z": [layout.z for layout in every], "time": [layout.time for layout in every]
    }  # fmt: skip
    counts = [layout.pages for layout in every if layout.pages > 1]
    for several in _OFFERED:
        if unknown and all(n > MOST_CHANNELS and n % several == 0 for n in counts):
            choices += [f"{along} of {several} channels" for along in ("time", "z")]
    for along, some in lengths.items():
        if unknown or max(some) > 1:
            choices += [f"{how} of {along}" for how in PROJECTIONS]
    return choices


def with_frames(proposal: SampleRef, layout: StackLayout, choice: PlaneChoice) -> list[SampleRef]:
    """Return the samples that a proposal becomes: one for each plane, or for what is made of them.

    layout : of all its files alike. Raises ValueError for a range that is not there.
    """
    name = proposal.parts[0].path.name
    frames = choice.frames(layout, name)
    whole = choice.layout(layout, name)
    return [
        replace(
            proposal,
            name=f"{proposal.name} {_short(frame, whole)}".strip(),
            parts=tuple(replace(part, frame=frame) for part in proposal.parts),
            attributes={**proposal.attributes, "stack": proposal.name, **whole.attributes(frame)},
        )
        for frame in frames
    ] or [proposal]


def _short(frame: Frame, layout: StackLayout) -> str:
    """The place of a plane as names carry it, in as many digits as all need: “t07 z012”."""
    places = (("t", frame.time, layout.time), ("z", frame.z, layout.z))
    words = [f"{a}{k + 1:0{len(str(n))}}" for a, k, n in places if k is not None]
    return " ".join([*words, *([frame.projection] if frame.projection else [])])
