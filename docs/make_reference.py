"""Write the pages that follow from the registries: quantities, steps, thresholds, plots …

Usage: python docs/make_reference.py           (a test compares the pages with the registries)
"""

from __future__ import annotations

import inspect
import json
import re
from pathlib import Path
from typing import Any, Literal, get_args, get_origin

from pydantic.fields import FieldInfo

from rilievo.core.cleaning import CLEANERS
from rilievo.core.compare.plots import PLOTS
from rilievo.core.files import READERS
from rilievo.core.measure import QUANTITIES, QUANTITY_FAMILIES
from rilievo.core.method.describe import shown_value, unit_of
from rilievo.core.method.schema import method_schema
from rilievo.core.parameters import Parameters
from rilievo.core.regions.derived_classes import OPERATIONS
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.signal.steps import FAMILIES, STEPS, Step
from rilievo.core.table.writers import WRITERS

FOLDER = Path(__file__).parent
_MADE = "<!-- Made by docs/make_reference.py; do not edit. -->\n\n"


def quantities() -> str:
    """The page of all quantities."""
    lines = [
        "# Quantities",
        "",
        "What each number means, per region and channel. *Signal* is the native value after the",
        "method's corrections, *native* the value in the file after its own scaling keywords; both",
        "are in native units (counts). Undefined pixels are always left out of intensities and",
        "always counted. An undefined number is empty in files and “–” in the window.",
        "",
    ]
    for family, title in QUANTITY_FAMILIES.items():
        members = [q for q in QUANTITIES.values() if q.family == family]
        if not members:
            continue
        lines += [f"## {title}", "", "| key | name | symbol | unit | definition | formula |"]
        lines += ["|---|---|---|---|---|---|"]
        lines += [
            f"| `{q.key}` | {q.title} | {_cell(q.symbol)} | {q.unit or '–'} | "
            f"{_cell(q.definition)} | {_cell(q.formula)} |"
            for q in members
        ]
        lines.append("")
        told = [q for q in members if q.source or q.needs]
        lines += ["Sources, and what is needed:", ""] if told else []
        lines += [
            f"- `{q.key}`: "
            + "; ".join(
                [*([q.source] if q.source else []), *([f"needs {q.needs}"] if q.needs else [])]
            )
            for q in told
        ]
        lines.append("")
    return _MADE + "\n".join(lines)


def for_users(text: str) -> str:
    """A docstring without what is for developers: “Return …”, “Raises …”, names of exceptions."""
    kept = re.sub(r"(?:^|(?<=[.\n]) *)Raises [^.]*(?:\.(?=\s|$)|$)", "", text, flags=re.MULTILINE)

    kept = re.sub(r"^Return where ", "Kept are pixels where ", kept, flags=re.MULTILINE)
    kept = re.sub(r"^Return `plane` ", "The result is the plane ", kept, flags=re.MULTILINE)
    kept = re.sub(r"^Return ", "The result is ", kept, flags=re.MULTILINE)
    return re.sub(r"\n{3,}", "\n\n", kept).strip()


def _cell(text: str) -> str:
    """A text as a cell of a table: a bar would end it."""
    return text.replace("|", "\\|")


def _range(field: FieldInfo) -> str:
    """The values a parameter may have."""
    kind = get_args(field.annotation) if get_origin(field.annotation) is Literal else ()
    if kind:
        return ", ".join(str(one) for one in kind)
    low = high = ""
    for limit in field.metadata:
        low = low or (f"≥ {limit.ge:g}" if hasattr(limit, "ge") else "")
        low = low or (f"> {limit.gt:g}" if hasattr(limit, "gt") else "")
        high = high or (f"≤ {limit.le:g}" if hasattr(limit, "le") else "")
        high = high or (f"< {limit.lt:g}" if hasattr(limit, "lt") else "")
    return ", ".join(text for text in (low, high) if text) or "–"


def _definition(step: Step) -> list[str]:
    """What a step computes: the docstring of its function, indented formulas as they stand."""
    text = for_users(inspect.getdoc(step.transform or step.estimate or step.apply) or "")
    return text.splitlines()


def _step(step: Step) -> list[str]:
    kind = "linear in intensity" if step.is_linear() else "**not linear** in intensity"
    if callable(step.linear):
        kind += " as it is added; otherwise it depends on the settings"
    lines = [f"#### `{step.key}` – {step.title}", "", f"{step.explanation} ({kind})", ""]
    lines += [*_definition(step), ""]
    if step.parameters.model_fields:
        lines += ["| parameter | name | unit | values | default | meaning |"]
        lines += ["|---|---|---|---|---|---|"]
    for name, field in step.parameters.model_fields.items():
        default = shown_value(getattr(step.parameters(), name))
        lines.append(
            f"| `{name}` | {field.title} | {unit_of(field) or '–'} | {_range(field)} | "
            f"{default} | {field.description or '–'} |"
        )
    return [*lines, ""]


