"""The wall between computation and interface, the order of the packages, and the public surface."""

from __future__ import annotations

import ast
import importlib
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import rilievo
import rilievo.core

SOURCE = Path(rilievo.__file__).parent
TESTS = Path(__file__).parent


def loaded_by(statement: str) -> set[str]:
    code = f"import sys; {statement}; print('\\n'.join(sys.modules))"
    result = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    )
    return {name.split(".")[0] for name in result.stdout.split()}


@pytest.mark.parametrize(
    "statement",
    [
        "import rilievo.core.pipeline.analysis, rilievo.core.batch, rilievo.core.study.study_file",
        "import rilievo; rilievo.measure; rilievo.open_sample",
        "import rilievo.cli, rilievo.demo.sets",
        "import rilievo.core.report.outputs",
    ],
)
def test_the_core_loads_no_interface(statement: str) -> None:
    assert loaded_by(statement) & {"PyQt6", "pyqtgraph"} == set()


# -- modules


def modules() -> dict[str, Path]:
    """All modules of the program by name."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        parts = ("rilievo", *path.relative_to(SOURCE).with_suffix("").parts)
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    return found


def imports_of(path: Path, known: dict[str, Path]) -> Iterator[str]:
    """The modules of the program that one imports: anywhere, also in functions and for types."""
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names if alias.name in known)
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path} has a relative import"
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                if inner in known:
                    yield inner
                elif node.module in known:
                    yield str(node.module)


def circles(graph: dict[str, set[str]]) -> list[list[str]]:
    """The groups of modules that lead to each other (Tarjan 1972)."""
    number: dict[str, int] = {}
    lowest: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(name: str) -> None:
        number[name] = lowest[name] = len(number)
        stack.append(name)
        for other in sorted(graph[name]):
            if other not in number:
                visit(other)
                lowest[name] = min(lowest[name], lowest[other])
            elif other in stack:
                lowest[name] = min(lowest[name], number[other])
        if lowest[name] == number[name]:
            start = stack.index(name)
            group, stack[start:] = stack[start:], []
            if len(group) > 1:
                found.append(sorted(group))

    for name in sorted(graph):
        if name not in number:
            visit(name)
    return found


def test_circles_are_found() -> None:
    graph = {"a": {"b"}, "b": {"c"}, "c": {"a", "d"}, "d": set(), "e": {"a"}}
    assert circles(graph) == [["a", "b", "c"]]
    assert circles({"a": {"b"}, "b": set()}) == []


def test_no_module_leads_back_to_itself() -> None:
    known = modules()
    graph = {name: set(imports_of(path, known)) - {name} for name, path in known.items()}
    assert sum(map(len, graph.values())) > 1000
    assert circles(graph) == []


def test_the_window_is_known_in_the_shell_alone() -> None:
    known = modules()
    assert "rilievo.ui.shell.window" in known
    for name, path in known.items():
        if not name.startswith(("rilievo.ui.shell", "rilievo.cli")):
            shell = {m for m in imports_of(path, known) if m.startswith("rilievo.ui.shell")}
            assert shell == set(), f"{name} knows the shell"


def test_every_module_says_what_it_is_for() -> None:
    for path in SOURCE.rglob("*.py"):
        assert path.read_text().startswith('"""'), f"{path} has no docstring"


# -- the map


@pytest.mark.parametrize("package", ["core", "ui"])
def test_the_map_names_every_package(package: str) -> None:
    text = importlib.import_module(f"rilievo.{package}").__doc__
    assert text is not None
    listed = [line.split()[0] for line in text.splitlines() if line[:1].isalpha() and "  " in line]
    folders = {path.parent.name for path in (SOURCE / package).glob("*/__init__.py")}
    assert set(listed) == folders


def test_tests_lie_where_what_they_test_lies() -> None:
    for folder in ("core", "ui"):
        for path in (TESTS / folder).rglob("test_*.py"):
            inside = path.parent.relative_to(TESTS)
            assert (SOURCE / inside).is_dir(), f"{path} has no package of that name"
    for path in (SOURCE / "core").rglob("__init__.py"):
        inside = path.parent.relative_to(SOURCE)
        assert list((TESTS / inside).glob("test_*.py")), f"{inside} has no tests of its own"


# -- the public surface


def test_public_names_exist_and_are_documented() -> None:
    assert rilievo.__all__ == sorted(rilievo.__all__)
    page = (TESTS.parent / "docs" / "python.md").read_text()
    for name in rilievo.__all__:
        assert getattr(rilievo, name) is not None
        assert f"`{name}`" in page, f"docs/python.md does not mention {name}"
    with pytest.raises(AttributeError):
        _ = rilievo.no_such_name  # type: ignore[attr-defined]


def test_public_names_of_the_core() -> None:
    assert rilievo.core.__all__ == sorted(rilievo.core.__all__)
    for name in rilievo.core.__all__:
        assert getattr(rilievo.core, name).__name__ == name
    with pytest.raises(AttributeError):
        _ = rilievo.core.no_such_name  # type: ignore[attr-defined]
