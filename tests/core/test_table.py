from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.errors import FileUnreadable
from rilievo.core.table.table import (
    RegionTable,
    neutralised,
    region_frame,
    sample_frame,
    tab_separated,
    write_csv,
)


def table(name: str = "a", values: tuple[float, ...] = (1.5, 2.5)) -> RegionTable:
    column = np.array(values)
    areas = np.arange(1.0, len(values) + 1)
    return RegionTable(
        sample=name,
        file=f"{name}.tif",
        group="g",
        classes=("cell",),
        ids=np.arange(1, len(values) + 1),
        columns={
            "one": {"area": areas, "mean": column},
            "two": {"area": areas, "mean": column * 2},
        },
        image_pixels=12,
        thresholds=(3.5,),
    )


def test_one_row_a_region_and_channel() -> None:
    frame = region_frame([table(), table("b", (7.0,))])
    assert frame["sample"].tolist() == ["a"] * 4 + ["b"] * 2
    assert frame["channel"].tolist() == ["one", "one", "two", "two", "one", "two"]
    assert frame["mean"].tolist() == [1.5, 2.5, 3.0, 5.0, 7.0, 14.0]
    assert frame["area"].dtype == np.int64


def test_summary_of_a_sample() -> None:
    row = sample_frame([table()]).iloc[0]
    assert row["region_count"] == 2
    assert row["area_total"] == 3
    assert row["area_share"] == 3 / 12
    assert row["mean_of_means"] == 2.0
    assert row["sd_of_means"] == pytest.approx(np.sqrt(0.5))


def test_summary_of_nothing_has_the_same_columns() -> None:
    nothing = sample_frame([])
    assert list(nothing.columns) == list(sample_frame([table()]).columns)
    none_found = sample_frame([table("c", ())])
    assert none_found["region_count"].tolist() == [0, 0]
    assert none_found["mean_of_means"].isna().all()


def test_csv_keeps_every_digit(tmp_path: Path) -> None:
    values = (0.1 + 0.2, 1e7 + 1e-9, -1 / 3)
    write_csv(region_frame([table("a", values)]), tmp_path / "t.csv")
    with (tmp_path / "t.csv").open(newline="") as file:
        again = [float(row["mean"]) for row in csv.DictReader(file)]
    assert again[:3] == list(values)


@pytest.mark.parametrize("text", ["=1+1", "+x", "-x", "@x", "\tx"])
def test_formulas_are_neutralised(text: str, tmp_path: Path) -> None:
    assert neutralised(text) == "'" + text
    write_csv(region_frame([table(text)]), tmp_path / "t.csv")
    assert f"\n{text}" not in (tmp_path / "t.csv").read_text()
    assert "'" + text in tab_separated(region_frame([table(text)]))


def test_plain_names_and_negative_numbers_stay(tmp_path: Path) -> None:
    assert neutralised("cell 1") == "cell 1"
    write_csv(region_frame([table("a", (-5.0,))]), tmp_path / "t.csv")
    assert ",-5.0" in (tmp_path / "t.csv").read_text()


def test_a_folder_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(FileUnreadable, match=r"t\.csv"):
        write_csv(region_frame([table()]), tmp_path / "none" / "t.csv")
