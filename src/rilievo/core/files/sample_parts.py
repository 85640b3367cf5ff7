"""A sample made of one file, of several, or of chosen planes of a file with many."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rilievo.core.errors import FileError
from rilievo.core.files.reader import (
    file_checksum,
    file_identity,
    known_file_checksum,
    read_sample,
)
from rilievo.core.files.reader_helpers import unique_names
from rilievo.core.files.stack_channels import Origin, StackOfFiles
from rilievo.core.image.image import Calibration, Defect, Plane, Sample
from rilievo.core.image.stack import Frame


@dataclass(frozen=True)
class Part:
    """What is taken of a file.

    image : which of its images. planes : names of the channels taken; None means all.
    channel : what its channel is called in the sample; "" keeps the file's names. frame : which
    plane in depth and time, or what is made of several; None means that each is a channel.
    """

    path: Path
    image: int = 0
    planes: tuple[str, ...] | None = None
    channel: str = ""
    frame: Frame | None = None


class PartsDiffer(FileError):
    """The parts of a sample do not fit together."""


def read_parts(
    parts: Sequence[Part],
    name: str,
    read: Callable[[Path, int, Frame | None], Sample] = read_sample,
) -> Sample:
    """Read a sample from its parts; the first gives calibration and attributes where others lack.

    Raises a FileError that names the file: a part cannot be read, lacks a plane, or differs in
    size from the first.
    """
    samples = [read(part.path, part.image, part.frame) for part in parts]
    named: list[tuple[str, Plane]] = []
    origins: list[Origin | None] = []
    files: list[Path] = []
    for part, sample in zip(parts, samples, strict=True):
        taken = _taken(part, sample)
        named += taken
        origins += _origins(part, sample)
        files += [part.path] * len(taken)
    first = named[0][1]
    for part, sample in zip(parts, samples, strict=True):
        if sample.first.shape != first.shape:
            height, width = sample.first.shape
            raise PartsDiffer(
                part.path,
                f"is {width} × {height} pixels, unlike the {first.shape[1]} × {first.shape[0]} of "
                f"{parts[0].path.name}",
                "make it a sample of its own",
            )
    calibration = next((p.calibration for _, p in named if p.calibration.pixel_size), Calibration())
    names = unique_names(channel for channel, _ in named)
    channels = {
        channel: plane if plane.calibration.pixel_size else replace(plane, calibration=calibration)
        for channel, (_, plane) in zip(names, named, strict=True)
    }
    return replace(
        samples[0],
        name=name,
        channels=channels,
        defects=_defects(parts, samples),
        notes=tuple(dict.fromkeys(note for sample in samples for note in sample.notes)),
        metadata=tuple(node for sample in samples for node in sample.metadata),
        attributes={k: v for sample in samples[::-1] for k, v in sample.attributes.items()},
        checksum=_joined(
            {
                p.path: part_sample.checksum for p, part_sample in zip(parts, samples, strict=True)
            }.values()
        ),
        identity=" + ".join(
            f"{sample.identity} {part.planes or ''} {part.channel}"
            for part, sample in zip(parts, samples, strict=True)
        ),
        stack=_stack(dict(zip(names, origins, strict=True))),
        files={name: (file,) for name, file in zip(names, files, strict=True)}
        if len(set(files)) > 1
        else {},
    )


def files_of_channels(parts: Sequence[Part], channels: Iterable[str]) -> dict[str, str]:
    """Return the name of the file of each channel, as far as the parts tell it without being read.

    Nothing where all are of one file.
    """
    if len(_files(parts)) < 2:
        return {}
    file_of = {}
    for channel in channels:
        for part in parts:
            named = part.channel and (
                channel == part.channel or channel.startswith(f"{part.channel} ")
            )
            if named or (not part.channel and channel in (part.planes or ())):
                file_of[channel] = part.path.name
                break
    return file_of


def _origins(part: Part, sample: Sample) -> list[Origin | None]:
    """Where what is taken of a part comes from; None for what is no single plane of a stack."""
    planes = _taken_planes(part, sample)
    frame = part.frame
    if frame is None or frame.projection is not None:
        return [None for _ in planes]
    return [Origin(part.path, part.image, frame, plane) for plane in planes]


def _stack(origins: Mapping[str, Origin | None]) -> StackOfFiles | None:
    stacked = {channel: origin for channel, origin in origins.items() if origin is not None}
    return StackOfFiles(stacked) if stacked else None


def _defects(parts: Sequence[Part], samples: Sequence[Sample]) -> tuple[Defect, ...]:
    """The defects of what is taken of the files, under the names of the sample's channels."""
    defects: list[Defect] = []
    for part, sample in zip(parts, samples, strict=True):
        taken = dict(zip(_taken_planes(part, sample), _channel_names(part, sample), strict=True))
        for defect in sample.defects:
            if not defect.channel or defect.channel not in sample.channels:
                defects.append(defect)
            elif defect.channel in taken:
                defects.append(defect._replace(channel=taken[defect.channel]))
    return tuple(dict.fromkeys(defects))


