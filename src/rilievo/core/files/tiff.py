"""TIFF and OME-TIFF through tifffile: gray or colour, one page or many.

Axes beside height and width become channels. Names, pixel size and camera depth are read from
the OME-XML where there is one.
"""

from __future__ import annotations

import itertools
import math
import struct
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np

from rilievo.core.errors import NotAnImage, UnsupportedKind
from rilievo.core.files.bounded_reading import check_bounded
from rilievo.core.files.file_state import identity_of_files
from rilievo.core.files.open_files import KeptOpen
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    COLOUR_NAMES,
    LOSSY_NOTE,
    check_size,
    chosen_image,
    colour_channels,
    damaged,
    native_order,
    planes_with_gaps,
    truncated,
    unique_names,
)
from rilievo.core.files.stack_axes import layout_of
from rilievo.core.files.tiff_directories import (
    belongs_to_set,
    check_directories,
    files_of_set,
    open_tiff,
)
from rilievo.core.files.tiff_gaps import check_whole, gaps_of, layout_doubt
from rilievo.core.files.tiff_planes import page_seconds, plane_series
from rilievo.core.image.image import Calibration, Plane, Sample, plane_from_native
from rilievo.core.image.lengths import conversion, unit_name
from rilievo.core.image.metadata import MetadataNode, leaf, xml_nodes
from rilievo.core.image.stack import SECONDS, Frame, StackLayout

_MAGIC = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
_AXIS_WORDS = {"Z": "z", "T": "time", "C": "channel"}
_RESOLUTION_UNIT_CENTIMETRE = 3
_MOST_LISTED = 64
_MOST_TIMES = 1_000_000


@dataclass(frozen=True)
class _OmeFacts:
    """What the OME-XML says. only_name : of a file's single channel, where it has one."""

    channel_names: tuple[str, ...] = ()
    only_name: str = ""
    calibration: Calibration = field(default_factory=Calibration)
    significant_bits: int | None = None


def _ome_root(xml: str | None) -> ElementTree.Element | None:
    try:
        # expat limits the expansion of entities
        return ElementTree.fromstring(xml) if xml else None  # noqa: S314
    except ElementTree.ParseError:
        return None


def _ome_facts(xml: str | None) -> _OmeFacts:
    root = _ome_root(xml)
    if root is None:
        return _OmeFacts()
    pixels = next((e for e in root.iter() if e.tag.endswith("}Pixels")), None)
    if pixels is None:
        return _OmeFacts()
    given = [e.get("Name") or "" for e in pixels if e.tag.endswith("}Channel")]
    names = [name or f"channel {i + 1}" for i, name in enumerate(given)]
    calibration = Calibration()
    try:
        sizes = [float(pixels.get(f"PhysicalSize{axis}") or 0) for axis in "XY"]
        bits = int(pixels.get("SignificantBits") or 0)
    except ValueError:
        sizes, bits = [0.0, 0.0], 0
    units = [unit_name(pixels.get(f"PhysicalSize{axis}Unit") or "µm") for axis in "XY"]
    factor = conversion(units[1], units[0])
    if sizes[0] > 0:
        height = sizes[1] * factor if factor is not None and sizes[1] > 0 else sizes[0]
        calibration = Calibration.of_sides(sizes[0], height, units[0])
    only = given[0] if len(given) == 1 else ""
    return _OmeFacts(tuple(names), only, calibration, bits or None)


def _resolution(page: Any) -> Calibration:
    """Pixel size from the resolution tags, when they are given per centimetre.

    Per inch they describe print size far more often than the specimen.
    """
    unit = page.tags.get("ResolutionUnit")
    across, down = page.tags.get("XResolution"), page.tags.get("YResolution")
    if unit is None or across is None or int(unit.value) != _RESOLUTION_UNIT_CENTIMETRE:
        return Calibration()
    width = _side(across.value)
    return Calibration.of_sides(width, _side(down.value) if down is not None else width, "µm")


def _side(resolution: tuple[int, int]) -> float:
    """The side of a pixel in µm, of a number of them per centimetre as a fraction; 0 for none."""
    numerator, denominator = resolution
    return 1e4 * denominator / numerator if numerator and denominator else 0.0


def _check_kind(path: Path, dtype: np.dtype[Any]) -> None:
    if dtype.kind not in "biuf":
        raise UnsupportedKind(
            path, f"holds {dtype} numbers", "save its real and imaginary parts as separate images"
        )


