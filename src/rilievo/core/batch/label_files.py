"""The regions of samples as label images, one file a class and sample."""

from __future__ import annotations

from pathlib import Path

from rilievo.core.atomic_write import cannot_write
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.label_image import write_label_image


def write_labels(analysis: Analysis, folder: Path) -> list[Path]:
    """Write FOLDER/CLASS/SAMPLE.tif for each class of an analysis; return the files.

    A class of another method takes them up as `CLASS/{sample}.tif`. Raises StepError, and
    FileUnreadable for a folder that cannot be written.
    """
    written = []
    for index, name in enumerate(analysis.method.class_names):
        path = folder / _file_name(name) / f"{_file_name(analysis.sample.name)}.tif"
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as exc:
            raise cannot_write(path.parent, exc) from exc
        write_label_image(analysis.regions(index), path)
        written.append(path)
    return written


def _file_name(name: str) -> str:
    """A name that leads nowhere else, whoever wrote the method."""
    plain = name.replace("/", "-").replace("\0", "-")
    return plain if plain.strip(".") else "-"
