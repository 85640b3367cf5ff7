"""The documentation says what the program does."""

from __future__ import annotations

import importlib
import importlib.util
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from rilievo._version import __version__

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"


def maker(name: str) -> Any:
    """The script of that name in `docs/`."""
    spec = importlib.util.spec_from_file_location(name, DOCS / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[name] = module
    spec.loader.exec_module(module)
    return module


def made_pages() -> dict[str, str]:
    return {name: make() for name, make in maker("make_reference").PAGES.items()}


def test_reference_pages_follow_the_registries() -> None:
    for name, text in made_pages().items():
        assert (DOCS / name).read_text(encoding="utf-8") == text, (
            f"run docs/make_reference.py: {name}"
        )


def test_command_pages_follow_the_declaration() -> None:
    for path, text in maker("make_command_pages").files().items():
        assert path.read_text(encoding="utf-8") == text, "run docs/make_command_pages.py"


@pytest.mark.skipif(shutil.which("groff") is None, reason="groff is not installed")
def test_manual_pages_are_well_formed() -> None:
    for path in sorted((ROOT / "share" / "man" / "man1").glob("*.1")):
        order = ["groff", "-man", "-Tutf8", "-ww", "-k", str(path)]
        found = subprocess.run(order, capture_output=True, text=True, check=True)
        assert found.stderr == "", path.name
        assert "EXIT STATUS" in re.sub(r".\x08", "", found.stdout)


def test_the_picture_of_the_layers_follows_the_map() -> None:
    made = maker("make_layers").drawing()
    assert (DOCS / "layers.svg").read_text(encoding="utf-8") == made, "run docs/make_layers.py"


DRAWN = (DOCS / "site" / "make_pictures.py").read_text(encoding="utf-8")
PAGES = [
    "README.md",
    "CHANGELOG.md",
    "CONTRIBUTING.md",
    *[f"docs/{p.name}" for p in DOCS.glob("*.md")],
]


@pytest.mark.parametrize("page", PAGES)
def test_links_lead_somewhere(page: str) -> None:
    path = ROOT / page
    for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", path.read_text(encoding="utf-8")):
        # Pictures that are drawn with the site are not there in a fresh copy.
        is_drawn = target.startswith("made/") and f"def {Path(target).stem}(" in DRAWN
        assert is_drawn or (path.parent / target).exists(), f"{page} links to {target}"


def test_the_changelog_has_this_version() -> None:
    assert f"## {__version__}" in (ROOT / "CHANGELOG.md").read_text(encoding="utf-8")


@pytest.mark.parametrize("page", sorted(set(PAGES) - {"CHANGELOG.md"}))
def test_modules_that_are_named_are_there(page: str) -> None:
    text = (ROOT / page).read_text(encoding="utf-8")
    for name in re.findall(r"`((?:tests|src|bench|script|docs|core|ui|cli)/[\w/]+\.py)", text):
        known = [ROOT / name, ROOT / "src" / "rilievo" / name]
        assert any(path.exists() for path in known), f"{page} names {name}"
    for module, names in re.findall(
        r"^from (rilievo(?:\.[\w.]+)?) import ([\w, ]+)$", text, re.MULTILINE
    ):
        found = importlib.import_module(module)
        for name in names.split(","):
            assert hasattr(found, name.strip()), f"{page} imports {name} from {module}"
