"""What docstrings say of parameters is true, and their examples run."""

from __future__ import annotations

import ast
import doctest
import importlib
import inspect
import itertools
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import rilievo
import rilievo.core
from tests.test_names_in_text import ROOT

SOURCE = ROOT / "src" / "rilievo"
# “name : what it is” at the begin of a line or a sentence.
_EXPLAINED = re.compile(r"(?:^|(?<=[.;)] )|(?<=\n))\s*([a-z_]\w*(?:, [a-z_]\w*)*) : ")
_SECTIONS = {
    "Parameters", "Returns", "Yields", "Raises", "Notes", "References", "Examples", "Attributes",
    "See Also",
}  # fmt: skip
EXAMPLES = [
    path for path in sorted(SOURCE.rglob("*.py")) if "\n    >>> " in path.read_text("utf-8")
]
PUBLIC = sorted(
    {(rilievo.core, name) for name in rilievo.core.__all__}
    | {(rilievo, name) for name in rilievo.__all__ if name != "__version__"},
    key=lambda entry: (entry[0].__name__, entry[1]),
)


def _described(tree: ast.Module) -> Iterator[tuple[ast.FunctionDef | ast.ClassDef, str]]:
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.ClassDef) and (text := ast.get_docstring(node)):
            yield node, text


def _words_of(node: ast.AST) -> set[str]:
    """Names and texts in the code of a function or class."""
    words = set()
    for part in ast.walk(node):
        for name in ("arg", "id", "attr", "name"):
            if isinstance(word := getattr(part, name, None), str):
                words.add(word)
        if isinstance(part, ast.Constant) and isinstance(part.value, str):
            words |= {part.value} if part.value.isidentifier() else set()
    return words


@pytest.mark.parametrize("package", ["core", "cli", "notebook"])
def test_what_a_docstring_explains_is_there(package: str) -> None:
    wrong = []
    for path in sorted((SOURCE / package).rglob("*.py")):
        for node, text in _described(ast.parse(path.read_text("utf-8"))):
            explained = {w for match in _EXPLAINED.finditer(text) for w in match[1].split(", ")}
            lost = explained - _words_of(node)
            wrong += [f"{path.relative_to(SOURCE)} {node.name}: {name}" for name in sorted(lost)]
    assert not wrong


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.stem)
def test_examples_run(path: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    parts = path.relative_to(SOURCE.parent).with_suffix("").parts
    module = importlib.import_module(".".join(parts).removesuffix(".__init__"))
    failed, tried = doctest.testmod(module, optionflags=doctest.ELLIPSIS, raise_on_error=False)
    assert tried and not failed


@pytest.mark.parametrize(
    ("module", "name"), PUBLIC, ids=lambda value: getattr(value, "__name__", value)
)
def test_public_names_have_sections_and_an_example(module: object, name: str) -> None:
    public = getattr(module, name)
    text = inspect.getdoc(public)
    assert text is not None
    lines = text.splitlines()
    titles = [title for title, rule in itertools.pairwise(lines) if title and set(rule) == {"-"}]
    assert set(titles) <= _SECTIONS and len(titles) == len(set(titles))
    assert all(lines[lines.index(title) + 1] == "-" * len(title) for title in titles)
    assert "Examples" in titles and ">>> " in text.split("Examples\n")[1]
    if inspect.isfunction(public):
        assert "Returns" in titles
        section = text.split("Parameters\n----------\n")[1].split("\n\n")[0]
        explained = [
            word.lstrip("*")
            for line in section.splitlines()
            if line[:1].strip()
            for word in line.split(" : ")[0].split(", ")
        ]
        assert explained == list(inspect.signature(public).parameters)
