"""A package from elsewhere adds one of each kind; the package is the one that the docs print."""

from __future__ import annotations

import ast
import json
import os
import re
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pytest
import tifffile

from rilievo._version import __version__

pytestmark = pytest.mark.slow

PAGE = Path(__file__).parent.parent / "docs" / "extending.md"


def printed_files() -> dict[str, str]:
    """The files of the page, by the name in their first line, exactly as printed."""
    blocks = re.findall(r"```(?:python|toml)\n# (\S+)\n(.*?)```", PAGE.read_text("utf-8"), re.S)
    return {name: f"# {name}\n{text}" for name, text in blocks}


def install(files: dict[str, str], folder: Path) -> None:
    """Put a package where Python finds it, with what an installer writes beside it."""
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    project = tomllib.loads(files["pyproject.toml"])["project"]
    info = folder / f"{project['name'].replace('-', '_')}-{project['version']}.dist-info"
    info.mkdir()
    (info / "METADATA").write_text(
        f"Metadata-Version: 2.1\nName: {project['name']}\nVersion: {project['version']}\n"
    )
    points = [
        f"[{group}]\n" + "".join(f"{key} = {value}\n" for key, value in entries.items())
        for group, entries in project["entry-points"].items()
    ]
    (info / "entry_points.txt").write_text("\n".join(points))


def python(folder: Path, *arguments: object, status: int = 0) -> subprocess.CompletedProcess[str]:
    environment = {
        **os.environ, "PYTHONPATH": os.pathsep.join([str(folder), *sys.path]),
        "QT_QPA_PLATFORM": "offscreen",
    }  # fmt: skip
    result = subprocess.run(
        [sys.executable, "-W", "error", *map(str, arguments)],
        capture_output=True, text=True, check=False, env=environment,
    )  # fmt: skip
    assert result.returncode == status, result.stderr
    return result


