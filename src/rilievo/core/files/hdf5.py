"""HDF5 and NeXus: each array of numbers with two axes and more is an image of the file, by h5py.

The data that a NeXus file declares as its default come first. Nothing outside the file is opened:
links to other files, arrays stored in them and virtual arrays are left out.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.errors import NotAnImage, UnsupportedKind
from rilievo.core.files import file_state
from rilievo.core.files.array_sample import ArrayFacts, sample_of_array
from rilievo.core.files.bounded_reading import check_bounded
from rilievo.core.files.reader import READERS, Reader
from rilievo.core.files.reader_helpers import chosen_image, first_line, optional
from rilievo.core.files.stack_axes import layout_of
from rilievo.core.image.image import Sample
from rilievo.core.image.metadata import MetadataNode, leaf
from rilievo.core.image.stack import Frame, StackLayout

_MOST_GROUPS, _MOST_DEPTH = 10_000, 20
# How labels of axes begin, as NeXus and others write them.
_AXES = {"t": ("t", "time", "frame"), "z": ("z", "depth"), "c": ("c", "channel"), "y": ("y",),
         "x": ("x",)}  # fmt: skip


def _opened(path: Path) -> Any:
    h5py = optional("h5py", path)
    try:
        return h5py.File(path, "r", locking=False)
    except OSError as exc:
        raise NotAnImage(
            path, f"is a damaged HDF5 file ({first_line(exc)})", "copy it again from its source"
        ) from exc


def _arrays(path: Path, group: Any, depth: int = 0) -> Iterator[Any]:
    """All arrays of images below a group, in its order."""
    h5py = optional("h5py", path)
    if depth > _MOST_DEPTH:
        return
    for name in group:
        # Links may lead in a circle, or out of the file.
        if not isinstance(group.get(name, getlink=True), h5py.HardLink):
            continue
        entry = group[name]
        if isinstance(entry, h5py.Group):
            yield from _arrays(path, entry, depth + 1)
        elif isinstance(entry, h5py.Dataset) and _is_image(entry):
            yield entry


def _is_image(dataset: Any) -> bool:
    inside = not dataset.is_virtual and dataset.external is None
    shape = dataset.shape or ()
    return inside and dataset.dtype.kind in "biuf" and len(shape) > 1 and min(shape[-2:]) > 1


def _default(file: Any) -> str:
    """The path of the array that a NeXus file shows first; "" for none."""
    place = file
    for _ in range(_MOST_DEPTH):
        name = place.attrs.get("default")
        if not isinstance(name, str) or name not in place:
            break
        place = place[name]
    signal = getattr(place, "attrs", {}).get("signal")
    if isinstance(signal, str) and signal in place:
        return str(place[signal].name)
    return ""


def _images(path: Path, file: Any) -> list[Any]:
    images = []
    for dataset in _arrays(path, file):
        images.append(dataset)
        if len(images) > _MOST_GROUPS:
            break
    first = _default(file)
    images.sort(key=lambda dataset: dataset.name != first)
    if not images:
        raise UnsupportedKind(
            path, "holds no array with two axes or more", "choose a file with an image in it"
        )
    return images


def _labels(dataset: Any) -> list[str]:
    """What the axes are called: by the array itself, or by its NeXus group."""
    labels = dataset.attrs.get("DIMENSION_LABELS")
    if labels is None:
        labels = dataset.parent.attrs.get("axes", ())
    words = [labels] if isinstance(labels, str | bytes) else list(np.ravel(labels))
    return [w.decode("utf-8", "replace") if isinstance(w, bytes) else str(w) for w in words]


def _letters(dataset: Any) -> str:
    count, labels = len(dataset.shape), _labels(dataset)
    letters = []
    for label in labels if len(labels) == count else [""] * count:
        word = label.lower().strip()
        kinds = (a for a, names in _AXES.items() if word == names[0] or word in names[1:])
        letters.append(next(kinds, "?"))
    text = "".join(letters)
    if text.count("y") != 1 or text.count("x") != 1:
        colours = count > 2 and dataset.shape[-1] in (3, 4) and min(dataset.shape[-3:-1]) > 4
        return "?" * (count - 3) + "yxs" if colours else "?" * (count - 2) + "yx"
    return text


def hdf5_layout(path: Path, image: int = 0) -> StackLayout:
    """Return which planes an array has; its numbers are not read."""
    check_bounded(path, file_state.identity_of_files([path]), image, 2 * path.stat().st_size)
    with _opened(path) as file:
        images = _images(path, file)
        dataset = images[chosen_image(path, len(images), image)]
        return layout_of(_letters(dataset), dataset.shape)


def read_hdf5(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read one array of a file, or one plane of it."""
    # The library ends the process at some damaged files: each is tried in another one first.
    check_bounded(path, file_state.identity_of_files([path]), image, 2 * path.stat().st_size)
    with _opened(path) as file:
        images = _images(path, file)
        dataset = images[chosen_image(path, len(images), image)]
        titles = [f"{each.name}: {' × '.join(map(str, each.shape))}" for each in images]
        facts = tuple(node for place in _ancestors(dataset) for node in _facts(place))
        try:
            return sample_of_array(
                path, dataset, _letters(dataset), frame,
                ArrayFacts(
                    metadata=facts, images=titles,
                    absent=lambda taken: _absent(path, dataset, taken),
                ),
            )  # fmt: skip
        except OSError as exc:
            raise UnsupportedKind(
                path, f"has pixels that cannot be unpacked ({first_line(exc)})", "save it with gzip"
            ) from exc


