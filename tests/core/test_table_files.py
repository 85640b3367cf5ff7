"""Tables as files, with their metadata; where a number comes from."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import openpyxl
import pandas as pd
import pytest

from rilievo.core.errors import FileUnreadable
from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.measure import QUANTITIES
from rilievo.core.method.class_definition import Outline, hand_threshold
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.origin import origin_of
from rilievo.core.pipeline.provenance import metadata_of, method_checksum
from rilievo.core.table.derived_columns import DerivedColumn, with_derived
from rilievo.core.table.table import RegionTable, region_frame
from rilievo.core.table.table_files import FORMATS, wide, write_table

NOW = datetime(2031, 5, 6, 7, 8, 9, tzinfo=UTC)


def study() -> tuple[Sample, Method, RegionTable]:
    values = np.full((30, 40), 100, np.uint16)
    values[5:10, 5:12] = 500
    values[20:24, 20:30] = 900
    values[20, 20] = 901
    sample = Sample(
        "=1+1",
        {"a": plane_from_native(values), "b": plane_from_native(values // 2)},
        path=Path("folder/field.tif"),
    )
    method = Method(
        steps=(
            step_use("bg", "background.level", level=90),
            step_use("double", "arithmetic.number", operation="multiply", number=2),
        ),
        outlines=(Outline(threshold=hand_threshold(300)),),
        measure=Measure(quantities=("mean", "sd", "cv", "pixel_count", "sum", "area")),
    )
    return sample, method, Evaluator().measure(sample, method, "dose +")


def metadata() -> dict:
    _, method, table = study()
    return metadata_of([table], method, {"=1+1": "abc"}, NOW)


def read(path: Path) -> pd.DataFrame:
    if path.suffix == ".csv":
        return pd.read_csv(path)
    if path.suffix == ".xlsx":
        return pd.read_excel(path, sheet_name="measurements")
    if path.suffix == ".json":
        return pd.DataFrame(json.loads(path.read_text("utf-8"))["rows"])
    return pd.read_parquet(path)


@pytest.mark.parametrize("suffix", FORMATS)
def test_every_format_gives_the_numbers_back(suffix: str, tmp_path: Path) -> None:
    frame = region_frame([study()[2]])
    frame.loc[0, "sd"] = np.nan
    path = tmp_path / f"table{suffix}"
    written = write_table(frame, path, metadata())
    found = read(path)
    for name in ("mean", "sd", "cv", "sum", "pixel_count", "region"):
        given = found[name].to_numpy(np.float64)
        np.testing.assert_allclose(given, frame[name].to_numpy(np.float64), rtol=1e-14)
    # What a spreadsheet would run is neutralised where a spreadsheet opens it.
    shown = "'=1+1" if suffix in (".csv", ".xlsx") else "=1+1"
    assert set(found["sample"]) == {shown}
    assert len(written) == (2 if FORMATS[suffix].beside else 1)


def test_metadata_says_how_and_from_what(tmp_path: Path) -> None:
    _, method, table = study()
    found = metadata()
    assert found["method_checksum"] == method_checksum(method)
    assert found["files"] == [{"sample": "=1+1", "file": "field.tif", "sha256": "abc"}]
    assert found["date"] == "2031-05-06T07:08:09+00:00"
    mean = next(column for column in found["columns"] if column["key"] == "mean")
    assert (mean["unit"], mean["formula"]) == ("counts", "Σ v / n")
    assert "saturated inside" in found["marks"]
    write_table(region_frame([table]), tmp_path / "t.csv", found)
    beside = json.loads((tmp_path / "t.metadata.json").read_text("utf-8"))
    assert beside == found
    write_table(region_frame([table]), tmp_path / "t.xlsx", found)
    book = openpyxl.load_workbook(tmp_path / "t.xlsx")
    assert book.sheetnames == ["measurements", "metadata", "columns", "files", "marks"]
    cells = [cell for row in book["files"].iter_rows() for cell in row]
    assert not any(cell.data_type == "f" for cell in cells)
    assert {cell.value for cell in cells} >= {"'=1+1", "abc"}


def test_a_heading_is_no_formula_either(tmp_path: Path) -> None:
    frame = pd.DataFrame({"=cmd": [1.0], "plain": ["@sum"]})
    write_table(frame, tmp_path / "t.csv", {})
    assert (tmp_path / "t.csv").read_text("utf-8") == "'=cmd,plain\n1.0,'@sum\n"


def test_wide_has_a_row_per_region() -> None:
    table = study()[2]
    frame = wide(region_frame([table]))
    assert len(frame) == 2
    np.testing.assert_array_equal(frame["a: mean"], table.column("a", "mean"))
    np.testing.assert_array_equal(frame["b: sum"], table.column("b", "sum"))
    assert frame["region"].tolist() == [1, 2]
    assert "channel" not in frame.columns


def test_what_cannot_be_written_says_why(tmp_path: Path) -> None:
    frame = region_frame([study()[2]])
    with pytest.raises(FileUnreadable, match=r"use \.csv, \.xlsx"):
        write_table(frame, tmp_path / "table.doc", {})
    with pytest.raises(FileUnreadable, match="choose a folder you may write to"):
        write_table(frame, tmp_path / "nowhere" / "table.parquet", {})
    long = pd.DataFrame({"x": np.zeros(1_048_576)})
    with pytest.raises(FileUnreadable, match="more than a sheet holds"):
        write_table(long, tmp_path / "long.xlsx", {})
    assert list(tmp_path.iterdir()) == []


# -- origin


def test_where_a_number_comes_from() -> None:
    sample, method, table = study()
    evaluator = Evaluator()
    origin = origin_of(evaluator, sample, method, table, 2, "a", "mean", "abc")
    assert origin.value == table.column("a", "mean")[1]
    assert origin.x.size == 40
    assert (origin.x.min(), origin.x.max()) == (20, 29)
    assert (origin.y.min(), origin.y.max()) == (20, 23)
    assert sorted(set(origin.native.tolist())) == [900, 901]
    assert sorted(set(origin.signal.tolist())) == [1620, 1622]
    before_after = [(step.before, step.after) for step in origin.steps]
    assert before_after == [
        (pytest.approx(900.025), pytest.approx(810.025)),
        (pytest.approx(810.025), pytest.approx(1620.05)),
    ]
    assert origin.checksum == "abc"
    text = origin.text()
    for part in ("Mean of cell 2, a: 1620.05 counts", "folder/field.tif", "Σ v / n", "20\t20\t901"):
        assert part in text
    assert origin.formula == "64802 / 40"


@pytest.mark.parametrize("key", [key for key in QUANTITIES if QUANTITIES[key].family != "star"])
def test_every_quantity_has_an_origin(key: str) -> None:
    sample, method, _ = study()
    method = method.changed(measure=Measure(quantities=(key,)))
    evaluator = Evaluator()
    table = evaluator.measure(sample, method)
    origin = origin_of(evaluator, sample, method, table, 1, "b", key)
    np.testing.assert_equal(origin.value, table.column("b", key)[0])
    assert QUANTITIES[key].title in origin.text()


@pytest.mark.parametrize(
    ("key", "formula"),
    [
        # h is the number of holes and S the solidity elsewhere, not in these.
        ("p05", "v₍ₖ₎ + (h − k)·(v₍ₖ₊₁₎ − v₍ₖ₎), h = 0.05·(35 − 1), k = ⌊h⌋"),
        ("saturated_count", "n(w ≥ S)"),
        ("cv", "0 / 820"),
        ("native_mean", "17500 / 35"),
        ("euler", "1 − 0"),
        ("solidity", "35 / 35"),
    ],
)
def test_symbols_are_put_in_where_they_mean_that(key: str, formula: str) -> None:
    sample, method, _ = study()
    method = method.changed(measure=Measure(quantities=(key,)))
    evaluator = Evaluator()
    table = evaluator.measure(sample, method)
    assert origin_of(evaluator, sample, method, table, 1, "a", key).formula == formula


def test_the_origin_of_a_derived_column_puts_its_columns_in() -> None:
    sample, method, table = study()
    made = with_derived([table], [DerivedColumn(name="ratio", formula="sum / area")])[0]
    origin = origin_of(Evaluator(), sample, method, made, 1, "a", "ratio")
    assert origin.value == 820
    assert origin.formula == "28700 / 35"
    assert origin.unit == "counts/px²"


def test_pixels_are_followed_through_steps_that_move_them() -> None:
    values = np.arange(600, dtype=np.float32).reshape(20, 30)
    sample = Sample("s", {"gray": Plane(values)})
    method = Method(
        steps=(
            step_use("plus", "arithmetic.number", operation="add", number=1000),
            step_use("turn", "geometry.turn", quarters=1),
        ),
        outlines=(Outline(threshold=hand_threshold(1590), clean=()),),
        measure=Measure(quantities=("mean",)),
    )
    evaluator = Evaluator()
    table = evaluator.measure(sample, method)
    origin = origin_of(evaluator, sample, method, table, int(table.ids[0]), "gray", "mean")
    kept = values[values + 1000 > 1590]
    assert sorted(origin.native.tolist()) == kept.tolist()
    assert origin.steps[0].before == pytest.approx(kept.mean())
    assert origin.steps[0].after == pytest.approx(kept.mean() + 1000)
    assert origin.steps[1].after == pytest.approx(kept.mean() + 1000)
