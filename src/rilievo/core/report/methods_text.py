"""The methods paragraph of a paper, made from the method: what was done, in plain sentences."""

from __future__ import annotations

import re

from rilievo._version import __version__
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.describe import NOTHING, outline_lines, settings_of, shown_value
from rilievo.core.method.method import Method
from rilievo.core.parameters import Parameters
from rilievo.core.signal.steps import STEPS
from rilievo.core.wording.lists import enumerated


def in_words(parameters: Parameters, title: str, *, applied: bool = True) -> str:
    """Return what parameters do, by their own template, or else by title and settings.

    applied : whether the words are a sentence; else the name of a way.
    """
    template = type(parameters).in_words
    if template:
        shown = {name: _shown(parameters, name) for name in type(parameters).model_fields}
        text = template.format_map(shown)
        for open_range, words in _OPEN_RANGES:
            text = re.sub(open_range, words, text)
        # Settings that are left open say nothing: drop their brackets.
        return re.sub(rf" \([^()]*{NOTHING}\)", "", text)
    settings = ", ".join(f"{name.lower()} {value}" for name, value in settings_of(parameters))
    return (f"{title} was applied" if applied else f"“{title}”") + (
        f" ({settings})" if settings else ""
    )


# A range with an end that is left open.
_OPEN_RANGES = (
    (f"from {NOTHING} to {NOTHING}", "of any size"),
    (f"from {NOTHING} to ", "up to "),
    (rf"from (\S+) to {NOTHING}", r"from \1 up"),
)


def _shown(parameters: Parameters, name: str) -> str:
    """A setting in words; a quantity by its title and unit."""
    value = getattr(parameters, name)
    extra = type(parameters).model_fields[name].json_schema_extra
    if value is None and isinstance(extra, dict) and extra.get("empty") == "automatic":
        return "an automatic number of"
    if name == "quantity" and value in QUANTITIES:
        quantity = QUANTITIES[value]
        unit = f" (in {quantity.unit})" if quantity.unit not in ("", "signal") else ""
        return f"{quantity.title.lower()}{unit}"
    return shown_value(value)


def methods_text(method: Method) -> list[str]:
    """Return the methods as paragraphs: reading and corrections, regions, measurements."""
    return [
        text for text in (_corrections(method), _regions(method), _measurements(method)) if text
    ]


def _corrections(method: Method) -> str:
    sentences = []
    if method.reading.undo_srgb:
        sentences.append(
            "The sRGB curve of photographs was undone, so that values are proportional to light."
        )
    sentences += [
        f"The channel “{derived.name}” was computed as {derived.formula}."
        for derived in method.reading.derived
    ]
    for use in method.steps:
        if not use.on:
            continue
        only = f" (channels: {', '.join(use.channels)})" if use.channels else ""
        mark = (
            ""
            if STEPS[use.step].is_linear(use.parameters)
            else ", which is not linear in intensity"
        )
        sentences.append(f"{in_words(use.parameters, use.title)}{only}{mark}.")
    if not sentences:
        return "Values were measured as they are in the files, without corrections."
    return " ".join(sentences)


def _regions(method: Method) -> str:
    return " ".join(_of_class(outline) for outline in method.outlines)


def _of_class(outline: ClassDefinition) -> str:
    name = outline.region_class
    if outline.source == "drawn":
        sentence = f"Regions “{name}” were drawn by hand"
    elif outline.source == "threshold":
        use = outline.threshold
        on = f" on the channel “{outline.channel}”" if outline.channel else ""
        way = in_words(use.parameters, use.entry.title, applied=False)
        sentence = f"Regions “{name}” were found{on} by {way}"
        if use.entry.automatic and use.pooled:
            sentence += ", one level for all samples"
        if use.entry.automatic and (use.factor, use.offset) != (1.0, 0.0):
            sentence += f", times {use.factor:.6g} plus {use.offset:.6g}"
        if use.entry.has_side:
            sentence += f"; {'brighter' if outline.keep == 'bright' else 'darker'} pixels were kept"
        sentence += f", connected by {outline.connectivity} neighbours"
    else:
        lines = ", ".join(
            f"{title.lower()} {text}" for title, text in outline_lines(outline)
            if title not in ("Class", "Connectivity") and not title.startswith("Clean")
        )  # fmt: skip
        sentence = f"Regions “{name}” were {_SOURCES.get(outline.source, outline.source)} ({lines})"
    cleaned = [in_words(use.parameters, use.title) for use in outline.clean if use.on]
    if cleaned and outline.source not in ("drawn", "stars"):
        sentence += "; " + "; ".join(cleaned)
    return sentence + "."


_SOURCES = {
    "derived": "made from other regions",
    "label_image": "taken from label images",
    "stars": "found as stars and measured in circular apertures with exact overlap",
}


def _measurements(method: Method) -> str:
    measure = method.measure
    # Area is measured in pixels and in calibrated units, and is one quantity in words.
    names = list(dict.fromkeys(QUANTITIES[key].title.lower() for key in measure.quantities))
    shown = names if len(names) <= 8 else [*names[:8], f"{len(names) - 8} further quantities"]
    verb = "was" if len(shown) == 1 else "were"
    text = f"In each region {enumerated(shown)} {verb} measured with Rilievo {__version__}."
    excluded = [
        what
        for what, is_so in (
            ("Saturated", measure.exclude_saturated),
            ("Empty", measure.exclude_empty),
        )
        if is_so
    ]
    if excluded:
        text += f" {' and '.join(excluded).capitalize()} pixels were excluded."
    text += " Undefined pixels were excluded."
    edited = [name for name, exception in method.exceptions.items() if exception.edits]
    if edited:
        count = sum(len(method.exceptions[name].edits) for name in edited)
        plural = "s" if len(edited) > 1 else ""
        regions = "region was" if count == 1 else "regions were"
        text += f" {count} {regions} changed by hand in {len(edited)} sample{plural}."
    differing = [name for name, exception in method.exceptions.items() if exception.parameters]
    if differing:
        text += f" Settings differ for {', '.join(differing)}."
    return text
