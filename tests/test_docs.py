"""The documentation says what the program does."""

from __future__ import annotations

import importlib.util
import re
from pathlib import Path

import pytest

from rilievo._version import __version__

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"


def made_pages() -> dict[str, str]:
    spec = importlib.util.spec_from_file_location("make_reference", DOCS / "make_reference.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return {name: make() for name, make in module.PAGES.items()}


def test_reference_pages_follow_the_registries() -> None:
    for name, text in made_pages().items():
        assert (DOCS / name).read_text(encoding="utf-8") == text, (
            f"run docs/make_reference.py: {name}"
        )


@pytest.mark.parametrize(
    "page", ["README.md", "CHANGELOG.md", *[f"docs/{p.name}" for p in DOCS.glob("*.md")]]
)
def test_links_lead_somewhere(page: str) -> None:
    path = ROOT / page
    for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", path.read_text(encoding="utf-8")):
        assert (path.parent / target).exists(), f"{page} links to {target}"


def test_the_changelog_has_this_version() -> None:
    assert f"## {__version__}" in (ROOT / "CHANGELOG.md").read_text(encoding="utf-8")