def _joined(of_files: Iterable[str]) -> str:
    """One for each file, also where two files have the same content."""
    checksums = list(of_files)
    return " ".join(checksums) if all(checksums) else checksums[0]


def parts_checksum(parts: Sequence[Part]) -> str:
    """Return the checksums of a sample's files, as `read_parts` gives them, parted by spaces.

    Raises FileUnreadable.
    """
    return _joined([file_checksum(path) for path in _files(parts)])


def known_parts_checksum(parts: Sequence[Part]) -> str:
    """Return what `parts_checksum` gives where this process has read the files; "" elsewhere."""
    try:
        checksums = [known_file_checksum(path) for path in _files(parts)]
    except FileError:
        return ""
    return _joined(checksums) if all(checksums) else ""


def parts_identity(parts: Sequence[Part]) -> str:
    """Name the present state of a sample's files without reading them. Raises a FileError."""
    return " + ".join(file_identity(path) for path in _files(parts))


def _files(parts: Sequence[Part]) -> list[Path]:
    return list(dict.fromkeys(part.path for part in parts))


def named_checksums(parts: Sequence[Part], checksum: str) -> list[tuple[str, str]]:
    """Return each file's name with its own SHA-256, "" where it is not known."""
    names = [path.name for path in _files(parts)]
    parts_known = checksum.split()
    parts_known = parts_known if len(parts_known) == len(names) else [""] * len(names)
    return list(zip(names, parts_known, strict=True))


def same_files(earlier: str, checksum: str) -> bool:
    """Whether both are checksums of the same files; a study may have one of all files together."""
    together = hashlib.sha256(checksum.encode()).hexdigest()
    return earlier in ("", checksum) or (" " in checksum and earlier == together)


def _taken(part: Part, sample: Sample) -> list[tuple[str, Plane]]:
    planes = _taken_planes(part, sample)
    missing = [plane for plane in planes if plane not in sample.channels]
    if missing:
        raise PartsDiffer(
            part.path,
            f"has no plane “{missing[0]}”, only {', '.join(sample.channel_names)}",
            "choose its planes again",
        )
    names = _channel_names(part, sample)
    return [(name, sample.channels[plane]) for name, plane in zip(names, planes, strict=True)]


def _taken_planes(part: Part, sample: Sample) -> tuple[str, ...]:
    return sample.channel_names if part.planes is None else part.planes


def _channel_names(part: Part, sample: Sample) -> list[str]:
    """What the planes taken of a file are called in the sample."""
    planes = _taken_planes(part, sample)
    if not part.channel:
        return list(planes)
    return [part.channel] if len(planes) == 1 else [f"{part.channel} {plane}" for plane in planes]


def chosen_planes(text: str, names: Sequence[str]) -> tuple[str, ...]:
    """Return the planes that a typed choice names: “1-3, 5”, or names; "" means all.

    Raises ValueError with what is wrong.
    """
    chosen: list[str] = []
    for word in (part.strip() for part in text.split(",")):
        if not word:
            continue
        match = re.fullmatch(r"(\d+)\s*(?:[-–…]\s*(\d+))?", word)
        if word in names:
            chosen.append(word)
        elif match:
            first, last = int(match[1]), int(match[2] or match[1])
            if not 1 <= first <= last <= len(names):
                raise ValueError(f"There are planes 1 to {len(names)}. Got {word}.")
            chosen += names[first - 1 : last]
        else:
            raise ValueError(f"“{word}” is neither a number nor a plane's name.")
    return tuple(dict.fromkeys(chosen)) or tuple(names)
