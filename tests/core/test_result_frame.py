"""Tables as text: what pandas, as an independent writer, makes of the same columns."""

from __future__ import annotations

import io
import math
from pathlib import Path

import numpy as np
import pandas
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rilievo.core.result_frame import ResultFrame, write_parts

NUMBERS = st.lists(st.one_of(st.none(), st.floats(allow_infinity=False), st.integers(-9, 9)))


@pytest.mark.parametrize(
    ("values", "written"),
    [
        ([1, 2], ["1", "2"]),
        ([1, None], ["1.0", ""]),
        ([1, 2.5], ["1.0", "2.5"]),
        ([math.nan, 1e-5], ["", "1e-05"]),
        ([True, False], ["True", "False"]),
        (["a,b", 'say "x"'], ['"a,b"', '"say ""x"""']),
        (["=1+1", "two\nlines"], ["'=1+1", '"two\nlines"']),
        (["text", None], ["text", ""]),
        (np.array([0.1 + 0.2, math.inf]), ["0.30000000000000004", "inf"]),
        (np.array([7, 8], np.uint16), ["7", "8"]),
    ],
)
def test_values_are_written_so_that_they_read_back(values: object, written: list[str]) -> None:
    frame = ResultFrame({"x": values, "y": ["-", "-"]})  # type: ignore[dict-item]
    assert frame.csv_text() == "x,y\n" + "".join(f"{one},'-\n" for one in written)


@given(NUMBERS)
def test_numbers_are_written_as_an_independent_writer_does(values: list[float | None]) -> None:
    frame = ResultFrame({"x": values, "y": [0] * len(values)})
    plain = pandas.DataFrame({"x": pandas.Series(values, dtype=None), "y": 0})
    if any(value is not None for value in values):
        assert frame.csv_text() == plain.to_csv(index=False, lineterminator="\n")
    again = pandas.read_csv(io.StringIO(frame.csv_text()))["x"].to_numpy(float)
    expected = np.array([math.nan if v is None else v for v in values], float)
    np.testing.assert_array_equal(again, expected)


def test_rows_columns_and_parts() -> None:
    frame = ResultFrame.of_rows(("a", "b"), [(1, "x"), (2, "y"), (3, "z")])
    assert len(frame) == 3
    assert list(frame.rows()) == [(1, "x"), (2, "y"), (3, "z")]
    assert frame.taken([2, 0])["b"] == ["z", "x"]
    assert frame.chosen(["b", "none"]).records()[0] == {"b": "x", "none": None}
    assert ResultFrame.of_records([{"a": 1}, {"b": 2.0}]).csv_text() == "a,b\n1.0,\n,2.0\n"
    assert ResultFrame.of_rows(("a", "b"), []).csv_text() == "a,b\n"
    joined = ResultFrame.joined([frame, ResultFrame({"a": [4], "c": [0.5]})])
    assert joined["a"] == [1, 2, 3, 4]
    assert joined["b"] == ["x", "y", "z", None]
    assert joined.without_empty().names == ("a", "b", "c")
    assert ResultFrame({"x": [None, math.nan], "y": [1, 2]}).without_empty().names == ("y",)


def test_parts_below_each_other_are_one_table(tmp_path: Path) -> None:
    parts = [ResultFrame({"a": [1, 2]}), ResultFrame({"a": [3], "b": ["x"]})]
    write_parts(tmp_path / "t.csv", ["a", "b"], iter(parts))
    assert (tmp_path / "t.csv").read_text() == "a,b\n1,\n2,\n3,x\n"
