"""The rows of the table: order, filters, groups, against plain loops."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from rilievo.core.formula import FormulaError
from rilievo.core.measure.region_flags import flag
from rilievo.core.regions import RegionAnnotation
from rilievo.core.regions.region_set import CLASS_STRIDE
from rilievo.core.table.rows import BINS, Rows
from rilievo.core.table.table import RegionTable, region_frame

RNG = np.random.default_rng(4)


def made_up(sample: str, group: str, count: int) -> RegionTable:
    ids = np.concatenate([np.arange(1, count), [CLASS_STRIDE + 1]])
    columns = {}
    for channel in ("a", "b"):
        mean = np.round(RNG.normal(50, 20, count), 0)
        mean[RNG.random(count) < 0.15] = np.nan
        columns[channel] = {"mean": mean, "area": np.round(RNG.exponential(30, count)) + 1}
    flags = {name: RNG.integers(0, 32, count).astype(np.uint8) for name in ("a", "b")}
    known = {2: RegionAnnotation(name="special", group="own")}
    return RegionTable(
        sample, "", group, ("cell", "rest"), ids, columns, known=known, flags=flags,
        marks={"b": ("not linear",)},
    )  # fmt: skip


TABLES = [made_up("field 2", "x", 40), made_up("field 1", "y", 25), made_up("other", "x", 30)]
ROWS = Rows(TABLES)
FRAME: pd.DataFrame = region_frame(TABLES).to_pandas().reset_index(drop=True)


def test_rows_are_those_of_the_exported_table() -> None:
    assert len(FRAME) == ROWS.count
    for k in range(ROWS.count):
        assert ROWS.text("sample", k) == FRAME["sample"][k]
        assert ROWS.text("group", k) == FRAME["group"][k]
        assert ROWS.text("channel", k) == FRAME["channel"][k]
        assert ROWS.text("class", k) == FRAME["class"][k]
        assert "; ".join(ROWS.marks(k)) == FRAME["marks"][k]
    for key in ("mean", "area"):
        np.testing.assert_array_equal(ROWS.columns[key], FRAME[key])
    assert Rows(TABLES, "b").count == ROWS.count // 2
    assert {Rows(TABLES, "b").channel(k) for k in range(20)} == {"b"}


@pytest.mark.parametrize(
    "by",
    [
        [("mean", False)],
        [("mean", True)],
        [("group", False), ("area", True)],
        [("channel", True), ("sample", False), ("mean", True)],
        [("class", True), ("region", False)],
    ],
)
def test_order_by_several_columns(by: list[tuple[str, bool]]) -> None:
    order = ROWS.ordered(ROWS.all_rows(), by)
    frame = FRAME.assign(region=ROWS.region)
    wanted = frame.sort_values(
        [name for name, _ in by],
        ascending=[not falling for _, falling in by],
        kind="stable",
        na_position="last",
    )
    for name, _ in by:
        pd.testing.assert_series_equal(
            frame.loc[order, name].reset_index(drop=True), wanted[name].reset_index(drop=True)
        )
    assert sorted(order.tolist()) == list(range(ROWS.count))


@pytest.mark.parametrize(
    ("text", "fits"),
    [
        ("area > 50", FRAME["area"] > 50),
        ("area > 50 and mean < 40", (FRAME["area"] > 50) & (FRAME["mean"] < 40)),
        (
            "mean ≥ 60 or area < 5 and mean > 0",
            (FRAME["mean"] >= 60) | ((FRAME["area"] < 5) & (FRAME["mean"] > 0)),
        ),
        ("mean / area > 2", FRAME["mean"] / FRAME["area"] > 2),
        ('group = "x"', FRAME["group"] == "x"),
        ('class ≠ "cell"', FRAME["class"] != "cell"),
        ('sample ~ "FIELD" and channel = "b"',
         FRAME["sample"].str.contains("field") & (FRAME["channel"] == "b")),
        ('name = "special"', FRAME["name"] == "special"),
        ('mark ~ "edge"', FRAME["marks"].str.contains("edge")),
        ('mark ≠ "few pixels"', ~FRAME["marks"].str.contains("few pixels")),
        ('mark = "not linear"', FRAME["channel"] == "b"),
        ('sample = "a and b"', FRAME["sample"] == "never"),
    ],
)  # fmt: skip
def test_filters(text: str, fits: pd.Series) -> None:
    np.testing.assert_array_equal(ROWS.matching(text), fits.to_numpy())


def test_what_cannot_be_read_says_where() -> None:
    with pytest.raises(FormulaError, match="no column “volume”"):
        ROWS.matching("area > 5 and volume > 3")
    with pytest.raises(FormulaError, match="character 24") as caught:
        ROWS.matching("area > 5 and ( mean > 3")
    assert caught.value.position == 23


def test_search_range_and_marks() -> None:
    wanted = FRAME[["sample", "group", "class", "channel", "name"]].apply(
        lambda row: any("spec" in str(text) for text in row), axis=1
    )
    np.testing.assert_array_equal(ROWS.having("SPEC"), wanted.to_numpy())
    inside = FRAME["mean"].between(30, 40).to_numpy()
    np.testing.assert_array_equal(ROWS.within("mean", 30, 40), inside)
    np.testing.assert_array_equal(ROWS.marked("few pixels"), (ROWS.flags & flag("few pixels")) > 0)


def test_histogram_counts_what_is_defined() -> None:
    counts, low, high = ROWS.histogram("mean", ROWS.all_rows())
    values = FRAME["mean"].dropna()
    assert (low, high) == (values.min(), values.max())
    assert counts.sum() == len(values)
    expected = np.histogram(values, BINS, (low, high))[0]
    assert np.abs(counts - expected).sum() <= 4  # edges may round to the other side
    nothing, low, _ = ROWS.histogram("mean", np.zeros(0, np.int64))
    assert not nothing.any()
    assert np.isnan(low)


def test_subtotals_by_group() -> None:
    order = ROWS.ordered(ROWS.all_rows(), [("area", True)])
    parts = ROWS.subtotals(order, "group")
    wanted = FRAME.groupby("group")
    assert [total.name for total, _ in parts] == list(wanted.groups)
    for total, own in parts:
        frame = wanted.get_group(total.name)
        assert total.count == len(frame) == own.size
        assert total.means["mean"] == pytest.approx(frame["mean"].mean())
        assert (np.diff(ROWS.columns["area"][own]) <= 0).all()


def test_rows_of_regions() -> None:
    found = ROWS.rows_of({"field 1": {2, 5, 999}, "elsewhere": {1}})
    assert [(ROWS.sample(k), int(ROWS.region[k]), ROWS.channel(k)) for k in found] == [
        ("field 1", 2, "a"), ("field 1", 5, "a"), ("field 1", 2, "b"), ("field 1", 5, "b"),
    ]  # fmt: skip


def test_regions_of_rows_and_back() -> None:
    chosen = {"field 2": frozenset({3, 7}), "other": frozenset({CLASS_STRIDE + 1})}
    assert ROWS.regions_of(ROWS.rows_of(chosen)) == chosen
    assert ROWS.rows_of({}).size == 0
    assert ROWS.regions_of(np.zeros(0, np.int64)) == {}


def test_no_tables() -> None:
    rows = Rows([])
    assert rows.count == 0
    assert rows.matching("1 > 0").size == 0
    assert rows.subtotals(rows.all_rows(), "sample") == []
