"""OME-Zarr (NGFF 0.4 and 0.5): a folder whose arrays are the levels of one image.

The full level is read; the coarser ones are not needed. Only files on this machine are opened.
"""

from __future__ import annotations

import itertools
import json
import os
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.errors import FileOutside, FileUnreadable, NotAnImage, UnsupportedKind
from rilievo.core.files.file_state import is_below, regular_state
from rilievo.core.files.reader import READERS, Reader, sample_name
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    native_order,
    planes_with_gaps,
    unique_names,
)
from rilievo.core.files.stack_axes import layout_of, selection
from rilievo.core.files.zarr_blocks import absent_blocks, check_shape
from rilievo.core.image.image import Calibration, Sample, plane_from_native
from rilievo.core.image.lengths import LENGTH_UNITS, conversion, standard_unit, unit_name
from rilievo.core.image.metadata import MetadataNode, mapping_nodes
from rilievo.core.image.stack import SECONDS, Frame, StackLayout

# What describes a group or an array, in the new form and the old.
METADATA_NAMES = ("zarr.json", ".zgroup", ".zattrs", ".zarray")
_AXIS_WORDS = {"t": "time", "z": "z", "c": "channel"}
_MOST_BYTES = 20_000_000
_MOST_TIMES = 1_000_000


def _attributes(folder: Path) -> dict[str, Any] | None:
    """The attributes of a group, in the old or the new form; None for no Zarr group."""
    for name in ("zarr.json", ".zattrs"):
        file = folder / name
        if not file.is_file() or file.stat().st_size > _MOST_BYTES:
            continue
        try:
            data = json.loads(file.read_text(encoding="utf-8"))
        except (ValueError, RecursionError):
            return {}
        if isinstance(data, dict):
            attributes = data.get("attributes", {}) if name == "zarr.json" else data
            return attributes if isinstance(attributes, dict) else {}
    return None


def is_ome_zarr(folder: Path) -> bool:
    """Whether a folder is an OME-Zarr image: a Zarr group with image metadata, or named so."""
    try:
        attributes = _attributes(folder)
    except OSError:
        return False
    if attributes is None:
        return False
    return bool(_multiscales(attributes)) or folder.name.lower().endswith(".zarr")


def _multiscales(attributes: Mapping[str, Any]) -> list[dict[str, Any]]:
    inner = attributes.get("ome")
    index = inner if isinstance(inner, dict) else attributes
    entries = index.get("multiscales")
    return (
        [entry for entry in entries if isinstance(entry, dict)] if isinstance(entries, list) else []
    )


def _axis_names(scales: Mapping[str, Any], count: int) -> list[str]:
    axes = scales.get("axes")
    names = [a.get("name", "") if isinstance(a, dict) else str(a) for a in axes or []]
    return names if len(names) == count else ["t", "c", "z", "y", "x"][-count:]


def _calibration(scales: Mapping[str, Any], axes: Sequence[str]) -> Calibration:
    try:
        transforms = scales["datasets"][0]["coordinateTransformations"]
        scale = next(
            transform["scale"] for transform in transforms if transform.get("type") == "scale"
        )
        sides = [float(scale[axes.index(axis)]) for axis in "xy"]
        units = [unit_name(scales["axes"][axes.index(axis)].get("unit", "")) for axis in "xy"]
    except (KeyError, IndexError, StopIteration, TypeError, ValueError, AttributeError):
        return Calibration()
    factor = conversion(units[1], units[0])
    if factor is None or standard_unit(units[0]) not in LENGTH_UNITS:
        return Calibration()
    return Calibration.of_sides(sides[0], sides[1] * factor, units[0])


# What the first of channels without names is called.
_UNNAMED = "channel 1"


def _channel_labels(attributes: Mapping[str, Any], count: int) -> list[str]:
    inner = attributes.get("ome")
    index = inner if isinstance(inner, dict) else attributes
    omero = index.get("omero")
    listed = omero.get("channels") if isinstance(omero, dict) else None
    labels = [str(c.get("label", "")) for c in listed or [] if isinstance(c, dict)]
    if len(labels) == count and all(labels):
        return labels
    return [_UNNAMED, *(f"channel {i + 1}" for i in range(1, count))]