@pytest.fixture(scope="module")
def extras(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the package of the page installed."""
    folder = tmp_path_factory.mktemp("elsewhere")
    install(printed_files(), folder)
    return folder


def test_the_page_is_complete() -> None:
    files = printed_files()
    groups = tomllib.loads(files["pyproject.toml"])["project"]["entry-points"]
    named = {value for entries in groups.values() for value in entries.values()}
    assert len(groups) == len(named) == 7
    modules = {name.removesuffix(".py").replace("/", ".") for name in files if "extras/" in name}
    assert modules == named
    for name, text in files.items():
        if name.endswith(".py"):
            ast.parse(text)


_LISTED = """
import json
from rilievo.core.signal.steps import STEPS
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.cleaning import CLEANERS
from rilievo.core.measure import QUANTITIES
from rilievo.core.compare.plots import PLOTS
from rilievo.core.files import READERS
from rilievo.core.table.writers import WRITERS
from rilievo.core.registry import left_out
print(json.dumps({
    "listed": [[key, list(registry)[-1], registry.provider(key).package,
                registry.provider(key).version, len(registry.provider(key).content)]
               for registry, key in (
                   (STEPS, "extras.scale"), (THRESHOLDS, "extras.mean"),
                   (CLEANERS, "extras.largest"), (QUANTITIES, "extras_range"),
                   (PLOTS, "extras.strip"), (READERS, "extras.grid"), (WRITERS, "extras.tsv"))
               if key in registry],
    "own": STEPS.provider("arithmetic.number").package, "left_out": left_out()}))
"""


def test_every_kind_is_listed_last_and_known_by_its_package(extras: Path) -> None:
    found = json.loads(python(extras, "-c", _LISTED).stdout)
    assert [key for key, *_ in found["listed"]] == [
        "extras.scale", "extras.mean", "extras.largest", "extras_range", "extras.strip",
        "extras.grid", "extras.tsv",
    ]  # fmt: skip
    for key, last, package, version, digits in found["listed"]:
        assert (last, package, version, digits) == (key, "rilievo-extras", "1.0", 64)
    assert found["own"] == "rilievo"
    assert found["left_out"] == []


_FORMS = """
from PyQt6.QtWidgets import QApplication
application = QApplication([])
from rilievo.core.cleaning import CLEANERS
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.signal.steps import STEPS
from rilievo.ui.widgets.form import ParameterForm
from rilievo.ui.stages.compare.shown_card import ShownCard
for entry in (STEPS["extras.scale"], THRESHOLDS["extras.mean"], CLEANERS["extras.largest"]):
    print(entry.key, sorted(ParameterForm(entry.parameters).fields))
print(ShownCard().kind.button("extras.strip").text())
from rilievo.ui.shell.window import Window
window = Window()
window.commands.study.asks_before_leaving = False
window.session.go_to("outline")
level = window.views.outline.level
print("threshold" , level.way.findData("extras.mean") >= 0)
window.views.correct.chooser.fill("scale")
rows = window.views.correct.chooser.list
print("step", any(rows.item(i).text().startswith("Scale") for i in range(rows.count())))
quantities = window.views.measure.quantities
quantities.search.setText("largest minus")
texts = [quantities.list.item(i).text() for i in range(quantities.list.count())]
print("quantity", [text.split(" (")[0] for text in texts])
window.close()
"""


def test_forms_and_lists_of_the_window_have_them(extras: Path) -> None:
    lines = python(extras, "-c", _FORMS).stdout.splitlines()
    assert lines == [
        "extras.scale ['factor']",
        "extras.mean ['factor']",
        "extras.largest []",
        "Strip",
        "threshold True",
        "step True",
        "quantity ['Intensity', 'Range']",
    ]


METHOD: dict[str, Any] = {
    "format": "rilievo-method",
    "version": 5,
    "steps": [{"id": "s", "step": "extras.scale", "parameters": {"factor": 2.0}}],
    "outlines": [
        {
            "region_class": "thing",
            "threshold": {"way": "extras.mean", "parameters": {"factor": 1.5}},
            "clean": [{"cleaner": "extras.largest", "parameters": {}}],
        }
    ],
    "measure": {"quantities": ["area", "mean", "extras_range"]},
}

_STUDY = """
import sys
from dataclasses import replace
from pathlib import Path
from rilievo.core.compare import Question
from rilievo.core.method.method import Method
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
folder = Path(sys.argv[1])
state = replace(StudyState(name="Extras"), method=Method.load(folder / "m.json"))
state = state.with_files(sorted((folder / "in").iterdir()))
question = Question(shown_as="extras.strip")
state = replace(state, question=question,
                report=state.report.model_copy(update={"questions": (question,)}))
save_study(state, folder / "s.rilievo")
print(load_study(folder / "s.rilievo")[0].question.shown_as)
"""


def test_a_method_file_a_run_and_a_report_use_them(extras: Path, tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    pixels = np.full((30, 40), 100, np.uint16)
    pixels[5:15, 5:15], pixels[20:25, 20:25] = 400, 900
    pixels[6, 6] = 410
    tifffile.imwrite(tmp_path / "in" / "a-1.tif", pixels)
    grid = "GRID\n" + "\n".join(" ".join(map(str, row)) for row in pixels.tolist())
    (tmp_path / "in" / "b-1.grid").write_text(grid)
    (tmp_path / "m.json").write_text(json.dumps(METHOD))
    out = tmp_path / "out"
    python(extras, "-m", "rilievo", "run", tmp_path / "m.json", tmp_path / "in", "--out", out,
           "--table", "tsv")  # fmt: skip
    table = pandas.read_csv(out / "regions.tsv", sep="\t")
    # The text grid has the same pixels as the TIFF; of two regions the larger one is kept.
    assert table["sample"].tolist() == ["a-1", "b-1"]
    assert table["area"].tolist() == [100, 100]
    assert table["mean"].tolist() == pytest.approx([2 * 400.1] * 2)
    assert table["extras_range"].tolist() == [20, 20]
    assert (out / "regions.metadata.json").exists()
    again = json.loads((out / "method.json").read_text())
    assert again["steps"][0]["parameters"] == {"factor": 2.0}
    page = (out / "report.html").read_text(encoding="utf-8")
    assert "Values were multiplied by 2." in page
    assert "1.5 times the mean of the signal" in page
    assert "only the largest region was kept" in page
    assert "largest minus smallest signal" in page
    assert python(extras, "-c", _STUDY, tmp_path).stdout.strip() == "extras.strip"
    python(extras, "-m", "rilievo", "report", tmp_path / "s.rilievo", "--out",
           tmp_path / "r.html")  # fmt: skip
    assert "<svg" in (tmp_path / "r.html").read_text(encoding="utf-8")
    # Without the package, the same method names what is missing.
    alone = tmp_path / "alone"
    alone.mkdir()
    said = python(
        alone, "-m", "rilievo", "run", tmp_path / "m.json", tmp_path / "in", "--out", out, status=2
    ).stderr
    assert "extras.scale" in said
    assert "Traceback" not in said


def test_reference_pages_have_them(extras: Path) -> None:
    docs = PAGE.parent
    pages = python(
        extras, "-c",
        f"import sys; sys.path.insert(0, {str(docs)!r}); import make_reference as m\n"
        "print('\\n'.join(make() for make in m.PAGES.values()))",
    ).stdout  # fmt: skip
    for text in (
        "`extras.scale` – Scale", "what each pixel is multiplied by", "Mean (`extras.mean`)",
        "Largest only (`extras.largest`)", "`extras_range`", "`extras.strip`", "`extras.grid`",
        "`extras.tsv`",
    ):  # fmt: skip
        assert text in pages, text


def test_the_test_that_the_page_prints_passes(extras: Path) -> None:
    python(extras, "-m", "pytest", "-q", "-p", "no:cacheprovider", extras / "tests")


@pytest.mark.parametrize(
    ("broken", "reason"),
    [
        ("import no_such_module\n", "ModuleNotFoundError"),
        ("raise RuntimeError('half installed')\n", "RuntimeError: half installed"),
        (
            "from rilievo.core.regions.thresholds.by_hand import HandThreshold\n"
            "from rilievo.core.regions.thresholds.threshold import threshold\n"
            "for key in ('extras.new', 'hand'):\n"
            "    threshold(key, title='x', parameters=HandThreshold, automatic=False)(len)\n",
            "registered twice",
        ),
    ],
)
def test_a_package_that_fails_is_left_out_with_a_sentence(
    broken: str, reason: str, tmp_path: Path
) -> None:
    files = {**printed_files(), "rilievo_extras/mean_level.py": broken}
    install(files, tmp_path)
    found = json.loads(python(tmp_path, "-c", _LISTED).stdout)
    assert "extras.mean" not in [key for key, *_ in found["listed"]]
    assert len(found["listed"]) == 6
    (sentence,) = found["left_out"]
    assert "threshold “mean” of the package “rilievo-extras” is left out" in sentence
    assert reason in sentence
    version = python(tmp_path, "-m", "rilievo", "--version")
    assert version.stdout == f"{__version__}\n"
    image = tmp_path / "a.tif"
    tifffile.imwrite(image, np.zeros((3, 3), np.uint8))
    keys = python(
        tmp_path, "-c", "from rilievo.core.regions.thresholds import THRESHOLDS as t; print(*t)"
    ).stdout
    assert "extras.new" not in keys
    assert "hand" in keys
    (tmp_path / "m.json").write_text(
        json.dumps({**METHOD, "outlines": [{}], "steps": [], "measure": {}})
    )
    run = python(
        tmp_path, "-m", "rilievo", "run", tmp_path / "m.json", image, "--out", tmp_path / "o",
        "--dry-run",
    )  # fmt: skip
    assert run.stderr.count("is left out") == 1
    assert "Traceback" not in run.stderr


_WHOSE = """
import json
from rilievo.core.signal.steps import STEPS
from rilievo.core.measure import QUANTITIES
from rilievo.core.registry import left_out
print(json.dumps({"mean": QUANTITIES.provider("mean").package, "keys": list(QUANTITIES),
                  "steps": list(STEPS), "left_out": left_out()}))
"""


def test_what_a_package_imports_stays_rilievos_own(tmp_path: Path) -> None:
    files = printed_files()
    scale = files["rilievo_extras/scale.py"] + "\nfrom rilievo.core.measure import QUANTITIES\n"
    install({**files, "rilievo_extras/scale.py": scale}, tmp_path)
    found = json.loads(python(tmp_path, "-c", _WHOSE).stdout)
    assert found["left_out"] == []
    assert "extras.scale" in found["steps"]
    assert found["mean"] == "rilievo"


def test_what_fails_leaves_nothing_in_other_lists(tmp_path: Path) -> None:
    files = printed_files()
    broken = files["rilievo_extras/value_range.py"] + "\nraise RuntimeError('half installed')\n"
    del files["rilievo_extras/value_range.py"]
    without = files["pyproject.toml"].replace(
        '[project.entry-points."rilievo.quantities"]\nrange = "rilievo_extras.value_range"\n', ""
    )
    files |= {"rilievo_extras/scale.py": broken, "pyproject.toml": without}
    install(files, tmp_path)
    found = json.loads(python(tmp_path, "-c", _WHOSE).stdout)
    (sentence,) = found["left_out"]
    assert "half installed" in sentence
    assert "extras_range" not in found["keys"]
    assert "mean" in found["keys"]
    assert found["mean"] == "rilievo"
