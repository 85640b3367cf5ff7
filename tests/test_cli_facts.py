"""Groups tables of `rilievo run`, and outputs that stay when nothing was measured."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo.cli.sample_sheet import match_rows, read_sample_sheet
from rilievo.core.errors import FileError
from rilievo.core.files.sample_ref import samples_for
from tests.outlines import outline
from tests.test_cli import METHOD, rilievo


@pytest.fixture
def folder(tmp_path: Path, write_tiff: Callable[..., Path], blobs: np.ndarray) -> Path:
    for group in ("ctrl", "drug"):
        write_tiff(f"in/{group}/img1.tif", blobs)
    METHOD.save(tmp_path / "m.json")
    return tmp_path


def test_files_of_one_name_keep_their_folders(folder: Path) -> None:
    rilievo("run", folder / "m.json", folder / "in", "--out", folder / "out")
    table = pandas.read_csv(folder / "out" / "regions.csv")
    assert table["file"].unique().tolist() == ["ctrl/img1.tif", "drug/img1.tif"]
    assert table["group"].unique().tolist() == ["ctrl", "drug"]
    checks = pandas.read_csv(folder / "out" / "checks.csv")
    assert set(checks["file"]) <= {"ctrl/img1.tif", "drug/img1.tif"}


def test_a_row_fits_the_path_and_never_two_files(folder: Path) -> None:
    table = folder / "g.csv"
    table.write_text("file,group,dose\nctrl/img1.tif,c,0\ndrug/img1.tif,d,5\n")
    out = folder / "out"
    rilievo("run", folder / "m.json", folder / "in", "--out", out, "--groups", table)
    found = pandas.read_csv(out / "regions.csv")
    assert found.groupby("file")["group"].first().to_dict() == {
        "ctrl/img1.tif": "c", "drug/img1.tif": "d",
    }  # fmt: skip
    for name in ("regions.csv", "samples.csv"):
        frame = pandas.read_csv(out / name)
        assert frame.groupby("file")["dose"].first().to_dict() == {
            "ctrl/img1.tif": 0, "drug/img1.tif": 5,
        }  # fmt: skip
    table.write_text("file,group\nimg1.tif,c\ngone.tif,d\n")
    said = rilievo(
        "run", folder / "m.json", folder / "in", "--out", out, "--groups", table, status=3
    )
    assert "fits several files (ctrl/img1.tif, drug/img1.tif)" in said.stderr
    assert "no file fits the row “gone.tif”" in said.stderr
    assert "no row names ctrl/img1.tif, drug/img1.tif" in said.stderr


def test_a_row_may_name_file_or_sample(tmp_path: Path) -> None:
    items = samples_for([tmp_path / "low-1.tif", tmp_path / "low-2.tif"])
    given = {"low-1.tif": {"file": "", "group": "x"}, "low-2": {"file": "", "group": "y", "d": "3"}}
    found, said = match_rows(items, given)
    assert [item.group for item in found] == ["x", "y"]
    assert found[1].all_attributes == {"replicate": "2", "d": "3"}
    assert not said
    (tmp_path / "twice.csv").write_text("file,group\na,1\na,2\n")
    with pytest.raises(FileError, match="names “a” twice"):
        read_sample_sheet(tmp_path / "twice.csv")


def test_a_mistyped_path_leaves_the_tables_that_were_there(folder: Path) -> None:
    out = folder / "out"
    rilievo("run", folder / "m.json", folder / "in", "--out", out)
    before = {p.name: p.read_bytes() for p in out.iterdir() if ".sqlite" not in p.name}
    said = rilievo("run", folder / "m.json", folder / "in" / "no.tif", "--out", out, status=4)
    assert "stay as they were" in said.stderr
    assert "not measured: no.tif: " in said.stderr
    assert "0 of 1 samples measured" in said.stdout
    assert "regions.csv" not in said.stdout
    assert {p.name: p.read_bytes() for p in out.iterdir() if ".sqlite" not in p.name} == before


def test_words_of_names_are_never_recased(
    tmp_path: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    paths = [write_tiff(f"{name}-{k}.tif", blobs) for name in ("GFP", "pH7.4") for k in (1, 2)]
    assert [item.group for item in samples_for(paths)] == ["GFP", "GFP", "pH7.4", "pH7.4"]


def test_designs_are_asked_for(
    tmp_path: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    rows = ["file,group,day,animal"]
    for group, factor in (("ctrl", 1.0), ("drug", 1.4)):
        for animal in (1, 2):
            for day in (1, 2):
                name = f"{group}-{animal}{day}.tif"
                level = factor * (1 + 0.05 * animal + 0.01 * day)
                write_tiff(f"in/{name}", (blobs * level).astype(np.uint16))
                rows.append(f"{name},{group},{day},{animal}")
    METHOD.save(tmp_path / "m.json")
    (tmp_path / "g.csv").write_text("\n".join(rows) + "\n")
    order = ["run", tmp_path / "m.json", tmp_path / "in", "--out", tmp_path / "out",
             "--groups", tmp_path / "g.csv"]  # fmt: skip
    rilievo(*order, "--reference", "drug", "--factor", "day", "--bootstrap")
    terms = pandas.read_csv(tmp_path / "out" / "terms.csv")
    assert terms["term"].unique().tolist() == ["group", "day", "group × day"]
    tests = pandas.read_csv(tmp_path / "out" / "tests.csv")
    assert set(tests["first"]) == {"drug"}
    rilievo(*order, "--within", "animal", "--unit", "animal", "--modelled", "--numbered-anew")
    parts = pandas.read_csv(tmp_path / "out" / "variation.csv")
    assert parts["level"].unique().tolist() == ["animal", "sample", "region"]
    assert (pandas.read_csv(tmp_path / "out" / "groups.csv")["samples"] == 2).all()
    said = rilievo(*order, "--reference", "durg", status=2)
    assert "no sample is of the group “durg”; the groups are ctrl, drug" in said.stderr
    said = rilievo(*order, "--modelled", status=2)
    assert "--modelled needs" in said.stderr


def test_choices_and_an_agreed_method(
    tmp_path: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    for group, factor in (("a", 1.0), ("b", 1.3)):
        for k in range(2):
            values = (blobs * factor * (1 + 0.02 * k)).astype(np.uint16)
            write_tiff(f"in/{group}/{k}.tif", values)
    METHOD.save(tmp_path / "agreed.json")
    METHOD.changed(steps=()).save(tmp_path / "m.json")
    out = tmp_path / "out"
    order = ["run", tmp_path / "m.json", tmp_path / "in", "--out", out]
    rilievo(*order, "--agreed", tmp_path / "agreed.json")
    report = (out / "report.html").read_text()
    assert "The method agreed beforehand" in report
    rilievo(*order, "--choices")
    choices = pandas.read_csv(out / "choices.csv")
    assert "Tested by ranks" in set(choices["choice"])
    assert "What would change the answer" in (out / "report.html").read_text()
    verified = rilievo("verify", out)
    assert "Everything is the same." in verified.stdout
    write_tiff("in/a/0.tif", blobs + 9)
    changed = rilievo("verify", out, status=1)
    assert "has changed since it was measured" in changed.stdout
    assert "no study.rilievo" in rilievo("verify", tmp_path, status=2).stderr


def test_two_methods_of_one_set_agree(
    tmp_path: Path, write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    for k in range(3):
        write_tiff(f"in/{k}.tif", (blobs * (1 + 0.1 * k)).astype(np.uint16))
    METHOD.save(tmp_path / "a.json")
    METHOD.save(tmp_path / "b.json")
    said = rilievo(
        "agree", tmp_path / "a.json", tmp_path / "b.json", tmp_path / "in", "--out", tmp_path / "o"
    )
    assert "score 1.00, mean overlap 1.00" in said.stdout
    assert (tmp_path / "o" / "pairs.csv").is_file()
    said = rilievo("agree", tmp_path / "a.json", tmp_path / "b.json", status=2)
    assert "name the images too" in said.stderr


def test_the_light_of_a_folder_is_a_frame(tmp_path: Path, write_tiff: Callable[..., Path]) -> None:
    rng = np.random.default_rng(1)
    x = np.linspace(-1, 1, 80)
    truth = np.broadcast_to(1 - 0.3 * x**2, (60, 80))
    for k in range(8):
        values = 100 + truth * (400 + 20 * k) + rng.normal(0, 3, truth.shape)
        write_tiff(f"in/{k}.tif", values.astype(np.uint16))
    (tmp_path / "in" / "bad.tif").write_text("no image")
    said = rilievo("light", tmp_path / "in", "--out", tmp_path / "flat.tif", "--dark", "100")
    assert "From 8 pictures" in said.stdout
    assert "left out: bad" in said.stderr
    import tifffile  # noqa: PLC0415

    flat = tifffile.imread(tmp_path / "flat.tif")
    assert np.abs(flat / (truth / truth.mean()) - 1).max() < 0.01
    said = rilievo("light", tmp_path / "in" / "0.tif", "--out", tmp_path / "f.tif", status=2)
    assert "4 pictures at least" in said.stderr


def test_camera_and_errors_of_numbers(tmp_path: Path, write_tiff: Callable[..., Path]) -> None:
    rng = np.random.default_rng(1)

    def frame(name: str, light: np.ndarray | float) -> Path:
        electrons = rng.poisson(np.broadcast_to(light, (60, 80)) * 2.0) + rng.normal(0, 6, (60, 80))
        return write_tiff(name, np.rint(100 + electrons / 2.0).astype(np.uint16))

    flats = [frame(f"f{k}.tif", level) for k, level in enumerate([300, 300, 900, 900, 2000, 2000])]
    darks = [frame(f"d{k}.tif", 0) for k in range(2)]
    curve = tmp_path / "curve.svg"
    said = rilievo("camera", *flats, "--dark", darks[0], "--dark", darks[1], "--out", curve)
    assert "electrons a count" in said.stdout
    assert curve.read_text().startswith("<?xml")
    assert (
        "pairs have one level"
        in rilievo(
            "camera", flats[0], flats[2], "--dark", darks[0], "--dark", darks[1], status=2
        ).stderr
    )
    light = np.full((60, 80), 100.0)
    light[20:40, 20:40] = 700.0
    frame("in/s.tif", light)
    METHOD.changed(steps=(), outlines=(outline(500.0),)).save(tmp_path / "m.json")
    order = ["run", tmp_path / "m.json", tmp_path / "in", "--out", tmp_path / "out", "--errors"]
    assert "gain of the camera" in rilievo(*order).stderr
    rilievo(*order, "--gain", "2", "--read-noise", "6", "--dark-level", "100")
    errors = pandas.read_csv(tmp_path / "out" / "errors.csv")
    mean = errors[errors["quantity"] == "mean"].iloc[0]
    # 400 pixels of 700 counts above the dark: √((700/2 + 9)/400).
    assert mean["error"] == pytest.approx(np.sqrt((700 / 2 + 9) / 400), rel=0.4)
