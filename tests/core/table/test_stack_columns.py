"""Places in a stack as columns of the table: shown, sorted and filtered like numbers."""

from __future__ import annotations

import numpy as np

from rilievo.core.regions.region_set import RegionAnnotation
from rilievo.core.table.row_query import RowQuery, arranged
from rilievo.core.table.rows import Rows
from rilievo.core.table.table import RegionTable
from rilievo.core.table.track_columns import can_follow


def table_of(time: int, *, tracked: bool = True) -> RegionTable:
    known = {k: RegionAnnotation(attributes={"track": str(10 - k)}) for k in (1, 2)}
    return RegionTable(
        sample=f"t{time}", file="s.tif", group="", ids=np.array([1, 2, 3]), classes=("drop",),
        columns={name: {"mean": np.array([5.0, 6, 7]) * time} for name in ("red", "dye")},
        known=known if tracked else {},
        attributes={"stack": "s", "time": str(time), "time (s)": f"{2.5 * (time - 1):g}"},
    )  # fmt: skip


def test_places_stand_before_what_was_measured() -> None:
    rows = Rows([table_of(1), table_of(2)])
    assert rows.keys == ("time", "seconds", "track", "mean")
    assert [rows.heading(key) for key in rows.keys] == [
        "Time",
        "Time (s)",
        "Track",
        "Mean (counts)",
    ]
    assert rows.columns["time"].tolist() == [1] * 6 + [2] * 6
    assert rows.columns["seconds"].tolist() == [0] * 6 + [2.5] * 6
    np.testing.assert_array_equal(rows.columns["track"], [9, 8, np.nan] * 4)


def test_rows_are_found_by_their_place() -> None:
    rows = Rows([table_of(1), table_of(2)], "dye")
    shown = arranged(rows, RowQuery(expression="track = 8 and seconds > 1"))
    assert [(rows.sample(k), int(rows.region[k])) for k in shown.entries] == [("t2", 2)]


def test_samples_by_themselves_have_no_places() -> None:
    plain = table_of(1, tracked=False)
    assert Rows([plain]).keys == ("time", "seconds", "mean")
    alone = RegionTable("a", "a.tif", "", ("drop",), np.array([1]), {"red": {"mean": np.ones(1)}})
    assert Rows([alone]).keys == ("mean",)


def test_what_can_be_followed_is_known_from_attributes_alone() -> None:
    needed = ("x", "y", "pixel_count")
    times = [{"stack": "s", "time": str(k), "z": "1"} for k in (1, 2)]
    assert can_follow(times, (*needed, "mean"))
    assert not can_follow(times, ("x", "y"))
    assert not can_follow([{"stack": "s", "time": "1", "z": str(k)} for k in (1, 2)], needed)
    assert can_follow([{"stack": "s", "z": str(k)} for k in (1, 2)], needed)
    assert not can_follow([{"stack": str(k), "time": "1"} for k in (1, 2)], needed)
    assert not can_follow([{}], needed)
