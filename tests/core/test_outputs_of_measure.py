"""What a run and a study leave behind of Measure: tables, light curves, marks, older files."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from rilievo.core.batch import items_for, measured, run_batch
from rilievo.core.errors import MethodError
from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import Outline, hand_threshold
from rilievo.core.method.method import VERSION, Measure, Method, step_use
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.kernel_warmup import warm_up_regions, warm_up_stars
from rilievo.core.report.outputs import write_outputs
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from rilievo.core.table.compartments import Pair
from rilievo.core.table.derived_columns import DerivedColumn
from rilievo.core.table.number_reference import find_reference
from rilievo.core.table.table_files import FORMATS
from tests.outlines import outline
from tests.stars import moffat_star

QUANTITIES = ("mean", "sum", "area", "pixel_count")


def two_classes(**measure: object) -> Method:
    return Method(
        outlines=(
            Outline(region_class="cell", threshold=hand_threshold(200), clean=()),
            Outline(region_class="core", threshold=hand_threshold(600), clean=()),
        ),
        measure=Measure.model_validate({"quantities": QUANTITIES, **measure}),
    )


@pytest.fixture
def images(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Path]:
    return [write_tiff(f"in/{name}-1.tif", blobs + k) for k, name in enumerate("ab")]


@pytest.mark.parametrize("suffix", [s for s in FORMATS if s != ".csv"])
def test_further_formats_have_the_same_numbers(
    images: list[Path], tmp_path: Path, suffix: str
) -> None:
    method = two_classes()
    out = tmp_path / "out"
    write_outputs(run_batch(items_for(images), method), method, out, formats=[suffix])
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
    outcomes = run_batch(items_for(images), method)
    write_outputs(outcomes, method, tmp_path / "out")
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
    places = [(40 * i + 35.3, 40 * j + 30.8) for i in range(5) for j in range(4)]
    light = rng.uniform(3e4, 9e4, len(places))
    paths = []
    for night in range(3):
        frame = rng.normal(400, 4, (190, 230))
        for k, (x, y) in enumerate(places):
            flux = light[k] * (1.5**night if k == 7 else 1.0)
            frame += moffat_star((190, 230), x + night, y, flux, 3.0, fine=3)
        when = datetime(2031, 2, 3) + timedelta(days=3 * (2 - night))
        extra = {"datetime": when.strftime("%Y:%m:%d %H:%M:%S")} if dates else {}
        paths.append(write_tiff(f"stars/night-{night}.tif", frame.astype(np.uint16), **extra))
    return paths


def star_method() -> Method:
    star = Outline(region_class="star", source="stars", star=StarUse(radius=6))
    keys = ("flux", "flux_error", "star_x", "star_y", "fwhm", "ellipticity", "star_orientation")
    return Method(outlines=(star,), measure=Measure(quantities=keys))


def test_light_curves_are_written_for_stars(
    write_tiff: Callable[..., Path], tmp_path: Path
) -> None:
    paths = star_images(write_tiff, dates=False)
    outcomes = run_batch(items_for(paths), star_method())
    write_outputs(outcomes, star_method(), tmp_path / "out")
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
    write_outputs(run_batch(items_for(paths), star_method()), star_method(), tmp_path / "out")
    assert not (tmp_path / "out" / "light-curves.csv").exists()


# -- methods


def test_a_method_keeps_all_of_measure() -> None:
    method = two_classes(
        derived=(DerivedColumn(name="mine", formula='mean / mean("control")', unit="a.u."),),
        pairs=(Pair(inner="core", outer="cell", quantity="sum"),),
        ring_gap=1.5,
        ring_width=8.0,
    ).changed(steps=(step_use("c", "curve.calibrate", points=[{"intensity": 1, "value": 2}]),))
    assert Method.from_json(method.to_json()) == method
    stars = star_method()
    assert Method.from_json(stars.to_json()).outline.star.radius == 6


def test_methods_of_before_are_read() -> None:
    old = json.loads(Method().to_json())
    assert old["version"] == VERSION
    old["version"] = 4
    for key in ("pairs", "derived", "ring_gap", "ring_width"):
        del old["measure"][key]
    for one in old["outlines"]:
        del one["star"]
    assert Method.from_json(json.dumps(old)) == Method()


@pytest.mark.parametrize(
    ("measure", "said"),
    [
        ({"derived": [{"name": "a", "formula": "mean +"}]}, "cannot be read at character"),
        ({"derived": [{"name": "a", "formula": "1"}] * 2}, "name is taken"),
        ({"pairs": [{"inner": "a", "outer": "a"}]}, "two different classes"),
        ({"quantities": ["p100"]}, "unknown quantity 'p100'"),
        ({"ring_width": 0}, "greater than 0"),
    ],
)
def test_what_is_wrong_in_a_method_is_named(measure: dict, said: str) -> None:
    data = json.loads(Method().to_json())
    data["measure"] |= measure
    with pytest.raises(MethodError, match=said):
        Method.from_json(json.dumps(data))


def test_a_derived_column_does_not_make_measurements_out_of_date() -> None:
    plain = two_classes()
    with_column = two_classes(derived=(DerivedColumn(name="mine", formula="mean"),))
    assert plain.of_regions == with_column.of_regions
    with_pair = two_classes(pairs=(Pair(inner="core", outer="cell"),))
    assert plain.of_regions != with_pair.of_regions


# -- studies


def test_marks_units_and_pairs_come_back_with_a_study(images: list[Path], tmp_path: Path) -> None:
    method = two_classes(pairs=(Pair(inner="core", outer="cell"),)).changed(
        steps=(
            step_use(
                "c", "curve.calibrate", unit="mg",
                points=[{"intensity": 0, "value": 0}, {"intensity": 10, "value": 10}],
            ),
        )
    )  # fmt: skip
    state = replace(StudyState().with_files(images), method=method)
    entry = state.samples[0]
    evaluator = Evaluator()
    sample = evaluator.file(entry.path).renamed(entry.name)
    table = evaluator.measure(sample, method, entry.group)
    save_study(state, tmp_path / "s.rilievo", {entry.id: table})
    _, tables = load_study(tmp_path / "s.rilievo")
    again = tables[entry.id]
    assert again.units == {"gray": "mg"} == table.units
    assert again.heading("mean") == "Mean (mg)"
    assert again.image_shape == table.image_shape == (60, 80)
    np.testing.assert_array_equal(again.flags["gray"], table.flags["gray"])
    assert again.quantities == table.quantities
    assert again.quantity("core/cell share").family == "pair"
    assert again.marks_of("gray", 0) == table.marks_of("gray", 0)


def test_loops_are_built_beforehand() -> None:
    warm_up_regions()
    warm_up_stars()


def test_touching_the_edge_is_marked_beside_few_pixels() -> None:
    values = np.zeros((12, 12), np.float32)
    values[0, 0:3] = 9
    table = Evaluator().measure(Sample("s", {"g": Plane(values)}), Method(outlines=(outline(5),)))
    assert table.marks_of("g", 0) == ("touches the edge", "few pixels")
    assert table.marks_of("elsewhere", 0) == ()
