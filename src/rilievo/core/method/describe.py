"""A method in words: its steps and settings as short lines, for cards, comparison and history."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from pydantic.fields import FieldInfo

from rilievo.core.image.calibration_frames import Frames, ImageFile
from rilievo.core.method.class_definition import ClassDefinition, CleanUse
from rilievo.core.method.method import Method, StepUse
from rilievo.core.parameters import Parameters, Rectangle
from rilievo.core.regions.derived_classes import OPERATIONS
from rilievo.core.wording.lists import enumerated

_LONGEST = 160
NOTHING = "–"


def shown_value(value: Any, unit: str = "") -> str:  # noqa: PLR0911 (one line a kind of value)
    """Return a parameter's value as people write it, with its unit."""
    if value is None or value in ((), ""):
        return NOTHING
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return f"{value:.10g}{' ' + unit if unit else ''}"
    if isinstance(value, Frames):
        if not value.files:
            return NOTHING
        names = _few([Path(file.file).name for file in value.files])
        return names if len(value.files) == 1 else f"{value.combine} of {names}"
    if isinstance(value, ImageFile):
        return Path(value.file).name
    if isinstance(value, Rectangle):
        return f"{value.width} × {value.height} px at {value.x}, {value.y}"
    if isinstance(value, tuple | list):
        return _few([shown_value(element) for element in value])
    if isinstance(value, Parameters):
        return _few([f"{title} {text}" for title, text in settings_of(value)])
    text = " ".join(str(value).split())
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


def _few(texts: list[str]) -> str:
    return enumerated(texts, 6) if len(texts) > 6 else ", ".join(texts)


def unit_of(field: FieldInfo) -> str:
    """Return the unit of a parameter."""
    extra = field.json_schema_extra
    return str(extra.get("unit", "")) if isinstance(extra, dict) else ""


def setting_text(value: Any, field: FieldInfo) -> str:
    """Return a parameter's value; one that is found by the step itself says so."""
    extra = field.json_schema_extra
    if value is None and isinstance(extra, dict) and extra.get("empty") == "automatic":
        return "automatic"
    return shown_value(value, unit_of(field))


def settings_of(parameters: Parameters) -> list[tuple[str, str]]:
    """Return title and value of each parameter."""
    return [
        (field.title or name, setting_text(getattr(parameters, name), field))
        for name, field in type(parameters).model_fields.items()
    ]


def summary_of(use: StepUse) -> str:
    """Return what of a step is not as it is when it is added, in one line."""
    plain = type(use.parameters)()
    changed = [
        f"{(field.title or name).lower()} {shown_value(value, unit_of(field))}"
        for name, field in type(use.parameters).model_fields.items()
        if (value := getattr(use.parameters, name)) != getattr(plain, name)
    ]
    return ", ".join(changed) or "as it is when added"


def clean_summary(use: CleanUse) -> str:
    """Return a clean-up step in a few words: its title and what is set."""
    return " ".join((use.title.lower(), *_set_of(use)))


def step_settings(use: StepUse) -> list[tuple[str, str]]:
    """Return everything that can be set of a step, with its value."""
    channels = NOTHING if use.channels == () else _few(list(use.channels or ())) or "all"
    first = [("Channels", channels)]
    if not use.on:
        first.insert(0, ("On", "no"))
    return first + settings_of(use.parameters)


def parts_of(method: Method) -> list[tuple[str, list[tuple[str, str]]]]:
    """Return the parts of a method beside its steps, each with its settings."""
    measure = [
        ("Channels", _few(list(method.measure.channels or ())) or "all"),
        ("Quantities", ", ".join(method.measure.quantities)),
        ("Leave out saturated pixels", shown_value(method.measure.exclude_saturated)),
        ("Leave out empty pixels", shown_value(method.measure.exclude_empty)),
    ]
    reading = [
        ("Undo the sRGB curve", shown_value(method.reading.undo_srgb)),
        ("Derived channels", _few([f"{d.name} = {d.formula}" for d in method.reading.derived])
         or NOTHING),
    ]  # fmt: skip
    outlines = [
        ("Outline" if len(method.outlines) == 1 else f"Outline {o.region_class}", outline_lines(o))
        for o in method.outlines
    ]
    return [("Reading", reading), *outlines, ("Measure", measure)]


