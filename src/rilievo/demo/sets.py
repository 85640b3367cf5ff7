"""The made-up sets by name, and writing one as a ready study."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from rilievo.core.method import Method, cannot_write
from rilievo.core.study import SUFFIX, StudyState, save_study
from rilievo.demo.lipid import lipid_method, write_lipid


@dataclass(frozen=True)
class DemoSet:
    """One set: how its images are written, and the method that measures them."""

    key: str
    title: str
    write: Callable[[Path, Callable[[float], None]], list[Path]]
    method: Callable[[], Method]


DEMO_SETS = {
    "lipid": DemoSet("lipid", "Lipid in starved algae", write_lipid, lipid_method),
}


def write_demo_study(
    key: str, folder: Path, report: Callable[[float], None] = lambda _: None
) -> tuple[Path, list[Path]]:
    """Write a set and its study below `folder`; return the study file and the images.

    Raises FileUnreadable when the folder cannot be written to.
    """
    demo = DEMO_SETS[key]
    try:
        images = demo.write(folder, report)
    except OSError as exc:
        raise cannot_write(folder, exc) from exc
    state = replace(
        StudyState(name=demo.title).with_files(images),
        method=demo.method(),
    )
    path = folder / f"{key}{SUFFIX}"
    save_study(state, path)
    return path, images
