"""MRC2014 maps and image stacks (Cheng et al. 2015), through mrcfile."""

from __future__ import annotations

import importlib
import math
import warnings
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.errors import NotAnImage
from rilievo.core.files.array_sample import ArrayFacts, sample_of_array
from rilievo.core.files.reader import READERS, Reader
from rilievo.core.files.reader_helpers import chosen_image, first_line, optional, truncated
from rilievo.core.files.stack_axes import layout_of
from rilievo.core.image.image import Calibration, Sample
from rilievo.core.image.metadata import MetadataNode, leaf
from rilievo.core.image.stack import Frame, StackLayout

# Voxels are in ångström; here they are nanometres.
_ANGSTROMS = 10.0
# From this space group on there are several volumes; 0 are images without an order in depth.
_VOLUMES = 401
_AT, _HEADER_BYTES = slice(208, 211), 1024


def _opened(path: Path) -> Any:
    mrcfile = optional("mrcfile", path)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            return mrcfile.open(path, mode="r", permissive=False, header_only=True)
        except ValueError as exc:
            if "expected" in str(exc):
                raise truncated(path) from exc
            raise NotAnImage(
                path, f"is a damaged MRC file ({first_line(exc)})", "export it again"
            ) from exc


class _Sections:
    """The sections of a file, read when they are asked for; never mapped, since it may be cut."""

    def __init__(self, path: Path, file: Any) -> None:
        header = file.header
        utils = importlib.import_module("mrcfile.utils")
        self.dtype = np.dtype(utils.data_dtype_from_header(header))
        depth, height, width = int(header.nz), int(header.ny), int(header.nx)
        group = int(header.ispg)
        self.axes = "zyx" if group else "?yx"
        self.shape: tuple[int, ...] = (depth, height, width)
        if group >= _VOLUMES and int(header.mz) > 0:
            self.axes, self.shape = "tzyx", (depth // int(header.mz), int(header.mz), height, width)
        elif depth == 1:
            self.axes, self.shape = "yx", (height, width)
        self._path, self._start = path, _HEADER_BYTES + int(header.nsymbt)

    def __getitem__(self, taken: tuple[int | slice, ...]) -> Any:
        """What is asked for; of places along the first axes only these are read."""
        outer = [index for index in taken if isinstance(index, int)]
        outer = outer if all(isinstance(index, int) for index in taken[: len(outer)]) else []
        lengths = self.shape[len(outer) :]
        count, place = math.prod(lengths), 0
        for index, length in zip(outer, self.shape, strict=False):
            place = place * length + index
        offset = self._start + place * count * self.dtype.itemsize
        values = np.fromfile(self._path, self.dtype, count, offset=offset)
        if values.size < count:
            raise truncated(self._path)
        return values.reshape(lengths)[tuple(taken[len(outer) :])]


def mrc_layout(path: Path, image: int = 0) -> StackLayout:
    """Return how many sections a map or stack has."""
    chosen_image(path, 1, image)
    with _opened(path) as file:
        sections = _Sections(path, file)
        return layout_of(sections.axes, sections.shape, _known(file))


def _known(file: Any) -> StackLayout:
    step = float(file.voxel_size.z) / _ANGSTROMS
    return StackLayout(z_step=step if step > 0 else None, unit="nm")


def read_mrc(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read a map or a stack, or one section of it."""
    chosen_image(path, 1, image)
    with _opened(path) as file:
        sides = (float(file.voxel_size.x) / _ANGSTROMS, float(file.voxel_size.y) / _ANGSTROMS)
        header = file.header
        names = [name for name in header.dtype.names or () if name not in ("label", "extra1")]
        facts = tuple(leaf(name, str(np.asarray(header[name]))) for name in names)
        labels = tuple(leaf("label", label) for label in file.get_labels())
        sections = _Sections(path, file)
        return sample_of_array(
            path,
            sections,
            sections.axes,
            frame,
            ArrayFacts(
                calibration=Calibration.of_sides(*sides, "nm"),
                layout=_known(file),
                metadata=(MetadataNode("MRC header", "", (*facts, *labels)),),
            ),
        )


READERS.add(
    "mrc",
    Reader(
        "mrc",
        "MRC",
        (".mrc", ".mrcs", ".map", ".rec", ".st"),
        lambda head: head[_AT] == b"MAP",
        read_mrc,
        layout=mrc_layout,
        read_plane=read_mrc,
    ),
    order=90,
)
