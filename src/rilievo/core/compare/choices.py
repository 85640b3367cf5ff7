"""What can be compared with what was measured, and a question that fits it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from rilievo.core.compare.observations import Attributes, attribute_names
from rilievo.core.compare.question import (
    BY_CHANNEL,
    BY_CLASS,
    BY_GROUP,
    CURVES,
    OF_REGION,
    OF_SAMPLE,
    REGION,
    SAMPLE,
    CurvesFor,
    Design,
    Question,
    name_of,
)
from rilievo.core.method.method import Method
from rilievo.core.table.table import RegionTable
from rilievo.core.table.track_columns import TRACK

# Names of regions that are offered as a reference; more are no list to choose from.
_MOST_NAMES = 60


@dataclass(frozen=True)
class Choices:
    """Keys and words of all that can be chosen.

    quantities, by : key → words. pairs : what values can belong together by. references : classes
    and names of regions. curves : what can have a curve of its own in a series. units : what one
    value can be. terms : the group and attributes of samples, which a design can have.
    """

    quantities: Mapping[str, str] = field(default_factory=dict)
    channels: tuple[str, ...] = ()
    classes: tuple[str, ...] = ()
    by: Mapping[str, str] = field(default_factory=dict)
    pairs: Mapping[str, str] = field(default_factory=dict)
    references: tuple[str, ...] = ()
    curves: Mapping[str, str] = field(default_factory=dict)
    units: Mapping[str, str] = field(default_factory=dict)
    terms: Mapping[str, str] = field(default_factory=dict)


def choices_of(tables: Sequence[RegionTable], attributes: Attributes) -> Choices:
    """Return what the measurements can be compared by."""
    keys = dict.fromkeys(key for table in tables for key in table.quantities)
    having = {key: next(t for t in tables if key in t.quantities) for key in keys}
    channels = tuple(dict.fromkeys(name for table in tables for name in table.channels))
    classes = tuple(dict.fromkeys(name for table in tables for name in table.classes))
    names = attribute_names(tables, attributes)
    by = {BY_GROUP: "group"}
    if len(classes) > 1:
        by[BY_CLASS] = "class"
    if len(channels) > 1:
        by[BY_CHANNEL] = "channel"
    pairs = {"": "nothing", "sample": "sample"}
    if any("replicate" in attributes.get(table.sample, {}) for table in tables):
        pairs["replicate"] = "replicate number"
    pairs |= {
        key: words
        for key, words in names.items()
        if key.startswith(OF_SAMPLE) and key != f"{OF_SAMPLE}replicate"
    }
    of_samples = {key: name_of(key) for key in names if key.startswith(OF_SAMPLE)}
    named = dict.fromkeys(f.name for table in tables for f in table.known.values() if f.name)
    return Choices(
        quantities={key: table.quantity(key).title for key, table in having.items()},
        channels=channels,
        classes=classes,
        by={**by, **names},
        pairs=pairs,
        curves=_curves(tables, attributes),
        units={SAMPLE: "sample", REGION: "region", **of_samples},
        terms={BY_GROUP: "group", **of_samples},
        references=tuple(dict.fromkeys([*classes, *list(named)[:_MOST_NAMES]])),
    )


def _curves(tables: Sequence[RegionTable], attributes: Attributes) -> dict[str, str]:
    kinds: list[CurvesFor] = ["group"]
    if any("stack" in attributes.get(table.sample, {}) for table in tables):
        kinds.append("stack")
    if any(TRACK in facts.attributes for table in tables for facts in table.known.values()):
        kinds.append("region")
    return {key: CURVES[key] for key in kinds}


def coerce_question(question: Question, choices: Choices, channel: str = "") -> Question:
    """Return the question with what is not there replaced by what is.

    channel : preferred where the question has none. A question that fits stays as it is.
    """
    changed: dict[str, Any] = {}
    measured = tuple(key for key in question.quantities if key in choices.quantities)
    if measured != question.quantities:
        usual = next((k for k in ("mean", "flux") if k in choices.quantities), None)
        first = usual or next(iter(choices.quantities), None)
        changed["quantities"] = measured or ((first,) if first else question.quantities)
    if question.channel not in choices.channels:
        first_channel = next(iter(choices.channels), "")
        changed["channel"] = channel if channel in choices.channels else first_channel
    if question.region_class not in ("", *choices.classes):
        changed["region_class"] = ""
    if question.by not in choices.by:
        changed["by"] = BY_GROUP
    by = changed.get("by", question.by)
    if question.pairs not in choices.pairs or (question.pairs == "sample" and not parts(by)):
        changed["pairs"] = ""
    if question.unit not in choices.units:
        changed["unit"] = SAMPLE
    design = _coerce_design(question.design, choices, by)
    if design != question.design:
        changed["design"] = design
    if question.curves not in choices.curves:
        changed["curves"] = "group"
    if question.other_quantity not in choices.quantities and choices.quantities:
        changed["other_quantity"] = next(iter(choices.quantities))
    return question.model_copy(update=changed) if changed else question


def fitting_question(question: Question, choices: Choices, method: Method) -> Question:
    """Return what is compared: the question, with what it leaves open or is not there replaced.

    A channel that is left open is the first that the class is not found on: most often the one of
    interest. This is the one rule, for window, command line, report and notebook.
    """
    return coerce_question(question, choices, open_channel(question, choices.channels, method))


def open_channel(question: Question, channels: Sequence[str], method: Method) -> str:
    """Return the channel that a question means which names none."""
    is_class = question.region_class in method.class_names
    outline = method.outlines[method.class_index(question.region_class) if is_class else 0]
    found_on = outline.channel or next(iter(channels), "")
    return next((name for name in channels if name != found_on), found_on)


def _coerce_design(design: Design, choices: Choices, by: str) -> Design:
    """The design without what is not there, and without what is compared by."""
    available = {key for key in choices.terms if key != by}
    return design.model_copy(
        update={
            "factor": design.factor if design.factor in available else "",
            "blocks": tuple(key for key in design.blocks if key in available),
            "levels": tuple(key for key in design.levels if key in choices.terms),
        }
    )


def parts(by: str) -> bool:
    """Whether one sample has values in several categories, which can be paired."""
    return by in (BY_CLASS, BY_CHANNEL) or by.startswith(OF_REGION)
