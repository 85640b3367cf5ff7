"""Names of ours that docstrings and guides put in backticks exist: no rename leaves them behind."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

import rilievo
from rilievo.core.measure import QUANTITIES

SOURCE = Path(rilievo.__file__).parent
ROOT = Path(__file__).parents[1]
_NAME = re.compile(r"[A-Za-z_]\w*(\.[A-Za-z_]\w*)*")
_QUOTED = re.compile(r"`([^`\n]+)`")
# Programs, formats and words of other packages that stand in backticks too.
OUTSIDE = {"desc", "mypy", "ruff", "FILES", "vVERSION"}
# Files that the program writes.
_WRITTEN = re.compile(r"[\w.-]+\.(csv|xlsx|json|html|parquet|sqlite|rilievo|tif|svg|png|txt)")


@cache
def modules() -> dict[Path, ast.Module]:
    return {path: ast.parse(path.read_text(encoding="utf-8")) for path in SOURCE.rglob("*.py")}


def docstrings(tree: ast.Module) -> Iterator[ast.Constant]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef) and node.body:
            first = node.body[0]
            if isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant):
                yield first.value


@cache
def known_names(*, in_sentences: bool = False) -> frozenset[str]:
    """All that is defined, passed or registered in the program.

    in_sentences : also words of longer texts, such as columns of the tables of a file.
    """
    found = set(QUANTITIES) | {f"{key}_unit" for key in QUANTITIES} | OUTSIDE
    for path, tree in modules().items():
        found.update(path.relative_to(SOURCE).with_suffix("").parts)
        told = {id(node) for node in docstrings(tree)}
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.ClassDef):
                found.add(node.name)
            elif isinstance(node, ast.Name):
                found.add(node.id)
            elif isinstance(node, ast.Attribute):
                found.add(node.attr)
            elif isinstance(node, ast.arg) or (isinstance(node, ast.keyword) and node.arg):
                found.add(node.arg)
            elif isinstance(node, ast.alias):
                found.update(node.name.split("."))
            elif isinstance(node, ast.Constant) and isinstance(node.value, str):
                # Keys of registries, files and options.
                is_key = id(node) not in told and " " not in node.value.strip()
                if is_key or in_sentences:
                    found.update(re.findall(r"\w+", node.value))
    return frozenset(found)


@cache
def file_names() -> frozenset[str]:
    parts = ("docs", "tests", "src", "bench", "script", "distribution")
    files = [*ROOT.glob("*"), *(path for part in parts for path in (ROOT / part).rglob("*"))]
    return frozenset(path.name for path in files)


def missing(text: str, *, in_sentences: bool = False) -> list[str]:
    """Names in backticks that nothing has."""
    known = known_names(in_sentences=in_sentences)
    plain = re.sub(r"```.*?```", "", text, flags=re.DOTALL)
    found = []
    for match in _QUOTED.finditer(plain):
        name = match[1].removesuffix("()").strip()
        if not _NAME.fullmatch(name) or re.fullmatch(r"p\d\d(_\d)?", name):
            continue
        parts = name.split(".")
        is_file = name in file_names() or _WRITTEN.fullmatch(name) is not None
        if not is_file and not (known.issuperset(parts) and _leads_somewhere(parts)):
            found.append(name)
    return found


def _leads_somewhere(parts: list[str]) -> bool:
    """Whether a dotted name that begins with a package of the core goes on with its modules."""
    folder = SOURCE / "core" / parts[0]
    if len(parts) < 2 or not folder.is_dir():
        return True
    return (
        (folder / parts[1]).is_dir()
        or (folder / f"{parts[1]}.py").is_file()
        or (parts[1] in (folder / "__init__.py").read_text(encoding="utf-8"))
    )


def test_names_in_docstrings_exist() -> None:
    found = {
        f"{path.relative_to(SOURCE)}:{node.lineno}": wrong
        for path, tree in modules().items()
        for node in docstrings(tree)
        if isinstance(node.value, str) and (wrong := missing(node.value))
    }
    assert found == {}


@pytest.mark.parametrize(
    "path", [*sorted((ROOT / "docs").glob("*.md")), ROOT / "README.md", ROOT / "CONTRIBUTING.md"],
    ids=lambda path: path.name,
)  # fmt: skip
def test_names_in_guides_exist(path: Path) -> None:
    assert missing(path.read_text(encoding="utf-8"), in_sentences=True) == []


@pytest.mark.parametrize(
    ("text", "wrong"),
    [
        ("As `pipeline.nowhere` does.", ["pipeline.nowhere"]),
        ("See `pipeline.analysis.Analysis.table`.", []),
        ("Asks `an_old_name()` for `mean`.", ["an_old_name"]),
    ],
)
def test_a_name_that_is_gone_is_found(text: str, wrong: list[str]) -> None:
    assert missing(text) == wrong


def test_no_sentence_begins_with_the_name_of_a_class() -> None:
    """A blind rename turned words of sentences into names: “SampleSummary about an image”."""
    classes = {
        node.name
        for tree in modules().values()
        for node in ast.walk(tree)
        if isinstance(node, ast.ClassDef) and re.fullmatch(r"[A-Z][a-z]+([A-Z][a-z]+)+", node.name)
    }
    found = [
        f"{path.relative_to(SOURCE)}:{node.lineno}"
        for path, tree in modules().items()
        for node in docstrings(tree)
        if isinstance(node.value, str) and node.value.split(maxsplit=1)[:1]
        and node.value.split(maxsplit=1)[0] in classes
    ]  # fmt: skip
    assert found == []
