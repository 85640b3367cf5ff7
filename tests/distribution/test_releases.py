"""What every released version wrote opens and gives the same numbers; what stops a release."""

from __future__ import annotations

import json
import sys
from importlib import util
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pytest
import tifffile

from rilievo._version import __version__
from rilievo.core.study.study_file import load_study
from tests.distribution.test_descriptions import ROOT
from tests.test_cli import rilievo

KEPT = ROOT / "tests" / "released"
VERSIONS = sorted(path.name for path in KEPT.iterdir() if path.is_dir())


def releasing() -> Any:
    spec = util.spec_from_file_location("distribution_release", ROOT / "distribution/release.py")
    assert spec is not None
    assert spec.loader is not None
    module = util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module


@pytest.mark.parametrize("version", VERSIONS)
def test_a_released_study_opens_with_its_measurements(version: str) -> None:
    for name in ("results/study.rilievo", "study.rilievo"):
        state, tables, *_ = load_study(KEPT / version / name)
        assert [entry.group for entry in state.samples] == ["fed", "fed", "starved", "starved"]
        assert state.method.steps[1].parameters.model_dump()["tile"] == 16
    kept = pandas.read_csv(KEPT / version / "results" / "regions.csv")
    means = np.concatenate([tables[e.id].column("gray", "mean") for e in state.samples])
    assert np.array_equal(means, kept["mean"])


@pytest.mark.parametrize("version", VERSIONS)
def test_a_released_method_gives_the_released_results(version: str) -> None:
    assert releasing().moved_results(KEPT / version) == []


@pytest.fixture(scope="module")
def kept(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The files of a version that was released before this one."""
    folder = tmp_path_factory.mktemp("released")
    releasing().keep("0.0.1", folder)
    return folder


def log(version: str, entry: str = "- Something.") -> str:
    return f"# Changes\n\n## Not released\n\n## {version} (2026-12-01)\n\n{entry}\n"


def test_a_release_with_everything_in_place_may_go(kept: Path) -> None:
    assert list(releasing().problems(__version__, log(__version__), kept)) == []


@pytest.mark.parametrize(
    ("version", "changelog", "said"),
    [
        ("1.0", log("1.0"), "no semantic version"),
        ("01.0.0", log("01.0.0"), "no semantic version"),
        ("9.9.9", log("9.9.9"), "The program says that it is"),
        ("0.0.0", log("0.0.0"), "is not after it"),
        (__version__, log("9.0.0"), "CHANGELOG.md has no"),
        (__version__, log(__version__, ""), "CHANGELOG.md has no"),
        (__version__, log(__version__).replace("released\n", "released\n\n- New.\n"), "move them"),
    ],
)
def test_what_stops_a_release(version: str, changelog: str, said: str, kept: Path) -> None:
    assert any(said in one for one in releasing().problems(version, changelog, kept))


def test_changed_results_need_the_mark(kept: Path, tmp_path: Path) -> None:
    folder = tmp_path / "0.0.1"
    folder.symlink_to(kept / "0.0.1")
    other = tmp_path / "changed" / "0.0.1"
    other.mkdir(parents=True)
    for path in (kept / "0.0.1").iterdir():
        if path.name != "images":
            (other / path.name).symlink_to(path)
    (other / "images").mkdir()
    for path in (kept / "0.0.1" / "images").iterdir():
        tifffile.imwrite(other / "images" / path.name, tifffile.imread(path) + 1)
    found = list(releasing().problems(__version__, log(__version__), other.parent))
    assert any("without a **result** entry" in one for one in found)
    marked = log(__version__, "- **result** Counts are one higher.")
    assert list(releasing().problems(__version__, marked, other.parent)) == []


def test_a_newer_format_needs_a_test_of_the_old_one(kept: Path, tmp_path: Path) -> None:
    other = tmp_path / "0.0.1"
    other.mkdir()
    for path in (kept / "0.0.1").iterdir():
        if path.name != "facts.json":
            (other / path.name).symlink_to(path)
    facts = json.loads((kept / "0.0.1" / "facts.json").read_text())
    (other / "facts.json").write_text(json.dumps({**facts, "study": facts["study"] - 1}))
    found = list(releasing().problems(__version__, log(__version__), tmp_path))
    assert len(found) == 1
    assert any("add test_study_5_of_0_0_1" in one for one in found)


def test_versions_are_ordered_with_candidates_before_the_release() -> None:
    order = releasing().order_of
    names = ["0.9.9", "1.0.0rc1", "1.0.0rc2", "1.0.0", "1.0.1", "1.10.0"]
    mixed = [names[k] for k in (3, 0, 5, 1, 4, 2)]
    assert sorted(mixed, key=order) == names


def test_a_kept_method_runs_from_the_command_line(tmp_path: Path) -> None:
    newest = KEPT / releasing().released()[-1]
    rilievo("run", newest / "study.rilievo", "--out", tmp_path / "o", "--no-report")
    again = pandas.read_csv(tmp_path / "o" / "regions.csv")
    before = pandas.read_csv(newest / "results" / "regions.csv")
    assert again["area_unit"].tolist() == before["area_unit"].tolist()