def _with_depth(facts: _OmeFacts, page: Any) -> _OmeFacts:
    """Take the depth from the tag (12 bits in 16-bit numbers) where the OME-XML is silent."""
    bits = page.bitspersample
    if facts.significant_bits is None and isinstance(bits, int) and bits in range(2, 64):
        return replace(facts, significant_bits=bits)
    return facts


# What unpacks to the size of its strip or tile, or fails.
_BOUNDED = {"NONE", "LZW", "ADOBE_DEFLATE", "DEFLATE", "PACKBITS", "ZSTD", "LZMA", "CCITTRLE"}


def _check_bounded(path: Path, series: Any, image: int) -> None:
    if series.keyframe.compression.name not in _BOUNDED:
        decoded = series.size * series.dtype.itemsize
        check_bounded(path, identity_of_files(files_of_set(path)), image, decoded)


def _compression_notes(page: Any) -> list[str]:
    lossy = {"JPEG", "OJPEG", "JPEG_2000_LOSSY", "WEBP", "JPEGXR_NDPI"}
    name = page.compression.name
    return [LOSSY_NOTE.format(kind=name)] if name in lossy else []


def _looked_up(
    values: np.ndarray[Any, Any], axes: str, table: np.ndarray[Any, Any]
) -> tuple[np.ndarray[Any, Any], str]:
    """Return the colours that a colour table of shape (3, levels) gives the numbers."""
    # Tables are stored with 16 bits, but most hold 8-bit colours times 257.
    if (table % 257 == 0).all():
        table = (table // 257).astype(np.uint8)
    return np.moveaxis(table[:, values], 0, -1), axes + "S"


def _axis_labels(axes: str, shape: Sequence[int], facts: _OmeFacts) -> Iterator[str]:
    words = []
    for axis, length in zip(axes, shape, strict=True):
        if axis == "C" and len(facts.channel_names) == length:
            words.append(list(facts.channel_names))
        elif length == 1:
            words.append([""])
        else:
            words.append([f"{_AXIS_WORDS.get(axis, 'page')} {i + 1}" for i in range(length)])
    for combination in itertools.product(*words):
        yield " ".join(word for word in combination if word) or facts.only_name or "gray"


def _colour_last(values: np.ndarray[Any, Any], axes: str) -> tuple[np.ndarray[Any, Any], str]:
    """Put height and width, then colour, last; other axes keep their order."""
    order = [i for i, axis in enumerate(axes) if axis not in "YXS"]
    order += [axes.index("Y"), axes.index("X")]
    if "S" in axes:
        order.append(axes.index("S"))
    return values.transpose(order), "".join(axes[i] for i in order)


def _gaps_by_channel(
    gaps: np.ndarray[Any, np.dtype[np.bool_]] | None, axes: str, facts: _OmeFacts
) -> dict[str, np.ndarray[Any, np.dtype[np.bool_]]]:
    """Which pixels are missing in each channel that lacks any, under the names of `_channels`."""
    if gaps is None:
        return {}
    if "S" in axes:
        # A colour that lacks one of its values is no colour.
        gaps, axes = np.asarray(gaps.any(axis=axes.index("S"))), axes.replace("S", "")
    gaps, axes = _colour_last(gaps, axes)
    labels = unique_names(_axis_labels(axes[:-2], gaps.shape[:-2], facts))
    flat = gaps.reshape(-1, *gaps.shape[-2:])
    return {label: mask for label, mask in zip(labels, flat, strict=True) if mask.any()}


def _channels(
    values: np.ndarray[Any, Any], axes: str, facts: _OmeFacts, notes: list[str]
) -> dict[str, Plane]:
    values, axes = _colour_last(values, axes)
    has_colour = axes.endswith("S")
    if has_colour:
        facts = replace(facts, only_name="")
    outer = len(axes) - (3 if has_colour else 2)
    labels = list(_axis_labels(axes[:outer], values.shape[:outer], facts))
    flat = values.reshape(-1, *values.shape[outer:])
    if not has_colour:
        return {
            name: plane_from_native(native_order(plane), facts.calibration, facts.significant_bits)
            for name, plane in zip(unique_names(labels), flat, strict=True)
        }
    samples = flat.shape[-1]
    if samples in (2, 4):
        notes.append("The transparency of the file is set aside.")
    planes: dict[str, Plane] = {}
    for label, picture in zip(labels, flat, strict=True):
        prefix = "" if label == "gray" else f"{label} "
        if samples >= 3:
            colours = colour_channels(picture, facts.calibration, facts.significant_bits)
        else:
            colours = {"gray": plane_from_native(native_order(picture[..., 0]), facts.calibration)}
        planes |= {prefix + name: plane for name, plane in colours.items()}
    return planes


def _tag_text(value: Any) -> Any:
    """A tag's value as people read it; long lists of offsets are counted, not spelled out."""
    if isinstance(value, tuple | list | np.ndarray) and len(value) > _MOST_LISTED:
        return f"{len(value)} values, the first {value[0]}"
    if isinstance(value, bytes) and len(value) > _MOST_LISTED:
        return f"{len(value)} bytes"
    if isinstance(value, tuple) and len(value) == 1:
        return value[0]
    return getattr(value, "name", value)


def _metadata(file: Any, series: Any) -> tuple[MetadataNode, ...]:
    """The tags of the image's first page, and the OME-XML as a tree."""
    tags = []
    for tag in series.keyframe.tags.values():
        is_xml = tag.name == "ImageDescription" and file.ome_metadata
        tags.append(leaf(tag.name, "see OME-XML" if is_xml else _tag_text(tag.value)))
    nodes = [MetadataNode("TIFF tags of the first page", "", tuple(tags))]
    if file.ome_metadata:
        nodes += [MetadataNode("OME-XML", "", xml_nodes(file.ome_metadata))]
    nodes.append(
        MetadataNode(
            "Layout",
            "",
            (
                leaf("pages", len(file.pages)),
                leaf("levels of the pyramid", len(series.levels)),
                leaf("axes", series.axes),
            ),
        )
    )
    return tuple(nodes)


def _open(path: Path) -> Any:
    import tifffile  # noqa: PLC0415 (slow to import, needed for this format only)

    try:
        # Others are opened only where the OME-XML names some that are there and may be read.
        return open_tiff(path, with_set=belongs_to_set(path))
    except (tifffile.TiffFileError, struct.error) as exc:
        if path.stat().st_size < 64:
            raise truncated(path) from exc
        raise NotAnImage(
            path, "is a damaged TIFF", "copy or export it again from its source"
        ) from exc


@dataclass
class _Opened:
    """An open TIFF, and what is wrong with its directories."""

    file: Any
    doubt: str

    @classmethod
    def of(cls, path: Path) -> _Opened:
        """Open a file."""
        doubt = check_directories(path)
        return cls(_open(path), doubt)

    def close(self) -> None:
        """Close it."""
        self.file.close()


_OPEN: KeptOpen[_Opened] = KeptOpen(3)


def _whole(path: Path) -> AbstractContextManager[_Opened]:
    return closing(_Opened.of(path))


def _kept(path: Path) -> AbstractContextManager[_Opened]:
    """The file for a plane of it; it stays open for the next one."""
    return _OPEN.use(identity_of_files(files_of_set(path)), lambda: _Opened.of(path))


def tiff_layout(path: Path, image: int = 0) -> StackLayout:
    """Return which planes in depth and time an image of a TIFF has."""
    with _kept(path) as opened:
        file = opened.file
        if len(file.pages) == 0 or not file.series:
            raise truncated(path)
        series = file.series[chosen_image(path, len(file.series), image)]
        if "Y" not in series.axes or "X" not in series.axes:
            return StackLayout()
        layout = layout_of(series.axes, series.shape, _ome_stack(file.ome_metadata))
        if layout.pages > 1 and layout.count == layout.pages == len(file.pages):
            return replace(layout, dated=page_seconds(file, layout.pages))
        return layout


def _ome_stack(xml: str | None) -> StackLayout:
    """The distance of planes in depth, and the times at which they were recorded."""
    root = _ome_root(xml)
    pixels = None
    if root is not None:
        pixels = next((e for e in root.iter() if e.tag.endswith("}Pixels")), None)
    if pixels is None:
        return StackLayout()
    try:
        step = float(pixels.get("PhysicalSizeZ") or 0)
        between = float(pixels.get("TimeIncrement") or 0)
        count = int(pixels.get("SizeT") or 1)
        stated = {
            int(e.get("TheT") or 0): float(e.get("DeltaT") or math.nan)
            for e in pixels
            if e.tag.endswith("}Plane") and e.get("TheZ") == "0" and e.get("TheC") == "0"
        }
    except ValueError:
        return StackLayout()
    unit = unit_name(pixels.get("PhysicalSizeZUnit") or "µm")
    seconds = tuple(stated.get(k, math.nan) for k in range(min(count, _MOST_TIMES)))
    factor = SECONDS.get(pixels.get("TimeIncrementUnit") or "s", 1.0)
    if not all(map(math.isfinite, seconds)):
        seconds = tuple(k * between * factor for k in range(len(seconds))) if between > 0 else ()
    return StackLayout(z_step=step if step > 0 else None, unit=unit, seconds=seconds)


def read_tiff(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read one image of a TIFF; every page, channel or colour of it is a channel.

    frame : the one plane in depth and time that is read.
    """
    with _whole(path) if frame is None else _kept(path) as opened:
        file, doubts = opened.file, [opened.doubt]
        if len(file.pages) == 0 or not file.series:
            raise truncated(path)
        series = whole = file.series[chosen_image(path, len(file.series), image)]
        if "Y" not in series.axes or "X" not in series.axes:
            raise UnsupportedKind(path, "holds no two-dimensional image", "export it as an image")
        _check_kind(path, series.dtype)
        if frame is not None:
            series = plane_series(path, series, frame)
        check_size(path, series.shape, series.dtype.itemsize)
        check_whole(path, series)
        _check_bounded(path, series, image)
        page: Any = series.keyframe
        facts = _ome_facts(file.ome_metadata)
        if facts.calibration.pixel_size is None:
            facts = replace(facts, calibration=_resolution(page))
        facts = _with_depth(facts, page)
        notes = _compression_notes(page)
        metadata = _metadata(file, series)
        titles = [f"image {i + 1}: {_size_text(entry)}" for i, entry in enumerate(file.series)]
        gaps = gaps_of(series)
        values, axes = series.asarray(), series.axes
        if page.photometric.name == "PALETTE":
            values, axes = _looked_up(values, axes, page.colormap)
            notes.append("The file's colour table was expanded to red, green and blue.")
        if series.dtype == np.float16:
            values = values.astype(np.float32)
        channels = _channels(values, axes, facts, notes)
        missing = _with_colours(_gaps_by_channel(gaps, series.axes, facts), channels)
        doubts += [layout_doubt(series), "" if frame else _pages_lost(file, series)]
        stated = layout_of(whole.axes, whole.shape, _ome_stack(file.ome_metadata))
    channels, defects = planes_with_gaps(path, channels, missing, "empty strips, tiles or pages")
    defects += [damaged(path, doubt) for doubt in doubts if doubt]
    return Sample(
        sample_name(path),
        channels,
        notes=notes,
        defects=tuple(defects),
        metadata=metadata,
        images=titles,
        attributes=stated.attributes(frame) if frame else {},
    )


def _pages_lost(file: Any, series: Any) -> str:
    """What an OME-XML says of planes where the pages do not fit it, so that it was set aside."""
    root = None if series.kind == "ome" else _ome_root(file.ome_metadata)
    if root is None:
        return ""
    promised = sum(_promised(e) for e in root.iter() if e.tag.endswith("}Pixels"))
    return (
        f"its OME-XML describes {promised} planes, and {len(file.pages)} pages are in the file"
        if promised > len(file.pages) * series.keyframe.samplesperpixel
        else ""
    )


def _promised(pixels: ElementTree.Element) -> int:
    try:
        return math.prod(int(pixels.get(f"Size{axis}") or 1) for axis in "CZT")
    except ValueError:
        return 0


def _with_colours(
    gaps: dict[str, np.ndarray[Any, np.dtype[np.bool_]]], channels: Mapping[str, Plane]
) -> dict[str, np.ndarray[Any, np.dtype[np.bool_]]]:
    """The gaps of a picture in colour are those of each of its colours."""
    masks: dict[str, np.ndarray[Any, np.dtype[np.bool_]]] = {}
    for label, mask in gaps.items():
        prefix = "" if label == "gray" else f"{label} "
        names = [label, *(prefix + colour for colour in (*COLOUR_NAMES, "brightness"))]
        masks |= {name: mask for name in names if name in channels}
    return masks


def _size_text(series: Any) -> str:
    lengths = dict(zip(series.axes, series.shape, strict=True))
    return f"{lengths.get('X', '?')} × {lengths.get('Y', '?')}"


READERS.add(
    "tiff",
    Reader(
        "tiff",
        "TIFF",
        (".ome.tiff", ".ome.tif", ".tiff", ".tif"),
        lambda head: head.startswith(_MAGIC),
        read_tiff,
        files=files_of_set,
        layout=tiff_layout,
        read_plane=read_tiff,
    ),
    order=70,
)
