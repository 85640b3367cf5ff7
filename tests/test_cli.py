"""The command line, run as a person does."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo._version import __version__
from rilievo.core.method import Method, step_use
from tests.outlines import outline

METHOD = Method(outlines=(outline(200.0),))


def rilievo(*arguments: object, status: int = 0) -> subprocess.CompletedProcess[str]:
    result = subprocess.run(
        [sys.executable, "-W", "error", "-m", "rilievo", *map(str, arguments)],
        capture_output=True,
        text=True,
        check=False,
    )
    assert result.returncode == status, result.stderr
    return result


@pytest.fixture
def method_file(tmp_path: Path) -> Path:
    METHOD.save(tmp_path / "m.json")
    return tmp_path / "m.json"


def test_version_and_help() -> None:
    assert rilievo("--version").stdout.strip() == __version__
    assert "demo" in rilievo("--help").stdout


def test_run_writes_everything_and_says_where(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    write_tiff("in/a-1.tif", blobs)
    write_tiff("in/b-1.tif", blobs + 1)
    groups = tmp_path / "groups.csv"
    groups.write_text("file,group\na-1.tif,mine\n")
    out = tmp_path / "out"
    said = rilievo("run", method_file, tmp_path / "in", "--out", out, "--groups", groups).stdout
    assert "2 of 2 samples" in said
    table = pandas.read_csv(out / "regions.csv")
    assert list(table.columns[:6]) == ["sample", "file", "group", "channel", "region", "class"]
    assert table["group"].unique().tolist() == ["mine", "B"]
    assert table["mean"].tolist()[:3] == [300, 500, 900]
    assert pandas.read_csv(out / "samples.csv")["region_count"].tolist() == [3, 3]
    assert (out / "report.html").exists()


def test_a_failing_image_gives_status_one_and_the_rest_is_measured(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    good = write_tiff("good.tif", blobs)
    bad = tmp_path / "bad.tif"
    bad.write_text("text")
    result = rilievo("run", method_file, good, bad, "--out", tmp_path / "out", status=1)
    assert "bad.tif" in result.stderr
    assert pandas.read_csv(tmp_path / "out" / "regions.csv")["sample"].unique().tolist() == ["good"]
    assert "bad.tif" in (tmp_path / "out" / "checks.csv").read_text()


def test_wrong_usage_gives_status_two(tmp_path: Path, method_file: Path) -> None:
    (tmp_path / "empty").mkdir()
    broken = tmp_path / "broken.json"
    broken.write_text('{"format": "rilievo-method", "version": 1, "oops": 1}')
    said = rilievo("run", broken, tmp_path, "--out", tmp_path / "o", status=2).stderr
    assert "broken.json" in said
    assert "oops" in said
    rilievo("run", method_file, tmp_path / "empty", "--out", tmp_path / "o", status=2)
    rilievo("run", method_file, status=2)
    rilievo("demo", "nothing", status=2)
    (tmp_path / "file").write_text("x")
    said = rilievo("demo", "lipid", "--dir", tmp_path / "file", "--headless", status=2).stderr
    assert "cannot be written" in said
    assert "Traceback" not in said


def test_info_as_json(write_tiff: Callable[..., Path], blobs: np.ndarray, tmp_path: Path) -> None:
    path = write_tiff("a.tif", blobs)
    (facts,) = json.loads(rilievo("info", path, "--json").stdout)
    assert (facts["width"], facts["height"], facts["dtype"]) == (80, 60, "uint16")
    (channel,) = facts["channels"]
    assert channel["name"] == "gray"
    assert channel["mean"] == pytest.approx(blobs.mean())
    assert channel["pixel_count"] == blobs.size
    assert facts["pixel_size"] is None
    assert [check["kind"] for check in facts["checks"]] == ["few levels"]
    undefined = write_tiff("n.tif", np.full((2, 2), np.nan, np.float32))
    (facts,) = json.loads(rilievo("info", undefined, "--json").stdout)
    assert facts["channels"][0]["mean"] is None
    assert facts["checks"][0]["kind"] == "undefined pixels"
    rilievo("info", tmp_path / "none.tif", status=1)


def test_headless_demo_prints_how_near_it_came(tmp_path: Path) -> None:
    said = rilievo("demo", "lipid", "--dir", tmp_path, "--headless").stdout
    rows = {line.split()[0]: line.split() for line in said.splitlines() if "%" in line}
    assert set(rows) == {"replete", "low-nitrogen", "starved"}
    for row in rows.values():
        assert abs(float(row[5])) < 3
    assert (tmp_path / "lipid" / "lipid.rilievo").exists()
    assert (tmp_path / "lipid" / "results" / "report.html").exists()
    # A second call over the same folder writes the same bits.
    before = (tmp_path / "lipid" / "results" / "regions.csv").read_bytes()
    rilievo("demo", "lipid", "--dir", tmp_path, "--headless")
    assert (tmp_path / "lipid" / "results" / "regions.csv").read_bytes() == before


def test_a_run_reads_picks_in_derived_channels(
    write_tiff: Callable[..., Path], tmp_path: Path
) -> None:
    """What is derived and picked in the window is so without it: both belong to the method."""
    pixels = np.zeros((40, 50, 3), np.uint8)
    pixels[10:30, 10:40] = (200, 90, 30)
    path = write_tiff("wool.tif", pixels, photometric="rgb")
    method = {
        "format": "rilievo-method",
        "version": 2,
        "reading": {
            "derived": [
                {
                    "name": "madder",
                    "terms": [
                        {"channel": "red"},
                        {"channel": "green", "weight": -0.5},
                        {"channel": "blue", "weight": -0.5},
                    ],
                }
            ]
        },
        "outline": {"channel": "madder"},
        "picks": [{"number": 1, "x": 20, "y": 20, "size": 5, "form": "disc", "specimen": "wool"}],
    }
    (tmp_path / "method.json").write_text(json.dumps(method))
    rilievo("run", tmp_path / "method.json", path, "--out", tmp_path / "out")
    regions = pandas.read_csv(tmp_path / "out" / "regions.csv")
    found = regions[regions["channel"] == "madder"]
    assert (found["mean"].tolist(), found["area"].tolist()) == ([140.0], [600.0])
    picks = pandas.read_csv(tmp_path / "out" / "picks.csv").set_index("channel")
    assert picks.loc["madder", "mean"] == 140
    assert picks.loc["madder", "pixel_count"] == 21
    specimens = pandas.read_csv(tmp_path / "out" / "specimens.csv")
    assert set(specimens["specimen"]) == {"wool"}
    checks = pandas.read_csv(tmp_path / "out" / "checks.csv")
    assert set(checks["severity"]) <= {"note", "caution", "serious"}


def test_run_finds_frames_beside_the_method_and_marks_what_is_not_linear(
    tmp_path: Path,
    write_tiff: Callable[..., Path],
    blobs: np.ndarray,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    dark = write_tiff("method/frames/dark.tif", np.full(blobs.shape, 60, np.uint16))
    method = METHOD.changed(
        steps=(
            step_use("d", "frames.dark", dark={"files": [{"file": str(dark)}]}),
            step_use("p", "curve.power", exponent=1),
        )
    )
    method.save(tmp_path / "method" / "m.json")
    assert '"frames/dark.tif"' in (tmp_path / "method" / "m.json").read_text()
    (tmp_path / "method").rename(tmp_path / "moved")
    image = write_tiff("in/a-1.tif", blobs)
    bad = write_tiff("in/b-1.tif", blobs[:9, :9])
    monkeypatch.chdir(tmp_path / "in")
    out = tmp_path / "out"
    said = rilievo("run", tmp_path / "moved" / "m.json", image, bad, "--out", out, status=1)
    assert "“dark.tif” is 80×60 pixels, but sample “b-1” is 9×9" in said.stderr
    table = pandas.read_csv(out / "regions.csv")
    assert table["mean"].tolist() == pytest.approx([240, 440, 840])
    assert table["native_mean"].tolist() == [300, 500, 900]
    assert {text.split("; ")[0] for text in table["marks"]} == {"not linear"}
    kept = Method.load(out / "method.json").steps[0].parameters.model_dump()
    assert kept["dark"]["files"][0]["file"] == str(tmp_path / "moved/frames/dark.tif")


def test_run_writes_further_tables(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    image = write_tiff("in/a-1.tif", blobs)
    out = tmp_path / "out"
    rilievo("run", method_file, image, "--out", out, "--table", "xlsx", "--table", "json", "--wide")
    wide = pandas.read_excel(out / "regions.xlsx")
    assert wide["gray: mean"].tolist() == [300, 500, 900]
    rows = json.loads((out / "regions.json").read_text("utf-8"))["rows"]
    assert [row["gray: mean"] for row in rows] == [300, 500, 900]
    wrong = rilievo("run", method_file, image, "--out", out, "--table", "doc", status=2)
    assert "“doc” is no kind of table; use csv, xlsx, json, parquet" in wrong.stderr
