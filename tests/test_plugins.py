"""What other packages add is listed; a new one from the template passes its own tests."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.test_extending import install

pytestmark = pytest.mark.slow
ROOT = Path(__file__).parents[1]


def made(folder: Path, name: str) -> subprocess.CompletedProcess[str]:
    order = [sys.executable, str(ROOT / "script/new-plugin"), name, "--in", str(folder)]
    return subprocess.run(order, capture_output=True, text=True, check=False)


def run(installed: Path, *words: str) -> subprocess.CompletedProcess[str]:
    places = os.pathsep.join([str(installed), *sys.path])
    environment = {**os.environ, "PYTHONPATH": places, "QT_QPA_PLATFORM": "offscreen"}
    return subprocess.run(
        [sys.executable, *words], capture_output=True, text=True, check=False, env=environment
    )


def test_a_package_from_the_template_passes_its_tests_and_is_listed(tmp_path: Path) -> None:
    assert made(tmp_path, "my-step").returncode == 0
    package, installed = tmp_path / "my-step", tmp_path / "installed"
    texts = {
        str(path.relative_to(package)): path.read_text(encoding="utf-8")
        for path in package.rglob("*")
        if path.is_file()
    }
    assert not any("MODULE" in text or "NAME" in text for text in texts.values())
    install({name.removeprefix("src/"): text for name, text in texts.items()}, installed)
    tests = str(package / "tests")
    tested = run(
        installed, "-m", "pytest", "-q", "-p", "no:cacheprovider", "--rootdir", tests, tests
    )
    assert tested.returncode == 0, tested.stdout + tested.stderr
    assert "3 passed" in tested.stdout
    listed = run(installed, "-m", "rilievo", "plugins")
    assert (listed.returncode, listed.stdout) == (0, "my-step 0.1.0\tstep\tmy_step.scale\n")
    # One that cannot be loaded is named, with the reason.
    (installed / "my_step" / "scale.py").write_text("import nothing_of_that_name\n")
    failed = run(installed, "-m", "rilievo", "plugins")
    assert failed.returncode == 4
    assert "No module named 'nothing_of_that_name'" in failed.stderr


def test_a_name_that_cannot_be_and_one_that_is_taken(tmp_path: Path) -> None:
    assert "no name of a package" in made(tmp_path, "My Step").stderr
    made(tmp_path, "twice")
    assert "is there already" in made(tmp_path, "twice").stderr


def test_without_any_it_says_so(tmp_path: Path) -> None:
    # As a process of its own: other tests may have added something in this one.
    said = run(tmp_path, "-m", "rilievo", "plugins")
    assert (said.returncode, said.stderr) == (0, "")
    assert said.stdout.startswith("No other package adds a")
