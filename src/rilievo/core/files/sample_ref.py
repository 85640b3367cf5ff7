"""Samples by what they are made of: from files, folders, and URLs of both."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from rilievo.core.files import images_below, sample_name
from rilievo.core.files.channel_preparation import NO_OVERRIDES, MetadataOverrides
from rilievo.core.files.grouping import file_labels, groups_for
from rilievo.core.files.reader_helpers import unique_names
from rilievo.core.files.remote import images_at, is_url, local_copy, path_of, public_url
from rilievo.core.files.sample_parts import Part
from rilievo.core.image.image import Sample

# Between the files of a channel that is made of several.
FILES_JOINED = " + "


@dataclass(frozen=True)
class SampleRef:
    """One sample of a study or a batch: where its pixels are, and what is known of it.

    path : its first file. parts : what it is made of, where that is more or less than its file.
    overrides : what stands in place of what the file says. attributes : dose, hours, filter …;
    those of the file come with its pixels. file : its path below the folder that was given. url :
    where it is copied from to be measured; its path is then a name only. problem : why it cannot
    be taken. in_memory : the pixels, where they are of no file.
    """

    path: Path
    name: str
    group: str = ""
    parts: tuple[Part, ...] = ()
    overrides: MetadataOverrides = NO_OVERRIDES
    attributes: Mapping[str, str] = field(default_factory=dict)
    file: str = ""
    url: str = ""
    replicate: str = ""
    problem: str = ""
    in_memory: Sample | None = field(default=None, compare=False, repr=False)

    @property
    def place(self) -> str:
        """Where its file is, in words: a path, or a URL without what is secret."""
        return public_url(self.url) if self.url else str(self.path)

    @property
    def label(self) -> str:
        """The path below the folder that was given, or the file's name."""
        return self.file or self.path.name

    def label_of(self, files: str) -> str:
        """Return the paths below the folder that was given of files named “a.tif + b.tif”."""
        paths = {part.path.name: part.path for part in self.sources}
        root = self.path.parents[min(self.label.count("/"), len(self.path.parents) - 1)]
        paths_named = (paths.get(name, Path(name)) for name in files.split(FILES_JOINED))
        return FILES_JOINED.join(
            path.relative_to(root).as_posix() if path.is_relative_to(root) else path.name
            for path in paths_named
        )

    @property
    def sources(self) -> tuple[Part, ...]:
        """What the sample is made of."""
        return self.parts or (Part(self.path),)

    @property
    def all_attributes(self) -> dict[str, str]:
        """What is known of it beside its group, the replicate number among it."""
        numbered = {"replicate": self.replicate} if self.replicate else {}
        return {**numbered, **self.attributes}


def samples_for(paths: Sequence[Path], folders: Sequence[Path] = ()) -> list[SampleRef]:
    """Return a sample a file: unique names, guessed groups, paths below the folders given."""
    names = unique_names(sample_name(path) for path in paths)
    guessed = groups_for(paths)
    labels = file_labels(paths, folders)
    return [
        SampleRef(path, name, group, file=label, replicate=number)
        for path, name, (group, number), label in zip(paths, names, guessed, labels, strict=True)
    ]


def samples_at(urls: Sequence[str], folders: Sequence[str] = ()) -> list[SampleRef]:
    """As `samples_for`, of images at URLs and below URLs."""
    refs = samples_for([path_of(url) for url in urls])
    roots = [path_of(folder) for folder in folders]
    return [
        replace(ref, url=url, file=_below(ref, roots) or ref.file)
        for ref, url in zip(refs, urls, strict=True)
    ]


def _below(ref: SampleRef, roots: Sequence[Path]) -> str:
    """The path of a sample below the first root that holds it; "" where none does."""
    for root in roots:
        if ref.path != root and ref.path.is_relative_to(root):
            return ref.path.relative_to(root).as_posix()
    return ""


def samples_below(given: Sequence[str | Path]) -> list[SampleRef]:
    """Return the images as samples with unique names; of a folder those in it and below.

    Raises RemoteError for a URL that cannot be listed.
    """
    urls = [text for text in given if isinstance(text, str) and is_url(text)]
    paths = [Path(text) for text in given if text not in urls]
    refs = samples_for(images_below(paths), paths) if paths else []
    if not urls:
        return refs
    listed = dict.fromkeys(image for url in urls for image in images_at(url))
    return uniquely_named([*refs, *samples_at(list(listed), urls)])


def uniquely_named(refs: Sequence[SampleRef]) -> list[SampleRef]:
    """Return the samples with names of which no two are alike."""
    names = unique_names(ref.name for ref in refs)
    return [replace(ref, name=name) for ref, name in zip(refs, names, strict=True)]


def labelled(refs: Sequence[SampleRef]) -> list[SampleRef]:
    """Return the samples with their paths below what all their files have in common."""
    paths = list(dict.fromkeys(part.path for ref in refs for part in ref.sources))
    labels = dict(zip(paths, file_labels(paths), strict=True))
    return [replace(ref, file=labels[ref.sources[0].path]) for ref in refs]


@contextlib.contextmanager
def on_this_machine(ref: SampleRef) -> Iterator[SampleRef]:
    """The sample with files that can be read here: itself, or a copy of what is at its URL.

    Raises a FileError, RemoteError.
    """
    if not ref.url:
        yield ref
        return
    with local_copy(ref.url, ref.sources[0].image) as path:
        yield replace(ref, path=path, parts=tuple(replace(p, path=path) for p in ref.parts))