def outline_lines(outline: ClassDefinition) -> list[tuple[str, str]]:
    """Return how a region class is found, setting by setting."""
    lines = [("Class", outline.region_class)]
    if outline.source == "drawn":
        lines.append(("Drawn", f"{len(outline.drawn)} shapes"))
        return lines
    if outline.source == "derived":
        made = outline.derivation
        lines += [("Made as", OPERATIONS[made.operation]), ("From", _few(list(made.needs)))]
        if made.operation in ("ring", "grown", "shrunk"):
            unit = "px" if made.lengths_in == "px" else "units"
            lines.append(("Width", f"{made.width:.10g} {unit}"))
        if made.operation == "ring":
            lines.append(("Gap", f"{made.gap:.10g} {unit}"))
    elif outline.source == "label_image":
        lines.append(("Label image", shown_value(outline.label_image.get("file"))))
    else:
        lines += _threshold_lines(outline)
    lines.append(("Connectivity", str(outline.connectivity)))
    lines += [
        (f"Clean up {k}", _few([use.title + ("" if use.on else " (off)"), *_set_of(use)]))
        for k, use in enumerate(outline.clean, start=1)
    ]
    return lines


def _set_of(use: CleanUse) -> list[str]:
    return [f"{title.lower()} {text}" for title, text in settings_of(use.parameters)
            if text != NOTHING]  # fmt: skip


def _threshold_lines(outline: ClassDefinition) -> list[tuple[str, str]]:
    use = outline.threshold
    level = [f"{title} {text}" for title, text in settings_of(use.parameters)]
    lines = [
        ("Found on", shown_value(outline.channel)),
        ("Threshold", _few([use.entry.title, *level])),
    ]
    if use.entry.has_side:
        lines.append(("Keep pixels", outline.keep))
    if use.entry.automatic and use.pooled:
        lines.append(("One level for all samples", "yes"))
    if use.entry.automatic and (use.factor, use.offset) != (1.0, 0.0):
        lines.append(("Automatic level", f"times {use.factor:.10g} plus {use.offset:.10g}"))
    return lines


# What steps tell, in words around the number.
_TOLD = {
    "level": "level {} counts",
    "standard_error": "± {} counts",
    "range": "range {} counts",
    "tilt": "tilt {} counts",
    "flatness": "flatness {} %",
    "factor": "factor {}",
    "offset": "offset {} counts",
    "replaced": "{} px replaced",
    "limited": "{} px limited",
    "pixels": "from {} px",
    "objects": "{} % left out as objects",
    "chosen": "automatic: {} px",
    "coverage": "objects cover {} %",
    "object_radius": "of about {} px radius",
    "off": "off by {} % of their signal there",
    "frames": "{} frames",
    "images": "{} images",
    "lowest": "from {}",
    "highest": "to {}",
    "right": "shifted {} px to the right",
    "down": "{} px down",
    "agreement": "agreement {}",
    "white": "white {} counts",
    "patches": "{} patches",
    "left_out": "{} patches left out",
    "relative_spread": "residuals {} % of reflectance",
    "largest_residual": "largest residual {}",
    "light_range": "light falls by {} %",
    "light_beyond": "a guess over the {} % of the picture beyond the surround",
    "negative": "{} px below 0",
    "undefined": "{} px newly undefined",
}


def reported_numbers(numbers: Mapping[str, float], shown: Callable[[float], str]) -> list[str]:
    """Return what a step told of a channel as short texts; counts of 0 are left out.

    shown : how a number is printed.
    """
    texts = []
    for name, words in _TOLD.items():
        value = numbers.get(name)
        if value is None or math.isnan(value):
            continue
        flat = name in ("range", "tilt", "flatness") and not numbers.get("range")
        if flat or (value == 0 and name in ("negative", "undefined", "limited")):
            continue
        texts.append(words.format(shown(value)))
    return texts
