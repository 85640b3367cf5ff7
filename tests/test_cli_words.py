"""Words on the command line that are no command, methods by name, and no display."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.library import find_method, save_method, shipped
from rilievo.core.method.method import Method, step_use
from tests.test_cli import rilievo


@pytest.mark.parametrize(
    ("word", "said"),
    [
        ("repport", "no command and no file; did you mean “report”?"),
        ("veryfy", "did you mean “verify”?"),
        ("qqqqqq", "“rilievo --help” lists the commands"),
        ("gone.tif", "“gone.tif” does not exist; look for it in"),
        ("gone/study.rilievo", "does not exist"),
    ],
)
def test_unknown_words_end_with_a_sentence(word: str, said: str) -> None:
    found = rilievo(word, status=2)
    assert said in found.stderr
    assert "Traceback" not in found.stderr


def test_without_a_display_a_sentence_says_what_to_do(tmp_path: Path) -> None:
    gone = ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    kept = {name: value for name, value in os.environ.items() if name not in gone}
    for words in ([], ["open"]):
        found = subprocess.run(
            [sys.executable, "-m", "rilievo", *words], env=kept, cwd=tmp_path, capture_output=True,
            text=True, check=False,
        )  # fmt: skip
        assert found.returncode == 2
        assert "there is no display" in found.stderr


def test_methods_are_listed_and_run_by_name(
    tmp_path: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    listed = rilievo("methods").stdout
    assert all(one.name in listed for one in shipped())
    write_tiff("in/a.tif", blobs)
    said = rilievo("run", "uneven fluoresence", tmp_path / "in", "--out", tmp_path / "o", status=2)
    assert "did you mean “Uneven fluorescence”?" in said.stderr
    rilievo("run", "Uneven fluorescence", tmp_path / "in", "--out", tmp_path / "o")
    assert len(pandas.read_csv(tmp_path / "o" / "regions.csv")) > 0


def test_an_own_method_is_found_by_its_name(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "methods"
    monkeypatch.setattr("rilievo.core.method.library.library_folder", lambda: folder)
    own = save_method(Method(name="m", outlines=(ClassDefinition(),)), "Leaves")
    assert find_method("leaves")[1] == own.path


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("region_class", "region_clas"), "did you mean “region_class”?"),
        (('"threshold": {', '"treshold": {'), "did you mean “threshold”?"),
        (("background.mesh", "bacground.mesh"), "did you mean “background.mesh”?"),
        (('"tile"', '"tiles"'), "did you mean “tile”?"),
        (("fill_holes", "fil_holes"), "did you mean “fill_holes”?"),
        (("quantities", "quantites"), "did you mean “quantities”?"),
        (('"steps"', '"qqq"'), "is not known here."),
    ],
)
def test_a_wrong_name_in_a_method_gets_the_nearest_right_one(
    change: tuple[str, str], said: str, tmp_path: Path
) -> None:
    good = tmp_path / "good.json"
    Method(name="m", steps=(step_use("b", "background.mesh"),), outlines=(ClassDefinition(),)).save(
        good
    )
    bad = tmp_path / "bad.json"
    bad.write_text(good.read_text().replace(*change, 1))
    found = rilievo("method", "check", good, bad, status=1)
    assert f"{good}: “m”, 1 steps, regions cell" in found.stdout
    assert said in found.stderr
    rilievo("method", "check", good)
