"""Camera raw: what the sensor gave, without interpolation, through LibRaw (rawpy).

Nothing is white-balanced, curved or made brighter, and the black level is not taken off: the
numbers are those of the sensor.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import NotAnImage, UnsupportedKind
from rilievo.core.files.bounded_reading import check_bounded
from rilievo.core.files.file_state import identity_of_files
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    first_line,
    optional,
    truncated,
    unique_names,
)
from rilievo.core.files.tiff_directories import has_sensor_data
from rilievo.core.image.image import Lattice, Plane, Sample
from rilievo.core.image.metadata import MetadataNode, leaf

SITES, HALF_SIZE = "sensor sites", "half-size colour"
_TIFF = re.compile(rb"II\*\0|MM\0\*|II\x2b\0|MM\0\x2b")
# First bytes of formats of their own, by their makers.
_OWN = re.compile(
    rb"IIR[OS]|MMOR|IIU\0|FUJIFILMCCD-RAW|.{4}ftypcrx |\0MRM|FOVb|II\x1a\0\0\0HEAPCCDR", re.DOTALL
)
_COLOURS = {
    "R": "red", "G": "green", "B": "blue", "C": "cyan", "M": "magenta", "Y": "yellow",
    "E": "emerald", "W": "white",
}  # fmt: skip
# How LibRaw numbers the turns of a picture, as the orientation tag does.
_TURNS = {3: 3, 5: 8, 6: 6}


def read_raw(path: Path, image: int = 0) -> Sample:
    """Read the sensor's numbers: each kind of site is a channel of half the size.

    image : 0 is the sites; 1 is red, green and blue of half the size, where two sites of a colour
    are averaged. Of a sensor that is no mosaic of two by two sites there is one image, of full
    size.
    """
    rawpy = optional("rawpy", path, extra="raw")
    # What unpacks raw files is many decoders in C: each file is tried in another process first.
    check_bounded(path, identity_of_files([path]), image, 4 * path.stat().st_size)
    raw = rawpy.RawPy()
    try:
        raw.open_file(str(path))
        sizes = raw.sizes
        check_size(path, (sizes.raw_height, sizes.raw_width, 4), 2)
        raw.unpack()
        values = np.array(raw.raw_image_visible)
        colours = np.array(raw.raw_colors_visible) if values.ndim == 2 else np.zeros((0, 0))
        facts = _Facts(raw, path)
    except rawpy.LibRawFileUnsupportedError as exc:
        raise UnsupportedKind(
            path, "is a camera raw file of a kind that LibRaw does not know", "convert it to DNG"
        ) from exc
    except (rawpy.LibRawIOError, rawpy.LibRawDataError) as exc:
        raise truncated(path) from exc
    except rawpy.LibRawError as exc:
        raise NotAnImage(
            path, f"is a damaged camera raw file ({first_line(exc)})", "copy it again"
        ) from exc
    finally:
        raw.close()
    sites = _sites(colours)
    chosen_image(path, 2 if sites else 1, image)
    if not sites:
        channels, notes = facts.whole(values)
    else:
        channels, notes = facts.by_site(values, sites)
        if image:
            channels, notes = _half_size(channels), [*notes, _HALF_SIZE_NOTE]
    return Sample(
        sample_name(path),
        channels,
        notes=[*notes, *facts.notes()],
        attributes=facts.attributes,
        metadata=tuple(facts.metadata()),
        images=(SITES, HALF_SIZE) if sites else (),
    )


_HALF_SIZE_NOTE = "Each colour is of half the size; its two kinds of green sites are averaged."


def _sites(colours: NDArray[Any]) -> list[tuple[int, int, int]]:
    """Row, column and colour of each of two by two sites; none for another sensor."""
    if min(colours.shape) < 2 or np.unique(colours[:2, :2]).size < 3:
        return []
    rows, columns = (n - n % 2 for n in colours.shape)
    tile = colours[:2, :2]
    for y in range(2):
        for x in range(2):
            if (colours[y:rows:2, x:columns:2] != tile[y, x]).any():
                return []
    return [(y, x, int(tile[y, x])) for y in range(2) for x in range(2)]


def _half_size(channels: dict[str, Plane]) -> dict[str, Plane]:
    made: dict[str, list[Plane]] = {}
    for name, plane in channels.items():
        made.setdefault(name.split(" ")[0], []).append(plane)
    return {name: _mean(planes) for name, planes in made.items()}


def _mean(planes: list[Plane]) -> Plane:
    if len(planes) == 1:
        return planes[0]
    first, second = planes
    clipped = np.zeros(first.shape, np.bool_)
    for plane in planes:
        saturated = plane.saturated()
        if saturated is not None:
            clipped |= saturated
    return replace(
        first,
        pixels=(first.as_float() + second.as_float()) / 2,
        lattice=Lattice(0.0, 0.5),
        saturation=None,
        clipped=clipped,
        stored=first.pixels.dtype,
    )


class _Facts:
    """What a file says of its sensor and its exposure, taken before it is closed."""

    def __init__(self, raw: Any, path: Path) -> None:
        self._path = path
        self._letters = raw.color_desc.decode("ascii", "replace")
        self._black = [float(level) for level in raw.black_level_per_channel]
        white = float(raw.white_level)
        self._white = [float(level) for level in raw.camera_white_level_per_channel or [white] * 4]
        self._other, self._lens, self._sizes = raw.other, raw.lens, raw.sizes
        self._sites: list[MetadataNode] = []
        self._levels: list[str] = []

    def notes(self) -> list[str]:
        """What is in the numbers that a ratio must not have."""
        if not any(self._black):
            return []
        return [
            f"Values are the sensor's own; its black level ({', '.join(self._levels)}) is in them: "
            "take it off before values are divided."
        ]

    def by_site(
        self, values: NDArray[Any], sites: list[tuple[int, int, int]]
    ) -> tuple[dict[str, Plane], list[str]]:
        """A plane for each kind of site, and what must be known of them."""
        rows, columns = (n - n % 2 for n in values.shape)
        names = [self._name(colour) for _, _, colour in sites]
        names = [f"{name} {names[:k].count(name) + 1}" if name in names[:k] else name
                 for k, name in enumerate(names)]  # fmt: skip
        planes = {}
        for name, (y, x, colour) in zip(names, sites, strict=True):
            planes[name] = self._plane(values[y:rows:2, x:columns:2], colour, name)
            self._sites.append(leaf(name, f"column {x} and row {y} of each two by two sites"))
        places = ", ".join(
            f"{n} (2x + {x}, 2y + {y})" for n, (y, x, _) in zip(names, sites, strict=True)
        )
        notes = [f"Pixel (x, y) of a channel is the sensor's pixel: {places}."]
        if (rows, columns) != values.shape:
            notes.append("A last row or column of the sensor without its partner is left out.")
        return planes, notes

    def whole(self, values: NDArray[Any]) -> tuple[dict[str, Plane], list[str]]:
        """The channels of a sensor that is no mosaic of two by two sites."""
        if values.ndim == 2:
            plane = self._plane(values, 0, "sensor")
            several = len(set(self._letters.rstrip("\0"))) > 1
            note = "The colours of the sensor's sites are not told apart: its mosaic is another."
            return {"sensor": plane}, [note] if several else []
        letters = self._letters[: values.shape[2]]
        names = unique_names(self._name(k) for k in range(len(letters)))
        return {name: self._plane(values[..., k], k, name) for k, name in enumerate(names)}, [
            "The file holds its colours for each pixel, not single sites of a sensor."
        ]

    def _name(self, colour: int) -> str:
        letter = self._letters[colour] if colour < len(self._letters) else ""
        return _COLOURS.get(letter, f"colour {colour + 1}")

    def _plane(self, values: NDArray[Any], colour: int, name: str) -> Plane:
        white = self._white[min(colour, len(self._white) - 1)]
        black = self._black[min(colour, len(self._black) - 1)]
        self._levels.append(f"{name} {black:g}")
        whole = values.dtype.kind in "iu"
        return Plane(
            np.ascontiguousarray(values),
            saturation=white or None,
            type_range=(0.0, white) if white else None,
            lattice=Lattice(0.0, 1.0) if whole else None,
        )

    @property
    def attributes(self) -> dict[str, str]:
        """Exposure in seconds, ISO, aperture, focal length in mm, lens, date, black and white."""
        other, facts = self._other, {}
        for name, value in (
            ("exposure", other.shutter_speed),
            ("ISO", other.iso_speed or _tag_of(self._path, "ISOSpeedRatings")),
            ("aperture", other.aperture),
            ("focal length", other.focal_length),
        ):
            if value and value > 0:
                facts[name] = f"{value:.6g}"
        if self._lens.model:
            facts["lens"] = self._lens.model
        if other.timestamp is not None and other.timestamp.timestamp() > 0:
            facts["date"] = other.timestamp.replace(tzinfo=UTC).strftime("%Y-%m-%dT%H:%M:%S")
        facts["black level"] = ", ".join(self._levels)
        facts["white level"] = ", ".join(f"{level:g}" for level in dict.fromkeys(self._white))
        return facts

    def metadata(self) -> Iterator[MetadataNode]:
        """What is known, as a tree; how the picture is to be turned among it."""
        yield MetadataNode("Camera raw", "", tuple(leaf(k, v) for k, v in self.attributes.items()))
        yield MetadataNode("Sites of the sensor", "", tuple(self._sites))
        sizes = self._sizes
        yield MetadataNode("EXIF", "", (
            leaf("Width of the sensor", sizes.raw_width),
            leaf("Height of the sensor", sizes.raw_height),
            leaf("Orientation", _TURNS.get(sizes.flip, 1)),
        ))  # fmt: skip


def _tag_of(path: Path, name: str) -> float:
    """A number among the tags of a file that is a TIFF; 0 where there is none."""
    import tifffile  # noqa: PLC0415 (slow to import, needed for this format only)

    try:
        with tifffile.TiffFile(path) as file:
            page = file.pages.first
            tags = page.tags
            exif = tags.get("ExifTag")
            value = tags.valueof(name) or (exif.value.get(name) if exif is not None else 0)
    except (tifffile.TiffFileError, ValueError, KeyError, AttributeError, IndexError):
        return 0.0
    value = value[0] if isinstance(value, tuple) else value
    return float(value) if isinstance(value, int | float) else 0.0


def _is_raw(path: Path) -> bool:
    with path.open("rb") as file:
        head = file.read(32)
    if _OWN.match(head) or head[8:10] == b"CR":
        return True
    return has_sensor_data(path)


_SUFFIXES = (
    ".dng", ".nef", ".cr2", ".cr3", ".arw", ".raf", ".orf", ".rw2", ".pef", ".srw", ".raw",
)  # fmt: skip

READERS.add(
    "raw",
    Reader(
        "raw",
        "camera raw",
        _SUFFIXES,
        lambda head: _TIFF.match(head) is not None or _OWN.match(head) is not None,
        read_raw,
        inside=_is_raw,
    ),
    order=5,
)
