from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.errors import FileUnreadable
from rilievo.core.result_frame import neutralised
from rilievo.core.table.table import region_frame
from tests.core.helpers.table import table


def test_one_row_a_region_and_channel() -> None:
    frame = region_frame([table(), table("b", (7.0,))]).to_pandas()
    assert frame["sample"].tolist() == ["a"] * 4 + ["b"] * 2
    assert frame["channel"].tolist() == ["one", "one", "two", "two", "one", "two"]
    assert frame["mean"].tolist() == [1.5, 2.5, 3.0, 5.0, 7.0, 14.0]
    assert frame["area"].dtype == np.int64


def test_csv_keeps_every_digit(tmp_path: Path) -> None:
    values = (0.1 + 0.2, 1e7 + 1e-9, -1 / 3)
    region_frame([table("a", values)]).write_csv(tmp_path / "t.csv")
    with (tmp_path / "t.csv").open(newline="") as file:
        again = [float(row["mean"]) for row in csv.DictReader(file)]
    assert again[:3] == list(values)


@pytest.mark.parametrize("text", ["=1+1", "+x", "-x", "@x", "\tx"])
def test_formulas_are_neutralised(text: str, tmp_path: Path) -> None:
    assert neutralised(text) == "'" + text
    region_frame([table(text)]).write_csv(tmp_path / "t.csv")
    assert f"\n{text}" not in (tmp_path / "t.csv").read_text()
    assert "'" + text in region_frame([table(text)]).csv_text(separator="\t")


def test_plain_names_and_negative_numbers_stay(tmp_path: Path) -> None:
    assert neutralised("cell 1") == "cell 1"
    region_frame([table("a", (-5.0,))]).write_csv(tmp_path / "t.csv")
    assert ",-5.0" in (tmp_path / "t.csv").read_text()


def test_a_folder_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(FileUnreadable, match=r"t\.csv"):
        region_frame([table()]).write_csv(tmp_path / "none" / "t.csv")
