"""Pictures and label images as OME-TIFF and OME-Zarr, so that other programs take them up.

Sizes of pixels and names of channels go with them. Originals are never written to.
"""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.atomic_write import cannot_write, write_bytes_safely
from rilievo.core.errors import UnsupportedKind
from rilievo.core.files.reader_helpers import unique_names
from rilievo.core.image.image import Calibration, Plane
from rilievo.core.image.lengths import is_metric

# What OME calls units where it is not what we call them.
_ZARR_UNITS = {
    "nm": "nanometer", "µm": "micrometer", "mm": "millimeter", "cm": "centimeter", "m": "meter",
}  # fmt: skip
_TIFF_ENDINGS, _ZARR_ENDINGS = (".ome.tif", ".ome.tiff"), (".ome.zarr", ".zarr")
_BLOCK = 1024
Labels = NDArray[np.integer[Any]]


def is_ome_name(path: Path) -> bool:
    """Whether a name's ending is one that is written here."""
    return path.name.lower().endswith((*_TIFF_ENDINGS, *_ZARR_ENDINGS))


def write_ome(
    path: Path,
    planes: Mapping[str, Plane],
    labels: Mapping[str, Labels] | None = None,
    calibration: Calibration | None = None,
) -> None:
    """Write channels of one size, and label images of that size.

    path : ends in .ome.tif or .ome.zarr. planes : channel → plane, written as floats that hold all
    of them; undefined pixels are NaN. labels : region class → numbers of regions, 0 beside them;
    further images of a TIFF, `labels` of a Zarr. calibration : of the labels where there is no
    channel; else that of the first.
    Raises UnsupportedKind for another ending or a folder that is something else, FileUnreadable
    when it cannot be written.
    """
    name = path.name.lower()
    calibrated = calibration or Calibration()
    calibrated = next((plane.calibration for plane in planes.values()), calibrated)
    content = _Content(planes, labels or {}, calibrated)
    if name.endswith(_TIFF_ENDINGS):
        write_bytes_safely(path, _tiff(content))
    elif name.endswith(_ZARR_ENDINGS):
        _write_zarr(path, content)
    else:
        raise UnsupportedKind(
            path,
            "has an ending that is not known",
            "choose a name that ends in .ome.tif or .ome.zarr",
        )


@dataclass(frozen=True, eq=False)
class _Content:
    """What is written."""

    planes: Mapping[str, Plane]
    labels: Mapping[str, Labels]
    calibration: Calibration


def _joined(planes: Mapping[str, Plane]) -> NDArray[Any]:
    """All channels, shape (channels, height, width)."""
    return np.stack([plane.as_float() for plane in planes.values()])


def _as_labels(values: Labels) -> NDArray[Any]:
    return values.astype(np.uint16 if values.max(initial=0) < 2**16 else np.uint32)


# -- OME-TIFF


def _tiff(content: _Content) -> bytes:
    import tifffile  # noqa: PLC0415 (slow to import)

    buffer, sizes = BytesIO(), _tiff_sizes(content.calibration)
    with tifffile.TiffWriter(buffer, ome=True) as file:
        if content.planes:
            facts = {"axes": "CYX", "Channel": {"Name": list(content.planes)}, **sizes}
            values = _joined(content.planes)
            file.write(values, metadata=facts, photometric="minisblack")
        for name, numbers in content.labels.items():
            facts = {"axes": "YX", "Name": f"regions {name}", "Channel": {"Name": [name]}, **sizes}
            packed = _as_labels(numbers)
            file.write(packed, metadata=facts, photometric="minisblack", compression="zlib")
    return buffer.getvalue()


def _tiff_sizes(calibration: Calibration) -> dict[str, Any]:
    if calibration.sides is None or not is_metric(calibration.unit):
        return {}
    facts: dict[str, Any] = {}
    for axis, side in zip("XY", calibration.sides, strict=True):
        facts |= {f"PhysicalSize{axis}": side, f"PhysicalSize{axis}Unit": calibration.unit}
    return facts


# -- OME-Zarr 0.4


def _write_zarr(path: Path, content: _Content) -> None:
    """Write beside the name and put in its place at the end, so that a cut never looks whole."""
    if path.exists() and not (path / ".zattrs").is_file() and not (path / "zarr.json").is_file():
        raise UnsupportedKind(path, "is there and is no OME-Zarr", "choose another name")
    try:
        beside = Path(tempfile.mkdtemp(prefix=f".{path.name}.", dir=path.parent))
    except OSError as exc:
        raise cannot_write(path, exc) from exc
    try:
        _fill_zarr(beside / "new", content)
        if path.exists():
            path.rename(beside / "old")
        (beside / "new").rename(path)
    except OSError as exc:
        raise cannot_write(path, exc) from exc
    finally:
        shutil.rmtree(beside, ignore_errors=True)


def _fill_zarr(folder: Path, content: _Content) -> None:
    import zarr  # noqa: PLC0415 (slow to import)

    group = zarr.open_group(str(folder), mode="w", zarr_format=2)
    if content.planes:
        _put(group, _joined(content.planes), "cyx", content.calibration)
        group.attrs["omero"] = {"channels": [_channel(*item) for item in content.planes.items()]}
    if content.labels:
        inside = group.create_group("labels")
        # A class's name becomes that of a folder, which must lie here.
        names = unique_names(_as_folder(name) for name in content.labels)
        inside.attrs["labels"] = names
        for name, numbers in zip(names, content.labels.values(), strict=True):
            image = inside.create_group(name)
            _put(image, _as_labels(numbers), "yx", content.calibration)
            image.attrs["image-label"] = {"version": "0.4", "source": {"image": "../../"}}


def _as_folder(name: str) -> str:
    return re.sub(r"[/\\\0]|^\.+|^__", "-", name)


def _put(group: Any, values: NDArray[Any], axes: str, calibration: Calibration) -> None:
    """An array with its axes and scales."""
    blocks = tuple(1 if axis == "c" else min(_BLOCK, n) or 1
                   for axis, n in zip(axes, values.shape, strict=True))  # fmt: skip
    array = group.create_array(
        "0",
        shape=values.shape,
        chunks=blocks,
        dtype=values.dtype,
        chunk_key_encoding={"name": "v2", "separator": "/"},
        # Blocks that hold nothing but 0 are written too: they are measurements.
        config={"write_empty_chunks": True},
    )
    array[...] = values
    sides = calibration.sides if is_metric(calibration.unit) else None
    unit = _ZARR_UNITS.get(calibration.unit)
    described = [
        {"name": axis, "type": "channel" if axis == "c" else "space",
         **({"unit": unit} if unit and sides and axis != "c" else {})}
        for axis in axes
    ]  # fmt: skip
    width, height = sides or (1.0, 1.0)
    scale = [{"c": 1.0, "y": height, "x": width}[axis] for axis in axes]
    group.attrs["multiscales"] = [
        {
            "version": "0.4",
            "name": "0",
            "axes": described,
            "datasets": [
                {
                    "path": "0",
                    "coordinateTransformations": [{"type": "scale", "scale": scale}],
                }
            ],
        }
    ]


def _channel(name: str, plane: Plane) -> dict[str, Any]:
    values = plane.as_float()
    finite = values[np.isfinite(values)]
    low, high = (float(finite.min()), float(finite.max())) if finite.size else (0.0, 1.0)
    return {
        "label": name,
        "color": "FFFFFF",
        "active": True,
        "window": {"start": low, "end": high, "min": low, "max": high},
    }