def methods() -> str:
    """The page of steps and readers."""
    lines = [
        "# Steps and readers",
        "",
        "## Steps",
        "",
        "Each is added from the list in *Correct*, written in a method file under its key, or made",
        "in Python with `step_use(id, key, **parameters)`. Undefined pixels (NaN) stay undefined;",
        "what has no value becomes undefined and is counted. Borders are mirrored unless it says",
        "otherwise. Their accuracy is in",
        "[background-accuracy.md](background-accuracy.md).",
        "",
    ]
    for family in FAMILIES:
        lines += [f"### {family}", ""]
        for step in STEPS.values():
            if step.family == family:
                lines += _step(step)
    lines += ["## Readers", "", "| key | format | endings |", "|---|---|---|"]
    lines += [f"| `{r.key}` | {r.title} | {', '.join(r.suffixes)} |" for r in READERS.values()]
    return _MADE + "\n".join(lines) + "\n"


def outlining() -> str:
    """The page of thresholds, clean-up steps and rules for derived classes."""
    lines = [
        "# How regions are found",
        "",
        "Pixels are kept by a threshold; or regions are drawn, made from other classes by a rule,",
        "or read from label images. Then come connecting, the clean-up in its order, and edits by",
        "hand. A threshold t keeps pixels > t (brighter than) or ≤ t (at or below).",
        "",
        "## Thresholds",
        "",
    ]
    for way in THRESHOLDS.values():
        lines += _entry(way.title, way.key, way.explanation, way.parameters, way.find or way.mask)
    lines += ["## Clean-up", ""]
    for one in CLEANERS.values():
        lines += _entry(one.title, one.key, one.explanation, one.parameters, one.apply)
    lines += ["## Rules for derived classes", "", "| key | made as |", "|---|---|"]
    lines += [f"| `{key}` | {text} |" for key, text in OPERATIONS.items()]
    return _MADE + "\n".join(lines) + "\n"


def _entry(
    title: str, key: str, explanation: str, parameters: type[Parameters], work: object
) -> list[str]:
    """Title, parameters and definition of one entry of a registry."""
    lines = [f"### {title} (`{key}`)", "", explanation, ""]
    text = for_users(inspect.cleandoc(getattr(work, "__doc__", "") or ""))
    lines += [line.rstrip() for line in text.splitlines()]
    fields = parameters.model_fields
    if fields:
        lines += ["", "| parameter | name | default | range | meaning |", "|---|---|---|---|---|"]
        lines += [
            f"| `{name}` | {field.title or name} | {shown_value(field.default, unit_of(field))} | "
            f"{_range(field)} | {_cell(field.description or '')} |"
            for name, field in fields.items()
        ]
    return [*lines, ""]


def plots() -> str:
    """The page of plots and of kinds of table files."""
    lines = [
        "# Plots and table files",
        "",
        "## Plots",
        "",
        "How a comparison is drawn, in the window, in a report and as PNG, SVG or PDF.",
        "",
        "| key | name | shows | needs beside the numbers | uses of the question |",
        "|---|---|---|---|---|",
    ]
    lines += [
        f"| `{one.key}` | {one.title} | {one.explanation} | {', '.join(one.inputs) or '–'} | "
        f"{', '.join(f'`{name}`' for name in one.options) or '–'} |"
        for one in PLOTS.values()
    ]
    lines += [
        "",
        "## Table files",
        "",
        "`rilievo run --table ENDING` and *Save table …* write these; the metadata stand in the",
        "file where it has a place for them, else beside it in `NAME.metadata.json`.",
        "",
        "| key | name | ending | metadata |",
        "|---|---|---|---|",
    ]
    lines += [
        f"| `{one.key}` | {one.title} | {one.suffix} | "
        f"{'inside' if one.holds_metadata else 'beside it'} |"
        for one in WRITERS.values()
    ]
    return _MADE + "\n".join(lines) + "\n"


# In the order in which a method is written; what a name of the schema is called in the page.
_METHOD_PARTS = {
    "": "The file",
    "Reading": "Reading: before the steps",
    "Derived": "A derived channel",
    "Term": "A term of a derived channel",
    "Over": "A projection of planes",
    "StepUse": "A step",
    "Frames": "Frame sets: dark, flat and reference images",
    "ImageFile": "An image in a file",
    "Rectangle": "A patch: a rectangle of pixels",
    "Corner": "A corner of a card",
    "Repair": "A repaired pixel or block",
    "CalibrationPoint": "A point of a calibration",
    "ClassDefinition": "A region class",
    "ThresholdUse": "A threshold",
    "ChannelRange": "A range of a channel",
    "CleanUse": "A clean-up",
    "StarUse": "Stars",
    "Derivation": "A class made from others",
    "DrawnRegion": "A drawn region",
    "OutlinePick": "A pixel that is inside or outside",
    "Measure": "What is measured",
    "Pair": "A pair of classes: part and whole",
    "DerivedColumn": "A derived column",
    "SampleException": "What differs for a sample",
    "HandEdit": "An edit by hand",
    "Pick": "A pick",
}
_SHAPES = {
    name: f"Shape: {name.removesuffix('Shape').lower()}"
    for name in (
        "RectangleShape", "EllipseShape", "PolygonShape", "LineShape", "RingShape", "StencilShape",
        "FloodShape", "GridShape",
    )
}  # fmt: skip


