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
from rilievo.core.pipeline.provenance import metadata_of, method_checksum
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.table import region_frame
from rilievo.core.table.table_files import wide, write_table
from rilievo.core.table.writers import WRITERS, writer_for
from tests.core.helpers.table_files import study

NOW = datetime(2031, 5, 6, 7, 8, 9, tzinfo=UTC)


def metadata() -> dict:
    _, method, table = study()
    return metadata_of([table], method, {"=1+1": [("field.tif", "abc")]}, NOW)


def read(path: Path) -> pd.DataFrame:
    if path.suffix == ".csv":
        return pd.read_csv(path)
    if path.suffix == ".xlsx":
        return pd.read_excel(path, sheet_name="measurements")
    if path.suffix == ".json":
        return pd.DataFrame(json.loads(path.read_text("utf-8"))["rows"])
    return pd.read_parquet(path)


@pytest.mark.parametrize("suffix", [one.suffix for one in WRITERS.values()])
def test_every_format_gives_the_numbers_back(suffix: str, tmp_path: Path) -> None:
    measured = region_frame([study()[2]])
    gap = [np.nan, *measured["sd"][1:]]
    frame = ResultFrame({n: gap if n == "sd" else measured[n] for n in measured.names})
    path = tmp_path / f"table{suffix}"
    written = write_table(frame, path, metadata())
    found = read(path)
    for name in ("mean", "sd", "cv", "sum", "pixel_count", "region"):
        given = found[name].to_numpy(np.float64)
        np.testing.assert_allclose(given, np.array(frame[name], np.float64), rtol=1e-14)
    # What a spreadsheet would run is neutralised where a spreadsheet opens it.
    shown = "'=1+1" if suffix in (".csv", ".xlsx") else "=1+1"
    assert set(found["sample"]) == {shown}
    assert len(written) == (1 if writer_for(path).holds_metadata else 2)


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
    assert book.sheetnames == ["measurements", "metadata", "columns", "defects", "files", "marks"]
    cells = [cell for row in book["files"].iter_rows() for cell in row]
    assert not any(cell.data_type == "f" for cell in cells)
    assert {cell.value for cell in cells} >= {"'=1+1", "abc"}


def test_a_heading_is_no_formula_either(tmp_path: Path) -> None:
    frame = ResultFrame({"=cmd": [1.0], "plain": ["@sum"]})
    write_table(frame, tmp_path / "t.csv", {})
    assert (tmp_path / "t.csv").read_text("utf-8") == "'=cmd,plain\n1.0,'@sum\n"


def test_wide_has_a_row_per_region() -> None:
    table = study()[2]
    frame = wide(region_frame([table]))
    assert len(frame) == 2
    np.testing.assert_array_equal(frame["a: mean"], table.column("a", "mean"))
    np.testing.assert_array_equal(frame["b: sum"], table.column("b", "sum"))
    assert frame["region"] == [1, 2]
    assert "channel" not in frame.names


def test_what_cannot_be_written_says_why(tmp_path: Path) -> None:
    frame = region_frame([study()[2]])
    with pytest.raises(FileUnreadable, match=r"use \.csv, \.xlsx"):
        write_table(frame, tmp_path / "table.doc", {})
    with pytest.raises(FileUnreadable, match="choose a folder you may write to"):
        write_table(frame, tmp_path / "nowhere" / "table.parquet", {})
    long = ResultFrame({"x": np.zeros(1_048_576)})
    with pytest.raises(FileUnreadable, match="more than a sheet holds"):
        write_table(long, tmp_path / "long.xlsx", {})
    assert list(tmp_path.iterdir()) == []
