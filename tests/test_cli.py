"""The command line, run as a person does."""

from __future__ import annotations

import contextlib
import io
import json
import os
import pty
import signal
import subprocess
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pandas
import pytest

from rilievo._version import __version__
from rilievo.cli import main
from rilievo.core.method.method import Method, step_use
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import save_study
from tests.outlines import outline

METHOD = Method(outlines=(outline(200.0),))


class Said(NamedTuple):
    """What a run printed."""

    stdout: str
    stderr: str


def rilievo(*arguments: object, status: int = 0) -> Said:
    """Run the command line in this process; only signals and kills need one of their own."""
    out, err = io.StringIO(), io.StringIO()
    with (
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        pytest.raises(SystemExit) as ended,
    ):
        main([str(argument) for argument in arguments])
    assert (ended.value.code or 0) == status, err.getvalue()
    return Said(out.getvalue(), err.getvalue())


@pytest.fixture
def method_file(tmp_path: Path) -> Path:
    METHOD.save(tmp_path / "m.json")
    return tmp_path / "m.json"


def test_version_and_help() -> None:
    # As a process of its own, in which a warning is an error.
    order = [sys.executable, "-W", "error", "-m", "rilievo", "--version"]
    said = subprocess.run(order, capture_output=True, text=True, check=True)
    assert (said.stdout.strip(), said.stderr) == (__version__, "")
    assert "demo" in rilievo("--help").stdout


