"""DICOM images with their rescaling, pixel spacing and frames, through pydicom.

What names a patient is never shown, nor does it get into tables.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.errors import NotAnImage, UnsupportedKind
from rilievo.core.files.array_sample import ArrayFacts, sample_of_array
from rilievo.core.files.reader import READERS, Reader
from rilievo.core.files.reader_helpers import (
    check_size,
    chosen_image,
    first_line,
    optional,
    truncated,
)
from rilievo.core.files.stack_axes import layout_of
from rilievo.core.image.image import Calibration, Sample
from rilievo.core.image.metadata import MetadataNode, leaf
from rilievo.core.image.stack import Frame, StackLayout

_AT, _MARK = slice(128, 132), b"DICM"
_PATIENT = 0x0010
# Unpacked before anything of it is known, whatever it grows to.
_DEFLATED = "1.2.840.10008.1.2.1.99"
_MOST_TEXT = 400


def _dataset(path: Path, *, pixels: bool) -> Any:
    pydicom = optional("pydicom", path)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            meta = pydicom.filereader.read_file_meta_info(path)
            if str(meta.get("TransferSyntaxUID") or "") == _DEFLATED:
                raise UnsupportedKind(path, "is deflated as a whole", "export it without that")
            dataset = pydicom.dcmread(path, stop_before_pixels=not pixels)
            rows, columns = int(dataset.Rows), int(dataset.Columns)
        except AttributeError as exc:
            raise UnsupportedKind(path, "is DICOM without an image", "choose another") from exc
        except (pydicom.errors.InvalidDicomError, EOFError, ValueError, TypeError) as exc:
            raise NotAnImage(
                path, f"is a damaged DICOM file ({first_line(exc)})", "copy it again"
            ) from exc
    if rows < 1 or columns < 1:
        raise NotAnImage(path, "states an image of zero pixels", "copy it again from its source")
    return dataset


def _frames(data: Any) -> int:
    return int(data.get("NumberOfFrames") or 1)


def _axes(data: Any) -> str:
    """Letters of the axes of the pixel array; frames are time or depth where the file says so."""
    colour = "s" if int(data.get("SamplesPerPixel") or 1) > 1 else ""
    if _frames(data) < 2:
        return "yx" + colour
    if data.get("FrameTime") is not None or data.get("FrameTimeVector") is not None:
        return "tyx" + colour
    return ("z" if data.get("SpacingBetweenSlices") is not None else "?") + "yx" + colour


def _known(data: Any) -> StackLayout:
    step = float(data.get("SpacingBetweenSlices") or 0)
    between = float(data.get("FrameTime") or 0) / 1000
    seconds = tuple(k * between for k in range(_frames(data))) if between > 0 else ()
    return StackLayout(z_step=step if step > 0 else None, unit="mm", seconds=seconds)


def dicom_layout(path: Path, image: int = 0) -> StackLayout:
    """Return how many frames a file has, and what they are."""
    chosen_image(path, 1, image)
    data = _dataset(path, pixels=False)
    axes, frames = _axes(data), _frames(data)
    shape = [frames, 1, 1, 1][: len(axes)] if frames > 1 else [1] * len(axes)
    return layout_of(axes, shape, _known(data))


def read_dicom(path: Path, image: int = 0, frame: Frame | None = None) -> Sample:
    """Read the image of a file, or one frame of it, after rescale slope and intercept."""
    pydicom = optional("pydicom", path)
    chosen_image(path, 1, image)
    data = _dataset(path, pixels=True)
    notes = []
    samples = int(data.get("SamplesPerPixel") or 1)
    shape = (_frames(data), int(data.Rows), int(data.Columns), samples)
    check_size(path, shape, max(int(data.get("BitsAllocated") or 8) // 8, 1))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            values = data.pixel_array
        except (RuntimeError, NotImplementedError) as exc:
            raise UnsupportedKind(
                path, f"is packed in a way that cannot be read ({first_line(exc)})",
                "export it without compression",
            ) from exc  # fmt: skip
        except (ValueError, AttributeError, EOFError, pydicom.errors.BytesLengthException) as exc:
            raise truncated(path) from exc
    slope = float(data.get("RescaleSlope") or 1)
    intercept = float(data.get("RescaleIntercept") or 0)
    bits = int(data.get("BitsStored") or 0) or None
    if (slope, intercept) != (1.0, 0.0):
        values, bits = values * slope + intercept, None
        unit = str(data.get("RescaleType") or "")
        notes.append(
            f"Values are those stored times {slope:g} plus {intercept:g}, as the file states"
            + (f" ({unit})." if unit else ".")
        )
    if str(data.get("PhotometricInterpretation") or "") == "MONOCHROME1":
        notes.append("The file is meant to be shown with low values bright.")
    spacing = data.get("PixelSpacing") or data.get("ImagerPixelSpacing") or (0.0, 0.0)
    down, across = (float(length) for length in spacing)
    return sample_of_array(
        path,
        np.asarray(values),
        _axes(data),
        frame,
        ArrayFacts(
            calibration=Calibration.of_sides(across, down, "mm"),
            layout=_known(data),
            bits=bits if int(data.get("PixelRepresentation") or 0) == 0 else None,
            metadata=(MetadataNode("DICOM", "", tuple(_facts(data))),),
            notes=notes,
        ),
    )


def _facts(data: Any) -> Iterator[MetadataNode]:
    for element in data:
        if element.tag.group == _PATIENT:
            yield leaf(str(element.name), "not shown")
        elif element.VR not in ("OB", "OW", "OF", "OD", "UN", "SQ"):
            yield leaf(str(element.name), str(element.value)[:_MOST_TEXT])


READERS.add(
    "dicom",
    Reader(
        "dicom",
        "DICOM",
        (".dcm", ".dicom"),
        lambda head: head[_AT] == _MARK,
        read_dicom,
        layout=dicom_layout,
        read_plane=read_dicom,
    ),
    order=120,
)
