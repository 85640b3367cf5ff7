"""What a run and a study leave behind of Measure: tables, light curves, marks, older files."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from rilievo.core.batch import measured
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.report.outputs import FilesWanted, write_outputs
from rilievo.core.report.page import Contents
from rilievo.core.table.compartments import Pair
from rilievo.core.table.derived_columns import DerivedColumn
from rilievo.core.table.number_reference import find_reference
from rilievo.core.table.writers import WRITERS
from tests.core.helpers.measuring import run_batch
from tests.core.helpers.outputs_of_measure import star_method, two_classes
from tests.stars import moffat_star


@pytest.mark.parametrize("suffix", [one.suffix for one in WRITERS.values() if one.key != "csv"])
def test_further_formats_have_the_same_numbers(
    images: list[Path], tmp_path: Path, suffix: str
) -> None:
    method = two_classes()
    out = tmp_path / "out"
    write_outputs(
        Contents(run_batch(samples_for(images), method), method), out, FilesWanted(formats=[suffix])
    )
    plain = pd.read_csv(out / "regions.csv")
    path = out / f"regions{suffix}"
    if suffix == ".json":
        other = pd.DataFrame(json.loads(path.read_text("utf-8"))["rows"])
    else:
        other = {".xlsx": pd.read_excel, ".parquet": pd.read_parquet}[suffix](path)
    np.testing.assert_allclose(other["mean"].astype(float), plain["mean"])
    assert other["class"].tolist() == plain["class"].tolist()
    metadata = json.loads((out / "regions.metadata.json").read_text("utf-8"))
    assert [file["file"] for file in metadata["files"]] == ["a-1.tif", "b-1.tif"]
    assert all(re.fullmatch("[0-9a-f]{64}", file["sha256"]) for file in metadata["files"])


def test_derived_columns_are_in_files_and_report(images: list[Path], tmp_path: Path) -> None:
    method = two_classes(
        derived=(DerivedColumn(name="density", formula="sum / area"),),
        pairs=(Pair(inner="core", outer="cell"),),
    )
    outcomes = run_batch(samples_for(images), method)
    write_outputs(Contents(outcomes, method), tmp_path / "out")
    table = pd.read_csv(tmp_path / "out" / "regions.csv")
    np.testing.assert_allclose(table["density"], table["sum"] / table["area"])
    assert table["core/cell share"].notna().any()
    metadata = json.loads((tmp_path / "out" / "regions.metadata.json").read_text("utf-8"))
    columns = {column["key"]: column for column in metadata["columns"]}
    assert columns["density"]["unit"] == "counts/px²"
    assert columns["density"]["formula"] == "sum / area"
    assert columns["core/cell share"]["unit"] == ""
    report = (tmp_path / "out" / "report.html").read_text("utf-8")
    names = re.findall(r'<td class="t">(a-1 / [^<]+)</td>', report)
    assert names
    # The window finds what the report names.
    for name in names:
        found = find_reference(name, measured(outcomes))
        assert not isinstance(found, str)


def star_images(write_tiff: Callable[..., Path], dates: bool) -> list[Path]:
    rng = np.random.default_rng(3)
    positions = [(40 * i + 35.3, 40 * j + 30.8) for i in range(5) for j in range(4)]
    light = rng.uniform(3e4, 9e4, len(positions))
    paths = []
    for night in range(3):
        frame = rng.normal(400, 4, (190, 230))
        for k, (x, y) in enumerate(positions):
            flux = light[k] * (1.5**night if k == 7 else 1.0)
            frame += moffat_star((190, 230), x + night, y, flux, 3.0, fine=3)
        when = datetime(2031, 2, 3) + timedelta(days=3 * (2 - night))
        extra = {"datetime": when.strftime("%Y:%m:%d %H:%M:%S")} if dates else {}
        paths.append(write_tiff(f"stars/night-{night}.tif", frame.astype(np.uint16), **extra))
    return paths


@pytest.mark.slow
def test_light_curves_are_written_for_stars(
    write_tiff: Callable[..., Path], tmp_path: Path
) -> None:
    paths = star_images(write_tiff, dates=False)
    outcomes = run_batch(samples_for(paths), star_method())
    write_outputs(Contents(outcomes, star_method()), tmp_path / "out")
    curves = pd.read_csv(tmp_path / "out" / "light-curves.csv")
    assert len(curves) == 20 * 3
    varying = curves[curves["variable"]]
    assert varying["star"].nunique() == 1
    magnitudes = varying.sort_values("days")["magnitude_difference"].to_numpy()
    assert magnitudes[0] - magnitudes[2] == pytest.approx(2.5 * np.log10(1.5**2), abs=0.02)
    samples = pd.read_csv(tmp_path / "out" / "samples.csv")
    assert samples["stars_used"].tolist() == [20, 20, 20]
    assert samples["fwhm_median"].to_numpy() == pytest.approx(3.0, rel=0.05)
    assert "flux" in (tmp_path / "out" / "report.html").read_text("utf-8")


def test_one_picture_has_no_light_curve(write_tiff: Callable[..., Path], tmp_path: Path) -> None:
    paths = star_images(write_tiff, dates=False)[:1]
    write_outputs(
        Contents(run_batch(samples_for(paths), star_method()), star_method()), tmp_path / "out"
    )
    assert not (tmp_path / "out" / "light-curves.csv").exists()
