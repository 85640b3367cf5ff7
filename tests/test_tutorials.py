"""Every tutorial, from top to bottom, as a new user does it; they are notebooks as well."""

from __future__ import annotations

import shlex
from pathlib import Path

import jupytext
import pytest

from tests.test_cli import rilievo

pytestmark = pytest.mark.slow
DOCS = Path(__file__).parent.parent / "docs"
TUTORIALS = sorted([*DOCS.glob("tutorial-*.md"), DOCS / "writing-a-method.md"])


def cells(page: Path) -> list[tuple[str, str]]:
    """The cells that run: language and text."""
    notebook = jupytext.read(page)
    found = []
    for cell in notebook.cells:
        if cell.cell_type != "code":
            continue
        first, _, rest = cell.source.partition("\n")
        shell = first.startswith(("%%sh", "%%bash"))
        found.append(("sh", rest) if shell else ("python", cell.source))
    return found


@pytest.mark.parametrize("page", TUTORIALS, ids=lambda page: page.stem)
def test_a_tutorial_runs(page: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    known: dict[str, object] = {"__name__": "__main__"}
    steps = cells(page)
    assert {kind for kind, _ in steps} == {"sh", "python"}
    for kind, text in steps:
        if kind == "python":
            exec(compile(text, page.name, "exec"), known)  # noqa: S102
            continue
        for line in text.splitlines():
            words = shlex.split(line, comments=True)
            status = 0
            if words and words[0] == "!":  # it is meant to fail, and to say why
                words, status = words[1:], 2
            if words and words[0] == "rilievo":
                rilievo(*words[1:], status=status)
            else:
                assert words[:1] in ([], ["ls"]), f"{page.name}: {line}"