def _absent(path: Path, dataset: Any, taken: tuple[int | slice, ...]) -> NDArray[np.bool_] | None:
    """Which values that are taken of an array lie in blocks that were never written, or are lost.

    The library fills them with one value and does not say so. Raises NotAnImage where one block
    is listed twice.
    """
    blocks = math.prod(
        -(-n // c) for n, c in zip(dataset.shape, dataset.chunks or dataset.shape, strict=True)
    )
    stored: list[tuple[int, ...]] = []
    if dataset.chunks is not None:
        dataset.id.chunk_iter(lambda chunk: stored.append(chunk.chunk_offset))
        if len(set(stored)) < len(stored):
            # The library then finds some of them, or none, and fills the rest without a word.
            raise NotAnImage(path, "has a damaged index of its blocks", "copy it again")
        if len(stored) == blocks:
            return None
    elif dataset.id.get_storage_size() > 0:
        return None
    sides = [n for n, place in zip(dataset.shape, taken, strict=True) if isinstance(place, slice)]
    missing = np.ones(sides, np.bool_)
    for offset in stored:
        part = []
        for start, length, place in zip(offset, dataset.chunks, taken, strict=True):
            if isinstance(place, slice):
                part.append(slice(start, start + length))
            elif not start <= place < start + length:
                break
        else:
            missing[tuple(part)] = False
    return missing if missing.any() else None


def _ancestors(entry: Any) -> list[Any]:
    """The file, the groups in which an array lies, and itself."""
    places = [entry]
    while places[0].name != "/":
        places.insert(0, places[0].parent)
    return places


def _facts(place: Any) -> Iterator[MetadataNode]:
    """The attributes of a group or an array."""
    leaves = []
    for name in place.attrs:
        try:
            value = place.attrs[name]
        except (OSError, TypeError, ValueError):
            continue
        text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
        leaves.append(leaf(str(name), text[:2000]))
    if leaves:
        yield MetadataNode("File" if place.name == "/" else str(place.name), "", tuple(leaves))


READERS.add(
    "hdf5",
    Reader(
        "hdf5",
        "HDF5",
        (".h5", ".hdf5", ".hdf", ".nxs", ".nx5"),
        lambda head: head.startswith(b"\x89HDF\r\n\x1a\n"),
        read_hdf5,
        layout=hdf5_layout,
        read_plane=read_hdf5,
    ),
    order=110,
)