def _inner_path(folder: Path, scales: Mapping[str, Any]) -> str:
    try:
        inner = str(scales["datasets"][0]["path"])
    except (KeyError, IndexError, TypeError) as exc:
        raise NotAnImage(folder, "names no image data", "export it again") from exc
    # A path that leads out of the folder is not followed.
    if not (folder / inner).resolve().is_relative_to(folder.resolve()):
        raise NotAnImage(folder, "refers to data outside itself", "export it again")
    return inner


def full_level(folder: Path, image: int = 0) -> str:
    """Return the name of the array that is read for an image, below its folder.

    Raises UnsupportedKind, NotAnImage.
    """
    return _inner_path(folder, _chosen_scales(folder, _attributes(folder) or {}, image))


def block_names(folder: Path, level: str) -> list[str]:
    """Return the names of all files with the numbers of an array, whether they are there or not.

    folder : with the metadata of the image. Raises FileUnreadable, NotAnImage.
    """
    array = _opened(folder, level)
    check_shape(folder, array)
    block = array.shards or array.chunks
    counts = [range(-(-int(n) // max(int(c), 1))) for n, c in zip(array.shape, block, strict=True)]
    return [
        f"{level}/{array.metadata.encode_chunk_key(index)}" for index in itertools.product(*counts)
    ]


def _chosen_scales(path: Path, attributes: Mapping[str, Any], image: int) -> dict[str, Any]:
    images = _multiscales(attributes)
    if not images:
        raise UnsupportedKind(
            path, "is a Zarr folder without an OME image", "export it as OME-Zarr 0.4 or 0.5"
        )
    return images[chosen_image(path, len(images), image)]


def _opened(path: Path, level: str) -> Any:
    """An array of an image folder; its numbers are read later."""
    import zarr  # noqa: PLC0415 (slow to import, needed for this format only)

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            return zarr.open_array(str(path / level), mode="r")
        except (OSError, KeyError, ValueError, TypeError) as exc:
            raise FileUnreadable(
                path, f"has no readable full level ({exc})", "copy it again from its source"
            ) from exc


def zarr_layout(path: Path, image: int = 0) -> StackLayout:
    """Return which planes in depth and time an image of an OME-Zarr folder has."""
    scales = _chosen_scales(path, _attributes(path) or {}, image)
    shape = tuple(int(n) for n in _opened(path, _inner_path(path, scales)).shape)
    return _layout(scales, shape)


def _layout(scales: Mapping[str, Any], shape: tuple[int, ...]) -> StackLayout:
    """The layout, with distance of planes and times where the scales say them."""
    names = _axis_names(scales, len(shape))
    letters = "".join(name if len(name) == 1 else "?" for name in names)
    steps = dict(zip(names, _scale(scales, len(shape)), strict=True))
    units = {
        str(axis.get("name", "")): str(axis.get("unit") or "")
        for axis in scales.get("axes") or ()
        if isinstance(axis, dict)
    }
    unit = unit_name(units.get("z", ""))
    layout = StackLayout(unit=unit)
    if steps.get("z", 0) > 0 and standard_unit(unit) in LENGTH_UNITS:
        layout = replace(layout, z_step=steps["z"])
    second = SECONDS.get(units.get("t", ""))
    if steps.get("t", 0) > 0 and second is not None:
        count = min(shape[names.index("t")], _MOST_TIMES)
        layout = replace(layout, seconds=tuple(k * steps["t"] * second for k in range(count)))
    return layout_of(letters, shape, layout)


def _scale(scales: Mapping[str, Any], count: int) -> list[float]:
    """The scale of the full level along each axis; zeros where it is not given."""
    try:
        transforms = scales["datasets"][0]["coordinateTransformations"]
        scale = [
            float(n)
            for transform in transforms
            if transform.get("type") == "scale"
            for n in transform["scale"]
        ]
    except (KeyError, IndexError, TypeError, ValueError, AttributeError):
        return [0.0] * count
    return scale if len(scale) == count else [0.0] * count


def read_ome_zarr(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read the full level of one image of an OME-Zarr folder; its planes are channels.

    frame : the one plane in depth and time that is read.
    """
    attributes = _attributes(path) or {}
    scales = _chosen_scales(path, attributes, image)
    level = _inner_path(path, scales)
    array = _opened(path, level)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        shape = tuple(int(n) for n in array.shape)
        dtype = np.dtype(array.dtype)
        if len(shape) < 2 or dtype.kind not in "biuf":
            raise UnsupportedKind(
                path, f"holds {dtype} numbers of shape {shape}", "export an image"
            )
        axes = _axis_names(scales, len(shape))
        taken: tuple[int | slice, ...] = (slice(None),) * len(shape)
        layout = _layout(scales, shape)
        if frame is not None:
            letters = "".join(axis if len(axis) == 1 else "?" for axis in axes)
            taken = selection(path, letters, shape, frame)
            axes = [
                axis for axis, index in zip(axes, taken, strict=True) if isinstance(index, slice)
            ]
            shape = tuple(
                n for n, index in zip(shape, taken, strict=True) if isinstance(index, slice)
            )
        check_size(path, shape, dtype.itemsize)
        check_shape(path, array)
        values = np.asarray(array[taken])
        gaps = absent_blocks(path / level, array, values, taken)
    if axes[-2:] != ["y", "x"]:
        raise UnsupportedKind(path, f"has the axes {', '.join(axes)}", "order them … y, x")
    if values.dtype == np.float16:
        values = values.astype(np.float32)
    calibration = _calibration(scales, axes)
    names = unique_names(_labels(axes[:-2], shape[:-2], attributes))
    flat = values.reshape(-1, *shape[-2:])
    channels = {
        name: plane_from_native(native_order(plane), calibration)
        for name, plane in zip(names, flat, strict=True)
    }
    missing = {} if gaps is None else dict(zip(names, gaps.reshape(flat.shape), strict=True))
    missing = {name: mask for name, mask in missing.items() if mask.any()}
    channels, defects = planes_with_gaps(
        path, channels, missing, "blocks that are not in the folder"
    )
    metadata = (mapping_nodes(attributes, "Zarr attributes"), _array_facts(array))
    titles = [
        str(one.get("name") or f"image {i + 1}") for i, one in enumerate(_multiscales(attributes))
    ]
    return Sample(
        sample_name(path),
        channels,
        defects=tuple(defects),
        metadata=metadata,
        images=titles,
        attributes=layout.attributes(frame) if frame else {},
    )


def files_of_folder(path: Path) -> list[Path]:
    """Return all files of an image folder. Raises FileOutside for a link out of it, NotAFile."""
    inner_folders: list[Path] = []
    for base, folders, names in os.walk(path):
        folders.sort()
        for name in (*folders, *names):
            entry = Path(base, name)
            if entry.is_symlink() and not is_below(entry, path):
                raise FileOutside(
                    path,
                    f"holds a link “{entry.relative_to(path)}” to “{entry.readlink()}”, which "
                    "is not below the folder",
                    "replace the link by the file itself if you trust it",
                )
        for name in sorted(names):
            entry = Path(base, name)
            regular_state(entry)
            inner_folders.append(entry)
    return inner_folders


def _labels(
    axes: Sequence[str], lengths: Sequence[int], attributes: Mapping[str, Any]
) -> list[str]:
    words = []
    for axis, length in zip(axes, lengths, strict=True):
        if axis == "c":
            words.append(_channel_labels(attributes, length) if length > 1 else [""])
        elif length == 1:
            words.append([""])
        else:
            words.append([f"{_AXIS_WORDS.get(axis, axis)} {i + 1}" for i in range(length)])
    only = next(iter(_channel_labels(attributes, 1)))
    only = "gray" if only == _UNNAMED else only
    return [
        " ".join(w for w in combination if w) or only for combination in itertools.product(*words)
    ]


def _array_facts(array: Any) -> MetadataNode:
    facts = {"shape": list(array.shape), "dtype": str(array.dtype), "chunks": list(array.chunks)}
    return mapping_nodes(facts, "Array")


READERS.add(
    "zarr",
    Reader(
        "zarr",
        "OME-Zarr",
        (".ome.zarr", ".zarr"),
        lambda _head: False,
        read_ome_zarr,
        is_ome_zarr,
        files_of_folder,
        zarr_layout,
        read_ome_zarr,
    ),
    order=80,
)
