"""What the table, prints, plots and cards of Measure are made of."""

from __future__ import annotations

import numpy as np

from rilievo.core.table.row_query import ANY_MARK, RowQuery, arranged
from rilievo.core.table.rows import Rows
from tests.core.helpers.measure_parts import rows_of


def test_wishes_are_met_together() -> None:
    rows = rows_of()
    query = RowQuery(
        search="s", expression="area > 5", ranges=(("mean", -1, 1),), order=(("mean", True),)
    )
    shown = arranged(rows, query)
    fits = (rows.columns["area"] > 5) & (np.abs(rows.columns["mean"]) <= 1)
    assert set(shown.rows.tolist()) == set(np.flatnonzero(fits).tolist())
    assert (np.diff(rows.columns["mean"][shown.rows]) <= 0).all()
    assert arranged(rows, RowQuery(sample="s2")).rows.size == 50
    assert arranged(rows, RowQuery(mark=ANY_MARK)).rows.size == 20
    assert arranged(rows, RowQuery(mark="saturated inside")).rows.size == 20
    assert arranged(rows, RowQuery(mark="few pixels")).rows.size == 0
    # What the present columns do not have is passed over.
    gone = RowQuery(order=(("volume", False),), ranges=(("volume", 0, 1),))
    assert arranged(rows, gone).rows.size == rows.count


def test_groups_have_a_line_of_their_own() -> None:
    rows = rows_of()
    shown = arranged(rows, RowQuery(group="group", order=(("area", False),)))
    assert shown.entries.size == rows.count + 2
    assert shown.entries[0] == -1
    assert shown.entries[101] == -2
    assert [total.name for total in shown.subtotals] == ["g0", "g1"]
    assert arranged(Rows([]), RowQuery(group="group")).entries.size == 0


def test_what_is_typed_filters_or_is_sought() -> None:
    query = RowQuery(mark="few pixels").reading(" area > 5 ")
    assert (query.expression, query.search, query.mark) == ("area > 5", "", "few pixels")
    assert query.reading("field 3").search == "field 3"
    assert query.reading("field 3").expression == ""


def test_lines_of_rows() -> None:
    rows = rows_of(10)
    shown = arranged(rows, RowQuery(group="group", order=(("area", True),), expression="area > 3"))
    wanted = rows.rows_of({"s2": {2, 5, 9}, "nowhere": {1}})
    lines = shown.lines_of(wanted)
    found = [(rows.sample(k), int(rows.region[k])) for k in shown.entries[lines].tolist()]
    # Region 2 is too small to be shown; the larger one stands first.
    assert found == [("s2", 9), ("s2", 5)]
    assert arranged(rows, RowQuery(expression="area > 99")).lines_of(wanted).size == 0


def test_a_click_sorts_up_then_down_then_not() -> None:
    query = RowQuery()
    orders = []
    for _ in range(3):
        query = query.sorted_by("mean", also=False)
        orders.append(query.order)
    assert orders == [(("mean", False),), (("mean", True),), ()]
    query = RowQuery().sorted_by("group", also=False).sorted_by("mean", also=True)
    assert query.order == (("group", False), ("mean", False))
    assert query.sorted_by("group", also=True).order == (("group", True), ("mean", False))
    assert query.sorted_by("mean", also=True).sorted_by("mean", also=True).order == (
        ("group", False),
    )
    ranged = query.with_range("mean", 0, 1)
    assert ranged.filters
    assert ranged.with_range("mean", 2, 3).ranges == (("mean", 2, 3),)
    assert not ranged.with_range("mean", None).filters
