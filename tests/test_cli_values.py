"""`rilievo run` of studies and with values that are typed, `rilievo new`, and what is listed."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest
import tifffile

from rilievo.cli.overrides import MethodOptions
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.method import Method, step_use
from rilievo.core.signal.steps import STEPS
from rilievo.core.study.blinding import blinded
from rilievo.core.study.study_file import load_study, save_study
from tests.outlines import outline
from tests.test_cli import rilievo

METHOD = Method(steps=(step_use("half", "arithmetic.number"),), outlines=(outline(200.0),))


@pytest.fixture
def method_file(tmp_path: Path) -> Path:
    METHOD.save(tmp_path / "m.json")
    return tmp_path / "m.json"


@pytest.fixture
def image(write_tiff: Callable[..., Path], blobs: np.ndarray) -> Path:
    return write_tiff("in/a_1.tif", blobs)


def test_values_on_the_command_line_stand_in_place_of_the_method_s(
    tmp_path: Path, method_file: Path, image: Path
) -> None:
    out = tmp_path / "out"
    order = ["run", method_file, image, "-o", out, "--no-report"]
    rilievo(*order)
    plain = pandas.read_csv(out / "regions.csv")
    rilievo(
        *order, "--set", "half.number=2", "--columns", "pixel_count,area_unit,mean",
        "--pixel-size", "0.5um", "--saturation", "500",
    )  # fmt: skip
    changed = pandas.read_csv(out / "regions.csv")
    assert changed["mean"].tolist() == [2 * value for value in plain["mean"]]
    assert "sum" not in changed and "sum" in plain
    assert changed["area_unit"].tolist() == [0.25 * pixels for pixels in plain["pixel_count"]]
    refused = rilievo(*order, "--set", "half.numbre=2", status=2).stderr
    assert "did you mean “number”?" in refused
    assert "did you mean “mean”?" in rilievo(*order, "--columns", "meen", status=2).stderr
    assert "write it as 0.65um" in rilievo(*order, "--pixel-size", "small", status=2).stderr
    assert "greater than 0" in rilievo(*order, "--pixel-size", "-1um", status=2).stderr


@pytest.mark.parametrize(
    ("text", "sides", "unit"),
    [
        ("0.65um", (0.65, None), "µm"),
        (" 1e-3 mm ", (0.001, None), "mm"),
        ("120nm", (120.0, None), "nm"),
        (".5x.4um", (0.5, 0.4), "µm"),
        ("2 × 3arcsec", (2.0, 3.0), "arcsec"),
    ],
)
def test_pixel_sizes_as_they_are_typed(
    text: str, sides: tuple[float, float | None], unit: str
) -> None:
    found = MethodOptions(pixel_size=text).overrides()
    assert ((found.pixel_size, found.pixel_height), found.unit) == (sides, unit)


def test_channels_that_are_measured(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    colour = write_tiff("c.tif", np.stack([blobs, blobs, blobs], axis=2).astype(np.uint8))
    out = tmp_path / "out"
    order = ["run", method_file, colour, "--out", out, "--no-report", "--set", "cell.level=50"]
    rilievo(*order, "--channels", "red, blue")
    assert set(pandas.read_csv(out / "regions.csv")["channel"]) == {"red", "blue"}


def test_regions_on_standard_output(tmp_path: Path, method_file: Path, image: Path) -> None:
    said = rilievo("run", method_file, image, "--out", "-")
    table = pandas.read_csv(io.StringIO(said.stdout))
    assert table["mean"].tolist() == [300, 500, 900]
    assert "1 of 1 samples measured, 3 regions" in said.stderr
    assert sorted(path.name for path in tmp_path.iterdir()) == ["in", "m.json"]
    refused = rilievo("run", method_file, image, "--out", "-", "--labels", status=2)
    assert "goes with no other output" in refused.stderr


def test_label_images_hold_the_regions_of_the_table(
    tmp_path: Path, method_file: Path, image: Path
) -> None:
    out = tmp_path / "out"
    rilievo("run", method_file, image, "--out", out, "--no-report", "--labels")
    labels = tifffile.imread(out / "labels" / "cell" / "a_1.tif")
    table = pandas.read_csv(out / "regions.csv")
    counted = [int((labels == region).sum()) for region in table["region"]]
    assert counted == table["pixel_count"].tolist()
    # Of another level they are written anew, also where the numbers are known already.
    other = ["run", method_file, image, "--out", out, "--no-report", "--set", "cell.level=400"]
    rilievo(*other)
    rilievo(*other, "--labels")
    higher = tifffile.imread(out / "labels" / "cell" / "a_1.tif")
    assert 0 < (higher > 0).sum() < (labels > 0).sum()
    rilievo("run", method_file, image, "--out", out, "--no-report", "--labels", "--jobs", "2")
    assert np.array_equal(tifffile.imread(out / "labels" / "cell" / "a_1.tif"), labels)
    # They are a class of another method.
    other = tmp_path / "other.json"
    source = {"source": "label_image", "label_image": {"file": "out/labels/cell/{sample}.tif"}}
    other.write_text(
        json.dumps(
            {"format": "rilievo-method", "version": 6, "outlines": [{**source, "clean": []}]}
        )
    )
    rilievo("run", other, image, "--out", tmp_path / "again", "--no-report")
    again = pandas.read_csv(tmp_path / "again" / "regions.csv")
    assert again["mean"].tolist() == table["mean"].tolist()


def test_quiet_verbose_and_a_log(tmp_path: Path, method_file: Path, image: Path) -> None:
    bad = tmp_path / "in" / "bad.tif"
    bad.write_text("no image")
    order = ["run", method_file, image, bad, "--no-report"]
    said = rilievo(*order, "--out", tmp_path / "1", "--quiet", status=1)
    assert said.stdout == ""
    assert [line.partition(":")[0] for line in said.stderr.splitlines()] == ["not measured"]
    log = tmp_path / "run.log"
    loud = [sys.executable, "-m", "rilievo", *order, "--out", tmp_path / "2", "-v", "--log", log]
    found = subprocess.run(list(map(str, loud)), capture_output=True, text=True, check=False)
    assert found.returncode == 1
    assert "a_1.tif: 3 regions in" in found.stderr
    assert "bad.tif was not measured" in log.read_text()
    # Each sample has one line of progress, and why one failed is said once.
    plain = rilievo(*order, "--out", tmp_path / "3", status=1).stderr
    assert len([line for line in plain.splitlines() if " of 2  " in line]) == 2
    assert plain.count("does not contain an image") == 1


def test_how_it_ends_can_be_told_apart(tmp_path: Path, method_file: Path, image: Path) -> None:
    bad = tmp_path / "bad.tif"
    bad.write_text("no image")
    out = tmp_path / "out"
    rilievo("run", method_file, image, "--out", out)
    rilievo("run", method_file, image, bad, "--out", out, status=1)
    rilievo("run", method_file, "--out", out, status=2)
    rilievo("run", method_file, bad, "--out", out, status=4)
    rilievo("info", bad, status=4)
    rilievo("info", bad, image, status=1)


def test_a_new_study_is_made_measured_and_opens(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    for name in ("fed_1", "fed_2", "starved_1"):
        write_tiff(f"in/{name}.tif", blobs)
    study = tmp_path / "one.rilievo"
    order = [
        "new", tmp_path / "in", "--method", method_file, "--names", "{group}_{replicate#}",
        "--pixel-size", "0.5x0.4um", "--set", "cell.level=250", "-o", study,
    ]  # fmt: skip
    assert "3 samples in 2 groups" in rilievo(*order).stdout
    state = load_study(study).state
    assert [(e.group, e.replicate) for e in state.samples] == [
        ("fed", "1"), ("fed", "2"), ("starved", "1"),
    ]  # fmt: skip
    assert {(e.overrides.pixel_size, e.overrides.pixel_height) for e in state.samples} == {
        (0.5, 0.4)
    }
    assert state.method.outlines[0].threshold.parameters.model_dump()["level"] == 250
    assert "is there already" in rilievo(*order, status=2).stderr
    rilievo(*order, "--force")
    rilievo("run", study, "--out", tmp_path / "out")
    table = pandas.read_csv(tmp_path / "out" / "regions.csv")
    assert table["area_unit"].tolist() == [0.2 * pixels for pixels in table["pixel_count"]]
    assert len(table) == 9
    # Images beside it stand in place of its own.
    rilievo("run", study, tmp_path / "in" / "fed_1.tif", "--out", tmp_path / "two")
    assert len(pandas.read_csv(tmp_path / "two" / "regions.csv")) == 3
    assert "must end in .rilievo" in rilievo("new", tmp_path, "-o", "x.db", status=2).stderr


def test_what_there_is_can_be_listed() -> None:
    assert [line.split("\t")[0] for line in rilievo("quantities").stdout.splitlines()] == list(
        QUANTITIES
    )
    assert [line.split("\t")[0] for line in rilievo("steps").stdout.splitlines()] == list(STEPS)
    values = rilievo("method", "values", "Uneven fluorescence").stdout
    assert "measure.quantities=[" in values
    schema = json.loads(rilievo("method", "schema").stdout)
    assert schema["properties"]["format"] == {
        "const": "rilievo-method", "description": "what kind of file it is",
    }  # fmt: skip


def test_a_shell_completes_commands_and_options(tmp_path: Path) -> None:
    script = rilievo("completion", "bash").stdout
    assert "_RILIEVO_COMPLETE=complete_bash" in script
    asked = {**os.environ, "_RILIEVO_COMPLETE": "complete_bash", "COMP_CWORD": "1"}
    order = [sys.executable, "-m", "rilievo"]

    def completed(words: str, position: int) -> list[str]:
        state = {**asked, "COMP_WORDS": words, "COMP_CWORD": str(position)}
        found = subprocess.run(order, env=state, capture_output=True, text=True, check=True)
        return found.stdout.split()

    assert completed("rilievo ver", 1) == ["verify"]
    assert "--saturation" in completed("rilievo run --sat", 2)
    assert "no shell that is known" in rilievo("completion", "csh", status=2).stderr


def test_a_blinded_study_gives_nothing_away(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    for name in ("fed_1", "starved_1"):
        write_tiff(f"in/{name}.tif", blobs)
    study = tmp_path / "one.rilievo"
    rilievo("new", tmp_path / "in", "--method", method_file, "-o", study)
    save_study(blinded(load_study(study)[0]), study)
    out = tmp_path / "out"
    assert "is blinded" in rilievo("run", study, "-o", out, status=2).stderr
    assert "is blinded" in rilievo("report", study, "-o", tmp_path / "r.html", status=2).stderr
    assert not out.exists()
