"""The synthetic sets by name, and writing one as a ready study."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from rilievo.core.atomic_write import cannot_write
from rilievo.core.compare.question import Design, Question
from rilievo.core.files.import_naming import propose
from rilievo.core.files.plane_choice import PlaneChoice, with_frames
from rilievo.core.files.reader import read_layout
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.method.method import Method
from rilievo.core.study.report_options import ReportOptions
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import SUFFIX, save_study
from rilievo.demo import drops, lipid, nights, swatches
from rilievo.demo.lipid import lipid_method, write_lipid

if TYPE_CHECKING:
    import pandas


@dataclass(frozen=True)
class DemoSet:
    """One set: how its images are written, and the method that measures them.

    about : a line for the window. method : folder of the set → its method. compared : folder of
    the set, regions and specimens measured → lines that say how they deviate from what was put in.
    question : what is compared; further : what the report also compares. planes : how planes in
    depth and time become samples. attributes : name of a sample → what is known of it.
    """

    key: str
    title: str
    about: str
    write: Callable[[Path, Callable[[float], None]], list[Path]]
    method: Callable[[Path], Method]
    compared: Callable[[Path, pandas.DataFrame, pandas.DataFrame], list[str]]
    question: Question
    planes: str = "channels"
    attributes: Callable[[str], dict[str, str]] | None = None
    further: tuple[Question, ...] = ()


DEMO_SETS = {
    "lipid": DemoSet(
        "lipid",
        "Lipid in starved algae",
        "Twelve fields of algae in two colours of light",
        write_lipid,
        lambda _: lipid_method(),
        lambda folder, regions, _: lipid.recovery_lines(folder / "truth", regions),
        Question(channel="lipid dye"),
        attributes=lipid.lipid_attributes,
        further=(
            Question(
                channel="lipid dye",
                shown_as="cells",
                design=Design(factor="sample:harvest", modelled=True),
            ),
        ),
    ),
    "nights": DemoSet(
        "nights",
        "Nights of a variable star",
        "Eight nights of one star field, one of them out of focus",
        nights.write_nights,
        nights.nights_method,
        lambda folder, regions, _: nights.recovery_lines(folder / "truth", regions),
        nights.nights_question(),
    ),
    "swatches": DemoSet(
        "swatches",
        "Swatches of madder",
        "Dyed wool, faded for 0 to 64 hours, in three photographs",
        swatches.write_swatches,
        lambda _: swatches.swatches_method(),
        lambda folder, regions, specimens: swatches.recovery_lines(
            folder / "truth", regions, specimens
        ),
        swatches.swatches_question(),
    ),
    "drops": DemoSet(
        "drops",
        "Drying drops of dye",
        "Three time series of drops that fade, drift and touch",
        drops.write_drops,
        lambda _: drops.drops_method(),
        lambda folder, regions, _: drops.recovery_lines(folder / "truth", regions),
        drops.drops_question(),
        "each",
    ),
}


def _proposals(images: list[Path], planes: str) -> list[SampleRef]:
    """The samples of a set; a stack has a group of its own."""
    choice = PlaneChoice.parse(planes)
    found = propose([image.absolute() for image in images])
    if choice.kind == "channels":
        return found
    stacks = [replace(one, group=one.name) for one in found]
    return [
        each for one in stacks for each in with_frames(one, read_layout(one.parts[0].path), choice)
    ]


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
    proposals = _proposals(images, demo.planes)
    if demo.attributes is not None:
        proposals = [replace(one, attributes=demo.attributes(one.name)) for one in proposals]
    state = replace(
        StudyState(name=demo.title).with_samples(proposals),
        method=demo.method(folder.absolute()),
        question=demo.question,
        report=ReportOptions(questions=(demo.question, *demo.further)),
    )
    path = folder / f"{key}{SUFFIX}"
    save_study(state, path)
    return path, images
