"""Snippets and commands of the documents: they run, or name what there is."""

from __future__ import annotations

import json
import re
import shlex
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from typer.main import get_command

from rilievo.cli import app
from rilievo.core.method.method import Method

DOCS = Path(__file__).parent.parent / "docs"
_PYTHON = re.compile(r"```python\n(.*?)```", re.DOTALL)


def test_the_page_of_python_from_top_to_bottom(
    tmp_path: Path, write_tiff: object, monkeypatch: pytest.MonkeyPatch, blobs: np.ndarray
) -> None:
    import tifffile  # noqa: PLC0415

    rng = np.random.default_rng(0)
    monkeypatch.chdir(tmp_path)
    for name, light in (("fed_1", 1), ("fed_2", 1.1), ("starved_1", 2), ("starved_2", 2.2)):
        noise = rng.poisson(20, blobs.shape)
        tifffile.imwrite(f"{name}.tif", (blobs * light + noise).astype(np.uint16))
    known: dict[str, object] = {}
    snippets = _PYTHON.findall((DOCS / "python.md").read_text(encoding="utf-8"))
    assert len(snippets) >= 5
    for snippet in snippets:
        exec(compile(snippet, "docs/python.md", "exec"), known)  # noqa: S102
    assert set(Path().glob("*.*")) >= {Path("means.svg"), Path("report.html"), Path("mine.json")}
    assert known["units"]["mean"] == "counts"  # type: ignore[index]


def commands() -> list[tuple[str, list[str]]]:
    """Each line of a code block that calls the program: page and words."""
    found = []
    for page in [DOCS.parent / "README.md", *sorted(DOCS.glob("*.md"))]:
        text = page.read_text(encoding="utf-8")
        inside = False
        for line in text.splitlines():
            inside ^= line.lstrip().startswith("```")
            # Indented lines and spans in a sentence name commands as well.
            lines = [line] if inside else re.findall(r"`(rilievo [^`]+)`", line)
            for line in lines:  # noqa: PLW2901
                plain = line.strip().removeprefix("! ").removeprefix("$ ")
                if plain.startswith("rilievo ") and page.name != "command-line.md":
                    found.append((page.name, shlex.split(plain, comments=True)[1:]))
    return found


def test_commands_that_are_shown_have_the_options_that_are_shown() -> None:
    shown = commands()
    assert len(shown) > 50
    root: Any = get_command(app)
    for page, all_words in shown:
        command, words = root, all_words
        while words and words[0] in getattr(command, "commands", {}):
            command, words = command.commands[words[0]], words[1:]
        if command is root and words:
            # A file to open, an option, or a word that stands for one.
            assert re.search(r"[.A-Z|…]|^-", words[0]), f"{page}: {words}"
        known = {name for one in command.params for name in one.opts} | {"--help", "--version"}
        for word in words:
            if word.startswith("-") and word != "-":
                assert word.partition("=")[0] in known, f"{page}: {word} of {command.name}"


def test_the_example_of_a_method_file_is_one() -> None:
    text = (DOCS / "method-file.md").read_text(encoding="utf-8")
    example = re.search(r"```json\n(.*?)```", text, re.DOTALL)
    assert example is not None
    method = Method.from_json(example[1])
    assert method.class_names == ("cell", "spot")
    assert json.loads(example[1])["measure"]["pairs"][0]["inner"] == "spot"


@pytest.mark.slow
def test_the_site_is_built_without_a_warning(tmp_path: Path) -> None:
    made = DOCS / "made"
    subprocess.run([sys.executable, str(DOCS / "site/make_pictures.py"), str(made)], check=True)
    order = [
        sys.executable,
        "-m",
        "sphinx",
        "-q",
        "-W",
        "-b",
        "html",
        "-d",
        str(tmp_path / "cache"),
    ]
    order += ["-c", str(DOCS / "site"), str(DOCS), str(tmp_path / "site")]
    done = subprocess.run(order, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    page = (tmp_path / "site" / "python.html").read_text(encoding="utf-8")
    assert "measure_batch" in page
    api = (tmp_path / "site" / "api.html").read_text(encoding="utf-8")
    for name in ("from_array", "find_regions", "measure_batch", "load_method"):
        assert name in api