def test_run_writes_everything_and_says_where(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    write_tiff("in/a-1.tif", blobs)
    write_tiff("in/b-1.tif", blobs + 1)
    groups = tmp_path / "groups.csv"
    groups.write_text("file,group\na-1.tif,mine\n")
    out = tmp_path / "out"
    order = ["run", method_file, tmp_path / "in", "--out", out, "--groups", groups]
    refused = rilievo(*order, status=3)
    assert "no row names b-1.tif" in refused.stderr
    assert not out.exists()
    assert "2 of 2 samples" in rilievo(*order, "--unmatched").stdout
    table = pandas.read_csv(out / "regions.csv")
    assert list(table.columns[:6]) == ["sample", "file", "group", "channel", "region", "class"]
    assert table["group"].unique().tolist() == ["mine", "b"]
    assert table["mean"].tolist()[:3] == [300, 500, 900]
    assert pandas.read_csv(out / "samples.csv")["region_count"].tolist() == [3, 3]
    assert (out / "report.html").exists()


def test_the_report_can_be_left_out_or_be_another_file(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    image, out = write_tiff("a.tif", blobs), tmp_path / "out"
    rilievo("run", method_file, image, "--out", out, "--no-report")
    assert (out / "regions.csv").is_file()
    assert not (out / "report.html").exists()
    page = tmp_path / "page.pdf"
    rilievo("run", method_file, image, "--out", out, "--report", page)
    assert page.read_bytes().startswith(b"%PDF")
    assert not (out / "report.html").exists()
    said = rilievo("run", method_file, image, "--out", out, "--report", "page.doc", status=2)
    assert "must end in .html or .pdf" in said.stderr


def test_very_many_samples_are_written_in_parts_and_it_is_said(
    tmp_path: Path,
    method_file: Path,
    write_tiff: Callable[..., Path],
    blobs: np.ndarray,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("rilievo.core.report.large_outputs.LARGE", 1)
    images, out = [write_tiff(f"{k}.tif", blobs) for k in range(3)], tmp_path / "out"
    said = rilievo("run", method_file, *images, "--out", out, "--table", "xlsx").stderr
    assert "Of 3 samples the regions are written as CSV and as a folder of Parquet files" in said
    assert (out / "regions.parquet").is_dir()
    assert not (out / "regions.xlsx").exists()


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
    rilievo("info", tmp_path / "none.tif", status=4)


@pytest.mark.slow
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


def test_a_run_goes_on_where_it_was_and_says_so(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    for k in (1, 2):
        write_tiff(f"in/a-{k}.tif", blobs + k)
    out, folder = tmp_path / "out", tmp_path / "in"
    dry = rilievo("run", method_file, folder, "--out", out, "--dry-run")
    assert "2 of 2 samples would be measured" in dry.stdout
    assert "a-1\ta\tto measure" in dry.stdout
    assert not out.exists()
    first = rilievo("run", method_file, folder, "--out", out)
    assert "1 of 2  a-1: 3 regions" in first.stderr
    write_tiff("in/a-3.tif", blobs)
    (folder / "bad.tif").write_text("text")
    events = [
        json.loads(line)
        for line in rilievo(
            "run", method_file, folder, "--out", out, "--json-lines", status=1
        ).stdout.splitlines()
    ]
    assert events[0] == {"event": "begin", "samples": 4}
    assert {e["sample"]: e["status"] for e in events if e["event"] == "sample"} == {
        "a-1": "unchanged", "a-2": "unchanged", "a-3": "measured", "bad": "failed",
    }  # fmt: skip
    end = events[-1]
    assert (end["event"], end["measured"], end["failed"], end["regions"]) == ("end", 3, 1, 9)
    dry = rilievo("run", method_file, folder, "--out", out, "--dry-run", "--json-lines")
    states = [json.loads(line)["status"] for line in dry.stdout.splitlines()]
    assert states == ["unchanged", "unchanged", "unchanged", "to measure"]


@pytest.mark.slow
def test_attributes_from_the_groups_file_can_be_compared_by(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    write_tiff("in/a-1.tif", blobs)
    write_tiff("in/a-2.tif", blobs + 5)
    groups = tmp_path / "groups.csv"
    groups.write_text("file,group,dose\na-1.tif,low,1\na-2.tif,high,2\n")
    out = tmp_path / "out"
    rilievo("run", method_file, tmp_path / "in", "--out", out, "--groups", groups, "--jobs", 2)
    assert pandas.read_csv(out / "regions.csv")["group"].unique().tolist() == ["low", "high"]
    assert "× low" in (out / "report.html").read_text(encoding="utf-8")


def test_a_cluster_that_is_not_there_is_wrong_usage(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    image = write_tiff("in/a-1.tif", blobs)
    said = rilievo(
        "run", method_file, image, "--out", tmp_path / "o", "--scheduler", "nonsense", status=2
    ).stderr
    assert "“nonsense” is no address of a scheduler; it looks like tcp://host:8786" in said
    assert "Traceback" not in said


@pytest.mark.slow
def test_a_watched_folder_until_it_is_interrupted(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    write_tiff("in/a-1.tif", blobs)
    (tmp_path / "g.csv").write_text("file,group\na-1.tif,a\n")
    order = ["run", method_file, tmp_path / "in", "--out", tmp_path / "out", "--watch",
             "--groups", tmp_path / "g.csv"]  # fmt: skip
    # Ctrl+C is heard also where whoever runs the tests has it ignored.
    code = (
        "import runpy, signal; signal.signal(signal.SIGINT, signal.default_int_handler); "
        "runpy.run_module('rilievo', run_name='__main__')"
    )
    with subprocess.Popen(
        [sys.executable, "-c", code, *map(str, order), "--json-lines"],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    ) as process:  # fmt: skip
        assert process.stdout is not None
        ends = 0
        for line in process.stdout:
            event = json.loads(line)
            if event["event"] == "end":
                ends += 1
                if ends == 1:
                    write_tiff("in/a-2.tif", blobs)
                    before = (tmp_path / "out" / "report.html").stat().st_mtime_ns
                else:
                    # The new one alone was measured, and is in the tables already.
                    assert event["measured"] == 1
                    rows = pandas.read_csv(tmp_path / "out" / "regions.csv")
                    assert list(dict.fromkeys(rows["sample"])) == ["a-1", "a-2"]
                    assert (tmp_path / "out" / "report.html").stat().st_mtime_ns == before
                    break
        process.send_signal(signal.SIGINT)
        _, said = process.communicate(timeout=60)
    assert process.returncode == 130
    assert "Stopped; what was measured is kept" in said
    assert said.count("no row names a-2.tif") == 1
    assert (tmp_path / "out" / "report.html").stat().st_mtime_ns > before
    assert pandas.read_csv(tmp_path / "out" / "regions.csv")["sample"].nunique() == 2


@pytest.mark.slow
def test_a_terminal_has_a_bar(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    image = write_tiff("in/a-1.tif", blobs)
    ours, theirs = pty.openpty()
    order = ["run", method_file, image, "--out", tmp_path / "out"]
    with subprocess.Popen(
        [sys.executable, "-m", "rilievo", *map(str, order)], stdout=subprocess.DEVNULL,
        stderr=theirs, stdin=theirs, env={**os.environ, "TERM": "xterm", "COLUMNS": "100"},
    ) as process:  # fmt: skip
        os.close(theirs)
        said = b""
        with contextlib.suppress(OSError):
            while part := os.read(ours, 4096):
                said += part
    os.close(ours)
    assert process.returncode == 0
    assert b"Measuring" in said
    assert b"1/1" in said


def test_report_and_pack_of_a_study(
    tmp_path: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    paths = [write_tiff(f"in/{g}-{n}.tif", blobs + n) for g in "ab" for n in (1, 2)]
    study = tmp_path / "my.rilievo"
    save_study(replace(StudyState(name="Mine"), method=METHOD).with_files(paths), study)
    for name in ("a.html", "b.html"):
        rilievo("report", study, "--out", tmp_path / name, "--date", "", "--title", "All of it")
    page = (tmp_path / "a.html").read_text()
    assert "<h1>All of it</h1>" in page
    assert page == (tmp_path / "b.html").read_text()
    packed = rilievo("pack", study, "--out", tmp_path / "over").stdout
    assert "4 samples" in packed
    for path in paths:
        path.unlink()
    said = rilievo("report", study, "--out", tmp_path / "c.html", status=4).stderr
    assert "not measured: “a-1.tif”" in said
    rilievo("report", tmp_path / "over.rilievo.zip", "--out", tmp_path / "d.html", "--date", "",
            "--title", "All of it", "--without", "pictures")  # fmt: skip
    assert "data:image/png" not in (tmp_path / "d.html").read_text()
    wrong = rilievo("report", study, "--out", tmp_path / "c.doc", status=2).stderr
    assert "must end in .html or .pdf" in wrong
    wrong = rilievo("report", study, "--out", tmp_path / "c.html", "--without", "x", status=2)
    assert "names no section 'x'" in wrong.stderr


def test_a_read_only_folder_is_a_sentence(
    tmp_path: Path, method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    image = write_tiff("in/a-1.tif", blobs)
    (tmp_path / "file").write_text("x")
    said = rilievo("run", method_file, image, "--out", tmp_path / "file" / "o", status=2).stderr
    assert "cannot be written" in said
    assert "Traceback" not in said


@pytest.mark.slow
@pytest.mark.parametrize("name", ["nights", "swatches"])
def test_the_other_demos_end_with_a_report_beside_the_truth(name: str, tmp_path: Path) -> None:
    said = rilievo("demo", name, "--dir", tmp_path, "--headless").stdout
    page = (tmp_path / name / "results" / "report.html").read_text()
    assert "Beside what was put in" in page
    if name == "swatches":
        lives = {line.split()[0]: line.split() for line in said.splitlines() if "±" in line}
        for bath, true in (("bath-1", 21), ("bath-2", 17), ("bath-3", 26)):
            assert float(lives[bath][2]) == pytest.approx(true, rel=0.01)
            assert lives[bath][2] in page
    else:
        rows = [line.split() for line in said.splitlines() if line.startswith("night-")]
        assert len(rows) == 8
        assert max(abs(float(row[4])) for row in rows) < 4
        assert "fwhm" in page


def test_names_join_files_into_samples(
    method_file: Path, write_tiff: Callable[..., Path], blobs: np.ndarray, tmp_path: Path
) -> None:
    for group in ("ctrl", "salt"):
        for channel in ("dapi", "gfp"):
            write_tiff(f"in/{group}_d2_1_{channel}.tif", blobs)
    folder = tmp_path / "in"
    out = tmp_path / "out"
    # Without a pattern each file is a sample, and it says what it sees.
    said = rilievo("run", method_file, folder, "--out", out, "--dry-run")
    assert "--names '{sample}_d2_1_{channel}'" in said.stderr
    assert "4 of 4 samples" in said.stdout
    pattern = "{group}_d{day#}_{replicate#}_{channel}"
    said = rilievo("run", method_file, folder, "--out", out, "--names", pattern)
    assert "2 of 2 samples measured" in said.stdout and "--names" not in said.stderr
    table = pandas.read_csv(out / "regions.csv")
    assert set(table["channel"]) == {"dapi", "gfp"}
    assert set(table["group"]) == {"ctrl", "salt"} and set(table["day"]) == {2}
    for wrong, word in (("{a", "partner"), ("{group}_{replicate#}", "does not fit")):
        said = rilievo("run", method_file, folder, "--out", out, "--names", wrong, status=2)
        assert word in said.stderr
    said = rilievo(
        "run", method_file, folder, "--out", out, "--names", pattern, "--watch", status=2
    )
    assert "without --watch" in said.stderr


def test_planes_of_a_stack_are_samples_or_one_projection(
    tmp_path: Path, write_tiff: Callable[..., Path], method_file: Path
) -> None:
    planes = np.zeros((3, 4, 32, 32), np.uint16)
    for time in range(3):
        for z in range(4):
            planes[time, z, 8:16, 8:16] = 300 + 100 * time + 10 * z
    path = write_tiff("s.ome.tif", planes, metadata={"axes": "TZYX", "TimeIncrement": 2.0})
    each = tmp_path / "each"
    rilievo("run", method_file, path, "--out", each, "--planes", "each", "--no-report")
    table = pandas.read_csv(each / "regions.csv")
    assert len(table) == 12
    places = zip(table["time"], table["z"], strict=True)
    assert table["mean"].tolist() == [300 + 100 * (t - 1) + 10 * (z - 1) for t, z in places]
    assert set(table["time (s)"]) == {0, 2, 4} and set(table["stack"]) == {"s"}
    made = tmp_path / "max"
    rilievo("run", method_file, path, "--out", made, "--planes", "max of z", "--no-report")
    assert pandas.read_csv(made / "regions.csv")["mean"].tolist() == [330, 430, 530]
    for wrong, word in (("max of y", "max of z"), ("max of z 3-5", "planes 1 to 4")):
        said = rilievo("run", method_file, path, "--out", made, "--planes", wrong, status=2)
        assert word in said.stderr
    said = rilievo("run", method_file, path, "--out", made, "--planes", "z", "--watch", status=2)
    assert "do not go together" in said.stderr
    assert json.loads(rilievo("info", path, "--json").stdout)[0]["planes"]["depth"] == 4
    assert ", 4 depths × 3 times" in rilievo("info", path).stdout
