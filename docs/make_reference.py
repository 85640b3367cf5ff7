"""Write the pages that follow from the registries: quantities, steps, thresholds, readers.

Usage: python docs/make_reference.py           (a test compares the pages with the registries)
"""

from __future__ import annotations

from pathlib import Path

from rilievo.core.files import READERS
from rilievo.core.measures import QUANTITIES
from rilievo.core.steps import STEPS
from rilievo.core.thresholds import THRESHOLDS

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
    for family, title in (("intensity", "Intensity"), ("shape", "Size and place")):
        lines += [f"## {title}", "", "| key | name | unit | definition |", "|---|---|---|---|"]
        lines += [
            f"| `{q.key}` | {q.title} | {q.unit or '–'} | {q.definition} |"
            for q in QUANTITIES.values()
            if q.family == family
        ]
        lines.append("")
    return _MADE + "\n".join(lines)


def methods() -> str:
    """The page of steps, thresholds and readers."""
    lines = ["# Steps, thresholds, readers", "", "## Steps", ""]
    for step in STEPS.values():
        kind = "linear" if step.linear else "not linear"
        lines += [f"### `{step.key}` – {step.title}", "", f"{step.explanation} ({kind})", ""]
        lines += ["| parameter | name | default | meaning |", "|---|---|---|---|"]
        for name, field in step.parameters.model_fields.items():
            lines.append(f"| `{name}` | {field.title} | {field.default} | {field.description} |")
        lines.append("")
    lines += ["## Thresholds", "", "| key | name | how |", "|---|---|---|"]
    lines += [f"| `{t.key}` | {t.title} | {t.explanation} |" for t in THRESHOLDS.values()]
    lines += ["", "## Readers", "", "| key | format | endings |", "|---|---|---|"]
    lines += [f"| `{r.key}` | {r.title} | {', '.join(r.suffixes)} |" for r in READERS.values()]
    return _MADE + "\n".join(lines) + "\n"


PAGES = {"quantities.md": quantities, "steps.md": methods}


def main() -> None:
    """Write all pages."""
    for name, make in PAGES.items():
        (FOLDER / name).write_text(make(), encoding="utf-8")


if __name__ == "__main__":
    main()
