"""The regions of samples as label images, one file a class and sample."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from rilievo.core.atomic_write import cannot_write
from rilievo.core.batch.item import BatchItem, on_this_machine, read_item
from rilievo.core.errors import RilievoError
from rilievo.core.method.method import Method
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.regions.label_image import write_label_image


def write_label_files(
    items: Iterable[BatchItem], method: Method, folder: Path
) -> tuple[list[Path], dict[str, str]]:
    """Write FOLDER/CLASS/SAMPLE.tif; return the files, and sample → why it has none.

    A class of another method takes them up as `CLASS/{sample}.tif`. Raises FileUnreadable for a
    folder that cannot be written.
    """
    written, failures = [], {}
    evaluator = Evaluator()
    for item in items:
        try:
            with on_this_machine(item) as here:
                sample = evaluator.prepared(read_item(here), method, item.declared)
            regions = [
                evaluator.regions(sample, method, index) for index in range(len(method.outlines))
            ]
        except RilievoError as exc:
            failures[item.name] = str(exc)
            continue
        for found, name in zip(regions, method.class_names, strict=True):
            path = folder / _file_name(name) / f"{_file_name(item.name)}.tif"
            _make(path.parent)
            write_label_image(found, path)
            written.append(path)
    return written, failures


def _file_name(name: str) -> str:
    return name.replace("/", "-")


def _make(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise cannot_write(folder, exc) from exc
