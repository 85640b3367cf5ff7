"""The pages of the guide as files: beside the package where it is installed, else in its source."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import rilievo

_INSTALLED = Path(rilievo.__file__).parent / "docs"
_SOURCE = Path(rilievo.__file__).parents[2] / "docs"

# In the order of the list; the title is the first heading of each.
PAGES = (
    "guide", "first-measurement", "tutorial-cells", "tutorial-light-curve", "tutorial-specimens",
    "tutorial-series", "tutorial-lanes", "writing-a-method", "which-background",
    "which-threshold", "which-split", "designs", "concepts", "quantities", "steps", "outlining",
    "comparing", "proof", "plots", "accuracy", "background-accuracy", "reliability",
    "performance", "clusters", "command-line", "method-file", "file-formats", "python",
    "installing", "troubleshooting", "glossary", "citing", "extending", "architecture",
)  # fmt: skip
_HEADING = re.compile(r"^(#{1,4}) +(.+?)\s*$")


@dataclass(frozen=True)
class Heading:
    """A heading of a page. depth : 1 for the title."""

    depth: int
    text: str


def folder() -> Path:
    """Return where the pages are."""
    return _INSTALLED if _INSTALLED.is_dir() else _SOURCE


@cache
def text_of(page: str) -> str:
    """Return a page as Markdown, with one sentence where it is not there."""
    try:
        text = (folder() / f"{page}.md").read_text(encoding="utf-8")
    except OSError:
        return f"# {page}\n\nThis page is not installed beside Rilievo; install it again."
    text = re.sub(r"\A---\n.*?\n---\n+", "", text, flags=re.DOTALL)
    text = re.sub(r"<!--.*?-->\s*", "", text, flags=re.DOTALL)
    # Pictures that are drawn when the site is built are not beside every installation.
    return re.sub(r"^!\[[^\]]*\]\((made/[^)]+)\)\n+\*[^*]+\*\n+", _if_there, text, flags=re.M)


def _if_there(found: re.Match[str]) -> str:
    return found[0] if (folder() / found[1]).is_file() else ""


@cache
def headings_of(page: str) -> tuple[Heading, ...]:
    """Return the headings of a page in their order."""
    found, in_code = [], False
    for line in text_of(page).splitlines():
        if line.startswith("```"):
            in_code = not in_code
        match = None if in_code else _HEADING.match(line)
        if match:
            found.append(Heading(len(match[1]), plain(match[2])))
    return tuple(found)


def plain(text: str) -> str:
    """Return a heading as it is shown, without marks of Markdown."""
    return re.sub(r"\[([^\]]+)\]\([^)]*\)", r"\1", text).replace("`", "").replace("*", "")


def title_of(page: str) -> str:
    """Return the title of a page."""
    return next((one.text for one in headings_of(page) if one.depth == 1), page)


def anchor_of(text: str) -> str:
    """Return what a link writes for a heading."""
    return re.sub(r"[^\w\- ]", "", text.lower()).replace(" ", "-")