def method_file() -> str:
    """The page of all that a method file holds, from its schema."""
    schema = method_schema()
    lines = [
        "# The method file",
        "",
        "A method is one JSON file. Only `format` and `version` are needed; everything else has a",
        "default. Parameters of [steps](steps.md), and those of [thresholds and",
        "clean-ups](outlining.md), are on their pages. `rilievo method schema` prints the JSON",
        "Schema, `rilievo method check FILE` says what is wrong with a file, and",
        "`rilievo method values FILE` lists what `rilievo run --set` changes. Paths are relative",
        "to the file.",
        "",
        "```json",
        _EXAMPLE.strip(),
        "```",
        "",
        "This method finds bright cells on the channel *dye* and dark spots in them, and measures",
        "both. [Step by step](writing-a-method.md).",
        "",
    ]
    parts = schema["$defs"]
    for name, title in {**_METHOD_PARTS, **_SHAPES}.items():
        part = schema if not name else parts[name]
        lines += [f"## {title}", "", "| field | meaning | value | default |", "|---|---|---|---|"]
        for field, one in part["properties"].items():
            meaning = _cell(str(one.get("description", "")))
            default = "needed" if field in part.get("required", ()) else _default(one)
            lines.append(f"| `{field}` | {meaning} | {_cell(_kind(one))} | {default} |")
        lines.append("")
    return _MADE + "\n".join(lines)


_EXAMPLE = """
{
  "format": "rilievo-method",
  "version": 6,
  "name": "Cells and spots",
  "steps": [
    {"id": "background", "step": "background.mesh", "parameters": {"tile": 48}}
  ],
  "outlines": [
    {
      "region_class": "cell",
      "channel": "dye",
      "threshold": {"way": "between_class_variance"},
      "clean": [
        {"cleaner": "fill_holes"},
        {"cleaner": "keep", "parameters": {"quantity": "area", "lower": 50}}
      ]
    },
    {
      "region_class": "spot",
      "channel": "dye",
      "keep": "dark",
      "threshold": {"way": "hand", "parameters": {"level": 120}},
      "clean": [
        {"cleaner": "keep", "parameters": {"quantity": "area", "lower": 5, "upper": 200}}
      ]
    }
  ],
  "measure": {
    "quantities": ["pixel_count", "mean", "sum"],
    "pairs": [{"inner": "spot", "outer": "cell", "quantity": "sum"}]
  }
}
"""


def _kind(field: dict[str, Any]) -> str:
    """What a value of the schema is, in words."""
    if "$ref" in field:
        name = field["$ref"].rsplit("/", 1)[1]
        title = {**_METHOD_PARTS, **_SHAPES}.get(name)
        return f"[{title[0].lower()}{title[1:]}](#{_anchor(title)})" if title else "object"
    if "const" in field:
        return f"`{json.dumps(field['const'])}`"
    if "enum" in field:
        listed = field["enum"]
        return ", ".join(map(str, listed)) if len(listed) <= 12 else "a key, see above"
    for several in ("anyOf", "oneOf"):
        if several in field:
            return " or ".join(dict.fromkeys(_kind(one) for one in field[several]))
    kind = field.get("type", "object")
    if kind == "array":
        inner = field.get("items") or (field.get("prefixItems") or [{}])[0]
        return f"list of {_kind(inner)}"
    words = {"null": "null", "string": "text", "integer": "whole number", "boolean": "true, false"}
    low = field.get("minimum", field.get("exclusiveMinimum"))
    high = field.get("maximum", field.get("exclusiveMaximum"))
    limits = "".join(f", {sign} {value:g}" for sign, value in (
        ("≥" if "minimum" in field else ">", low), ("≤" if "maximum" in field else "<", high)
    ) if value is not None)  # fmt: skip
    return words.get(kind, kind) + limits


def _default(field: dict[str, Any]) -> str:
    if "default" not in field:
        return "–"
    text = json.dumps(field["default"], ensure_ascii=False)
    return f"`{text}`" if len(text) <= 40 else "see its own table"


def _anchor(title: str) -> str:
    kept = "".join(one for one in title.lower() if one.isalnum() or one in " -")
    return kept.replace(" ", "-")


PAGES = {
    "quantities.md": quantities,
    "steps.md": methods,
    "outlining.md": outlining,
    "plots.md": plots,
    "method-file.md": method_file,
}


def main() -> None:
    """Write all pages."""
    for name, make in PAGES.items():
        (FOLDER / name).write_text(make(), encoding="utf-8")


if __name__ == "__main__":
    main()
