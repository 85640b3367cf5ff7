"""What the names of files say by themselves: which piece varies, and what it most likely means.

Names are cut at separators and between letters and digits; names of one shape are set below each
other. A piece that is the same everywhere is text, the others are fields. What a field means is
proposed from how it varies with the others and from usual words: a channel repeats for the same
rest in every case, a replicate counts within groups, a dose has a unit.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rilievo.core.files import sample_name
from rilievo.core.files.import_naming import MEANINGS

_PIECE = re.compile(r"\d+(?:[.,]\d+)?|[^\W\d_]+|[\W_]+")
_SEPARATOR = re.compile(r"[\W_]+")
_DATE = re.compile(r"(19|20)\d{2}[-_.]?(0[1-9]|1[0-2])[-_.]?([0-2]\d|3[01])")
_WELL = re.compile(r"[A-P](0?[1-9]|1\d|2[0-4])")

# Words that usually name a channel, in any case.
_CHANNEL_WORDS = frozenset((
    "dapi", "hoechst", "gfp", "egfp", "yfp", "cfp", "rfp", "mcherry", "fitc", "tritc", "cy3",
    "cy5", "cy7", "alexa", "texasred", "bodipy", "nile", "nilered", "dye", "stain", "lipid",
    "chlorophyll", "chl", "autofluorescence", "autofl", "bf", "brightfield", "bright", "phase",
    "ph", "dic", "trans", "tl", "fluo", "fluorescence", "red", "green", "blue", "gray", "grey",
    "white", "uv", "ir", "nir", "luminance", "lum", "clear", "ha", "halpha", "oiii", "sii",
    "hb", "light", "donor", "acceptor", "fret", "marker", "nucleus", "nuclei", "membrane",
    "actin", "tubulin", "r", "g", "b", "l", "v", "i",
))  # fmt: skip
_CHANNEL_PREFIXES = frozenset(["c", "ch", "chn", "channel", "w", "wave", "wavelength", "wv"])
_REPLICATE_WORDS = frozenset((
    "rep", "replicate", "repl", "n", "r", "s", "sample", "spl", "img", "image",
))  # fmt: skip
_FIELD_WORDS = frozenset(["f", "field", "fov", "pos", "position", "p", "site", "tile", "xy"])
_TIME_WORDS = {"d": "day", "day": "day", "t": "time", "time": "time", "h": "time", "hour": "time",
               "min": "time", "wk": "week", "week": "week", "z": "z", "plate": "plate",
               "pl": "plate", "exp": "experiment", "run": "run", "batch": "batch",
               "night": "night"}  # fmt: skip
_UNITS = {"m": "dose", "mm": "dose", "um": "dose", "µm": "dose", "nm": "dose", "pm": "dose",
          "ug": "dose", "mg": "dose", "ng": "dose", "g": "dose", "ugml": "dose", "mgml": "dose",
          "percent": "dose", "pct": "dose", "gy": "dose", "mw": "power",
          "h": "time", "hr": "time", "hrs": "time", "min": "time", "s": "time", "sec": "time",
          "ms": "exposure", "d": "day", "days": "day", "c": "temperature", "k": "temperature",
          "x": "magnification"}  # fmt: skip
# Fewer names of a shape than this share of all: the shape is not theirs.
_MOST_SHARE = 0.6
_MOST_CHANNELS = 12
_LEAST_NAMES = 2


@dataclass(frozen=True)
class NamePart:
    """One piece of all names. values : one a name. meaning : name of the field; "" for none.

    Without a meaning a piece is text where it is the same everywhere, else it is passed over.
    """

    values: tuple[str, ...]
    meaning: str = ""

    @property
    def varies(self) -> bool:
        """Whether the names differ in it."""
        return len(set(self.values)) > 1

    @property
    def is_number(self) -> bool:
        """Whether it holds digits only, in every name."""
        return all(value.isdecimal() for value in self.values)


@dataclass(frozen=True)
class NameReading:
    """The names as they are read: their pieces one after another.

    paths : of the names that have this shape. parts : slashes among them end the names of folders.
    """

    paths: tuple[Path, ...]
    parts: tuple[NamePart, ...]

    @property
    def pattern(self) -> str:
        """The reading as a name pattern; "" where that would say nothing."""
        if not any(part.meaning for part in self.parts):
            return ""
        return "".join(_written(part) for part in self.parts)

    def with_meaning(self, position: int, meaning: str) -> NameReading:
        """Return the reading with another meaning of a piece; one that had it before has none."""
        parts = [
            replace(part, meaning="") if meaning and part.meaning == meaning else part
            for part in self.parts
        ]
        parts[position] = replace(parts[position], meaning=meaning)
        return replace(self, parts=tuple(parts))


def _written(part: NamePart) -> str:
    if part.meaning:
        return f"{{{part.meaning}{'#' if part.is_number else ''}}}"
    return "*" if part.varies else part.values[0]


def read_names(paths: Sequence[Path]) -> NameReading | None:
    """Return how the names of files are read; None where they say nothing, or differ in shape.

    The folders in which the files lie belong to their names where there are several.
    """
    several = len({path.parent for path in paths}) > 1
    names = [_whole_name(path, several=several) for path in paths]
    if len(set(names)) < _LEAST_NAMES or any(set(name) & set("{}*") for name in names):
        return None
    pieces = [_cut(name) for name in names]
    shape, count = Counter(map(_shape, pieces)).most_common(1)[0]
    if count < _LEAST_NAMES or count < _MOST_SHARE * len(names):
        return None
    chosen = [k for k, name_pieces in enumerate(pieces) if _shape(name_pieces) == shape]
    columns = list(zip(*(pieces[k] for k in chosen), strict=True))
    parts = [NamePart(tuple(column)) for column in columns]
    if not any(part.varies for part in parts):
        return None
    reading = NameReading(tuple(paths[k] for k in chosen), tuple(_joined(parts)))
    return _Meanings(reading).proposed()


def _whole_name(path: Path, *, several: bool) -> str:
    return f"{path.parent.name}/{sample_name(path)}" if several else sample_name(path)


def _cut(name: str) -> tuple[str, ...]:
    """A name in pieces: numbers, words, separators. Dates stay whole."""
    pieces: list[str] = []
    at = 0
    for date in _DATE.finditer(name):
        if date.start() and name[date.start() - 1].isdecimal():
            continue
        if name[date.end() : date.end() + 1].isdecimal():
            continue
        pieces += _PIECE.findall(name[at : date.start()])
        pieces.append(date[0])
        at = date.end()
    return tuple(pieces + _PIECE.findall(name[at:]))


def _shape(pieces: Sequence[str]) -> tuple[str, ...]:
    """What names must have in common to be set below each other: separators as they are."""
    return tuple(
        piece if _SEPARATOR.fullmatch(piece) else "0" if piece[0].isdecimal() else "a"
        for piece in pieces
    )


def _joined(parts: Sequence[NamePart]) -> list[NamePart]:
    """Pieces that belong together as one: wells, values with units, what no pattern could part."""
    result: list[NamePart] = []
    for part in parts:
        last = result[-1] if result else None
        if last is not None and last.varies and part.is_number:
            both = tuple(a + b for a, b in zip(last.values, part.values, strict=True))
            if all(_WELL.fullmatch(value) for value in both):
                result[-1] = NamePart(both)
                continue
        if last is not None and (_is_unit(last, part) or _run_together(last, part)):
            # A number with its unit is one value, such as 5mM beside 10µM.
            both = tuple(a + b for a, b in zip(last.values, part.values, strict=True))
            result[-1] = NamePart(both)
            continue
        result.append(part)
    return result


def _is_unit(number: NamePart, word: NamePart) -> bool:
    """Whether words are units of the numbers before them, and differ."""
    return (
        word.varies
        and all(value[0].isdecimal() for value in number.values)
        and all(value.lower() in _UNITS for value in word.values)
    )


def _run_together(first: NamePart, second: NamePart) -> bool:
    """Whether two varying pieces stand side by side with no whole number to tell where one ends."""
    return first.varies and second.varies and first.is_number == second.is_number


class _Meanings:
    """Proposes what each piece of a reading means."""

    def __init__(self, reading: NameReading) -> None:
        self._reading = reading
        self._parts = list(reading.parts)
        self._varying = [k for k, part in enumerate(self._parts) if part.varies]

    def proposed(self) -> NameReading:
        """Return the reading with meanings."""
        self._find_channel()
        self._find_named()
        self._find_group()
        self._find_replicate()
        self._find_sample()
        self._name_others()
        return replace(self._reading, parts=tuple(self._parts))

    # -- what is known of a piece

    def _free(self) -> list[int]:
        return [k for k in self._varying if not self._parts[k].meaning]

    def _give(self, position: int, meaning: str) -> None:
        taken = {part.meaning for part in self._parts}
        name, k = meaning, 1
        while name in taken:
            k += 1
            name = f"{meaning}{k}"
        self._parts[position] = replace(self._parts[position], meaning=name)

    def _before(self, position: int) -> str:
        """The word of text that stands directly before a piece, in lower case."""
        word = self._parts[position - 1] if position else None
        if word is None or word.varies or not word.values[0].isalpha():
            return ""
        return word.values[0].lower()

    def _after(self, position: int) -> str:
        """The word of text that stands directly after a piece, in lower case."""
        word = self._parts[position + 1] if position + 1 < len(self._parts) else None
        if word is None or word.varies or not word.values[0].isalpha():
            return ""
        return word.values[0].lower()

    def _repeats_whole(self, position: int) -> bool:
        """Whether every combination of the other pieces has each value of this one once."""
        values = set(self._parts[position].values)
        others = [k for k in self._varying if k != position]
        met: dict[tuple[str, ...], Counter[str]] = defaultdict(Counter)
        for row in range(len(self._reading.paths)):
            rest = tuple(self._parts[k].values[row] for k in others)
            met[rest][self._parts[position].values[row]] += 1
        return all(set(count) == values and max(count.values()) == 1 for count in met.values())

    # -- meanings

    def _find_channel(self) -> None:
        candidates = [
            k
            for k in self._varying
            if 2 <= len(set(self._parts[k].values)) <= _MOST_CHANNELS
            and self._in_last_folder(k)
            and self._repeats_whole(k)
        ]
        named = [k for k in candidates if self._sounds_like_channel(k)]
        if named:
            self._give(named[-1], "channel")
            return
        # By its place alone: the last word, where another word and a number vary as well.
        words = [k for k in self._varying if not self._parts[k].values[0][0].isdecimal()]
        numbers = [k for k in self._varying if self._parts[k].is_number]
        last = self._varying[-1]
        if last in candidates and last in words and len(words) > 1 and numbers:
            self._give(last, "channel")

    def _in_last_folder(self, position: int) -> bool:
        return not any("/" in part.values[0] for part in self._parts[position:])

    def _sounds_like_channel(self, position: int) -> bool:
        part = self._parts[position]
        if self._before(position) in _CHANNEL_PREFIXES and part.is_number:
            return True
        if part.is_number and self._after(position) == "nm":
            # Wavelengths of light, in nanometres.
            return all(300 <= int(value) <= 1200 for value in part.values)
        if all(value.lower() in _CHANNEL_WORDS for value in part.values):
            # Single letters are channels at the end of a name only.
            return any(len(value) > 1 for value in part.values) or position == self._varying[-1]
        channel_words = sum(
            len(value) > 1 and value.lower() in _CHANNEL_WORDS for value in set(part.values)
        )
        return (
            not part.is_number and 2 * channel_words >= len(set(part.values)) and channel_words > 0
        )

    def _find_named(self) -> None:
        """Pieces that a word or a unit beside them names."""
        for k in self._free():
            values = self._parts[k].values
            before, after = self._before(k), self._after(k)
            numeric = all(value[0].isdecimal() for value in values)
            units = {_unit_of(value) for value in values}
            if all(_DATE.fullmatch(value) for value in values):
                self._give(k, "date")
            elif all(_WELL.fullmatch(value) for value in values):
                self._give(k, "well")
            elif units != {""} and len({_UNITS[unit] for unit in units if unit}) == 1:
                self._give(k, _UNITS[next(unit for unit in units if unit)])
            elif numeric and after in _UNITS:
                self._give(k, _UNITS[after])
            elif numeric and before in _TIME_WORDS:
                self._give(k, _TIME_WORDS[before])
            elif numeric and before in _FIELD_WORDS:
                self._give(k, "field")
            elif numeric and before in _REPLICATE_WORDS and not self._has("replicate"):
                self._give(k, "replicate")

    def _has(self, meaning: str) -> bool:
        return any(part.meaning == meaning for part in self._parts)

    def _samples(self) -> int:
        """How many samples there are once channels are joined."""
        channel = next((p for p in self._parts if p.meaning == "channel"), None)
        return len(self._reading.paths) // (len(set(channel.values)) if channel else 1)

    def _find_group(self) -> None:
        """The word with the fewest values that several samples share; a folder's before others."""
        words = [
            k
            for k in self._free()
            if not self._parts[k].values[0][0].isdecimal()
            and 2 * len(set(self._parts[k].values)) <= max(self._samples(), 2)
        ]
        if not words:
            return
        folder = [k for k in words if not self._in_last_folder(k)]
        best = min(folder or words, key=lambda k: len(set(self._parts[k].values)))
        self._give(best, "group")

    def _find_replicate(self) -> None:
        """The last number that counts within groups."""
        numbers = [k for k in self._free() if self._parts[k].is_number and not self._own_word(k)]
        others = any(part.meaning and part.meaning != "channel" for part in self._parts)
        if numbers and others and not self._has("replicate"):
            self._give(numbers[-1], "replicate")

    def _own_word(self, position: int) -> str:
        """The word that is written together with a number, such as slide of slide2."""
        word = self._before(position)
        return word if len(word) > 1 and word not in _REPLICATE_WORDS else ""

    def _find_sample(self) -> None:
        """What is left alone and tells all samples apart names them, with the text before it."""
        free = self._free()
        fields = [p for p in self._parts if p.meaning and p.meaning != "channel"]
        if len(free) != 1 or fields:
            return
        position = free[0]
        texts = self._parts[:position]
        if texts and not any(part.varies or "/" in part.values[0] for part in texts):
            values = tuple(
                "".join(part.values[row] for part in self._parts[: position + 1])
                for row in range(len(self._reading.paths))
            )
            self._parts[: position + 1] = [NamePart(values, "sample")]
            self._varying = [k for k, part in enumerate(self._parts) if part.varies]
        else:
            self._give(position, "sample")

    def _name_others(self) -> None:
        """What is left becomes an attribute."""
        for k in self._free():
            number = self._parts[k].is_number
            self._give(k, self._own_word(k) or "number" if number else "kind")


def _unit_of(value: str) -> str:
    """The unit at the end of a number, in lower case; "" for none that is known."""
    match = re.fullmatch(r"\d+(?:[.,]\d+)?([^\W\d_]+)", value)
    unit = match[1].lower() if match else ""
    return unit if unit in _UNITS else ""


def is_attribute(meaning: str) -> bool:
    """Whether a field is an attribute of samples."""
    return bool(meaning) and meaning not in MEANINGS
