"""The wall between computation and interface, and the public surface."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

import rilievo


def loaded_by(statement: str) -> set[str]:
    code = f"import sys; {statement}; print('\\n'.join(sys.modules))"
    result = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    )
    return {name.split(".")[0] for name in result.stdout.split()}


@pytest.mark.parametrize(
    "statement",
    [
        "import rilievo.core.pipeline.evaluator, rilievo.core.batch, rilievo.core.study.study",
        "import rilievo; rilievo.measure; rilievo.open_sample",
        "import rilievo.cli, rilievo.demo.sets",
        "import rilievo.core.report.outputs",
    ],
)
def test_the_core_loads_no_interface(statement: str) -> None:
    assert loaded_by(statement) & {"PyQt6", "pyqtgraph"} == set()


def test_every_module_of_the_core_says_what_it_is_for() -> None:
    for path in Path(rilievo.__file__).parent.rglob("*.py"):
        assert path.read_text().startswith('"""'), f"{path} has no docstring"


def test_public_names_exist_and_are_documented() -> None:
    assert rilievo.__all__ == sorted(rilievo.__all__)
    page = (Path(__file__).parent.parent / "docs" / "python.md").read_text()
    for name in rilievo.__all__:
        assert getattr(rilievo, name) is not None
        assert f"`{name}`" in page, f"docs/python.md does not mention {name}"
    with pytest.raises(AttributeError):
        _ = rilievo.no_such_name  # type: ignore[attr-defined]
