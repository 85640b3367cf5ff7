"""Planes of a sample in depth and time: which there are, and which one, or what is made of many."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

Along = Literal["z", "time"]
Projection = Literal["max", "mean", "sum", "median", "sd", "sharpest"]
PROJECTIONS: dict[Projection, str] = {
    "max": "largest value",
    "mean": "mean",
    "sum": "sum",
    "median": "median",
    "sd": "standard deviation",
    "sharpest": "sharpest plane",
}
AXIS_WORDS: dict[Along, str] = {"z": "depth", "time": "time"}
# What the attributes of a plane are called; depth has its unit behind it.
SECONDS_COLUMN, _DEPTH = "time (s)", "depth ("
# What formats call units of time, in seconds.
SECONDS = {
    "s": 1.0, "sec": 1.0, "second": 1.0, "ms": 1e-3, "millisecond": 1e-3, "us": 1e-6, "µs": 1e-6,
    "microsecond": 1e-6, "min": 60.0, "minute": 60.0, "h": 3600.0, "hour": 3600.0, "d": 86400.0,
    "day": 86400.0,
}  # fmt: skip
_TEXT = re.compile(
    r"(?:(?P<how>[a-z]+) of (?P<along>z|time) (?P<first>\d+)–(?P<last>\d+))?"
    r"(?:(?:^|(?<=\d) )z (?P<z>\d+))?(?:(?:^|(?<=\d) )time (?P<time>\d+))?"
    r"(?: of (?P<channels>\d+) channels)?"
)


@dataclass(frozen=True)
class Frame:
    """One place of a stack, or what is made of the planes along one of its axes.

    z, time : counted from 0; None where the stack has no such axis. projection : what is made of
    the planes `first` to `last` (both among them) along an axis, which then has no place.
    channels : how many pages of a file each place has, one after another; 1 where the file itself
    says what its channels are.
    """

    z: int | None = None
    time: int | None = None
    projection: Projection | None = None
    along: Along = "z"
    first: int = 0
    last: int = 0
    channels: int = 1

    @property
    def text(self) -> str:
        """The frame in words, counted from 1: “z 3 time 12”, “max of z 1–20 time 3”."""
        words = []
        if self.projection is not None:
            words.append(f"{self.projection} of {self.along} {self.first + 1}–{self.last + 1}")
        words += [
            f"{name} {value + 1}"
            for name, value in (("z", self.z), ("time", self.time))
            if value is not None
        ]
        if self.channels > 1:
            words.append(f"of {self.channels} channels")
        return " ".join(words)

    @classmethod
    def parse(cls, text: str) -> Frame:
        """Return the frame of a text. Raises ValueError."""
        match = _TEXT.fullmatch(text)
        if match is None or not text:
            raise ValueError(f"“{text}” is no plane of a stack, such as “z 3 time 12”.")
        z, time = (None if match[name] is None else int(match[name]) - 1 for name in ("z", "time"))
        channels = int(match["channels"] or 1)
        if match["how"] is None:
            frame = cls(z, time, channels=channels)
        else:
            how = next((one for one in PROJECTIONS if one == match["how"]), None)
            if how is None:
                names = ", ".join(PROJECTIONS)
                raise ValueError(f"“{match['how']}” is no projection; use {names}.")
            along: Along = "z" if match["along"] == "z" else "time"
            first, last = int(match["first"]) - 1, int(match["last"]) - 1
            frame = cls(z, time, how, along, first, last, channels)
        if (
            channels < 1
            or min(frame.z or 0, frame.time or 0, frame.first, frame.last - frame.first) < 0
        ):
            raise ValueError(f"“{text}”: planes are counted from 1, and a range rises.")
        return frame

    def place(self, along: Along) -> int | None:
        """Return the place on an axis; None without one."""
        return self.z if along == "z" else self.time

    def moved(self, along: Along, place: int | None) -> Frame:
        """Return the same with another place on an axis."""
        return replace(self, z=place) if along == "z" else replace(self, time=place)

    def planes(self) -> list[Frame]:
        """Return the single planes that it is made of."""
        if self.projection is None:
            return [self]
        plain = replace(self, projection=None, along="z", first=0, last=0)
        places = range(self.first, self.last + 1)
        return [plain.moved(self.along, k) for k in places]


class PlaneRange(NamedTuple):
    """What is made of planes along an axis, `first` to `last` of them, counted from 0.

    last : None is to the end.
    """

    how: Projection
    along: Along
    first: int = 0
    last: int | None = None


@dataclass(frozen=True)
class StackLayout:
    """How many planes a file has in depth and time, each with all channels.

    z, time : lengths of the axes; 1 where there is none. pages : planes of which the file does not
    say what they are, which are then neither; 1 where there are none. z_step : distance of planes
    in `unit`; None where it is not known. seconds : when each time was recorded; empty where it
    is not known. dated : the same of pages, by their dates, should they be times.
    """

    z: int = 1
    time: int = 1
    pages: int = 1
    z_step: float | None = None
    unit: str = "µm"
    seconds: tuple[float, ...] = ()
    dated: tuple[float, ...] = ()

    @property
    def count(self) -> int:
        """How many planes there are, without channels."""
        return self.z * self.time * self.pages

    def taken_as(self, along: Along) -> StackLayout:
        """Return the layout with pages of unknown meaning taken as depth or time."""
        if self.pages == 1:
            return self
        if along == "z":
            return replace(self, z=self.z * self.pages, pages=1)
        seconds = self.dated if self.dated and self.time == 1 else self.seconds
        return replace(self, time=self.time * self.pages, pages=1, seconds=seconds)

    def of_channels(self, count: int) -> StackLayout:
        """Return the layout with so many pages of unknown meaning for each place.

        Raises ValueError where that does not divide them.
        """
        if count > 1 and (self.pages % count or self.pages == count):
            raise ValueError(f"{self.pages} pages are not several times {count} channels.")
        return replace(self, pages=self.pages // count, dated=self.dated[::count])

    def as_in(self, frame: Frame) -> StackLayout:
        """Return the layout with pages of unknown meaning taken as a plane of it has them."""
        layout = self.of_channels(frame.channels)
        return layout.taken_as("time" if frame.time is not None and self.time == 1 else "z")

    def frames(self) -> list[Frame]:
        """Return each plane, times in order, each with its depths in order."""
        return [
            Frame(z if self.z > 1 else None, time if self.time > 1 else None)
            for time in range(self.time)
            for z in range(self.z)
        ]

    def projections(
        self, how: Projection, along: Along, first: int = 0, last: int | None = None
    ) -> list[Frame]:
        """Return one projection along an axis for each place of the other.

        first, last : which planes along the axis, counted from 0; all unless given.
        Raises ValueError for a range that the axis does not have.
        """
        length = self.z if along == "z" else self.time
        last = length - 1 if last is None else last
        if not 0 <= first <= last < length:
            raise ValueError(f"The axis {along} has the planes 1 to {length}.")
        others = self.time if along == "z" else self.z
        made = []
        for k in range(others):
            place = k if others > 1 else None
            frame = Frame(time=place) if along == "z" else Frame(z=place)
            made.append(replace(frame, projection=how, along=along, first=first, last=last))
        return made

    def attributes(self, frame: Frame) -> dict[str, str]:
        """Return what a plane is called in tables: z and time counted from 1, depth, seconds."""
        texts: dict[str, str] = {}
        if frame.z is not None:
            texts["z"] = str(frame.z + 1)
            if self.z_step is not None:
                texts[f"{_DEPTH}{self.unit})"] = f"{frame.z * self.z_step:.9g}"
        if frame.time is not None:
            texts["time"] = str(frame.time + 1)
            if frame.time < len(self.seconds):
                texts[SECONDS_COLUMN] = f"{self.seconds[frame.time]:.9g}"
        if frame.projection is not None:
            texts["projection"] = f"{frame.projection} of {frame.along}"
        return texts


def depth_column(attributes: Iterable[str]) -> tuple[str, str] | None:
    """Return the name of the attribute that is the depth of a plane, and its unit, if any is."""
    name = next((attribute for attribute in attributes if attribute.startswith(_DEPTH)), None)
    return None if name is None else (name, name.removeprefix(_DEPTH).removesuffix(")"))


def stack_position(frame: Frame | None) -> tuple[int, int]:
    """Return time and depth of a plane, for ordering."""
    if frame is None:
        return 0, 0
    return frame.time or 0, frame.z or 0


def proposed_along(name: str, files: Sequence[str] = ()) -> Along:
    """Return what pages of unknown meaning most likely are: depth where a name says so, else time.

    name : of the file; files : of others with as many pages, which may say it instead.
    """
    words = re.compile(r"(?:^|[^a-z])(z|stack|slice|depth|confocal|focus)(?:[^a-z]|$)", re.I)
    is_depth = any(words.search(text) for text in (name, *files))
    return "z" if is_depth else "time"
