"""Names where there is little room."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from rilievo.ui.session.short_names import in_the_middle, shortened, without_common_beginning


def test_what_all_begin_with_is_left_out_at_a_separator() -> None:
    assert without_common_beginning(["ctrl-1-1", "ctrl-1-2", "ctrl-2-1"]) == ["1-1", "1-2", "2-1"]
    assert without_common_beginning(["a-10", "a-11"]) == ["10", "11"]
    assert without_common_beginning(["slide10", "slide11"]) == ["slide10", "slide11"]
    assert without_common_beginning(["a-", "a-b"]) == ["a-", "a-b"]
    assert without_common_beginning(["alone-1"]) == ["alone-1"]
    assert without_common_beginning([]) == []


def test_long_names_show_what_differs() -> None:
    names = ["plate_2031_hypocotyl_ctrl_01", "plate_2031_hypocotyl_ctrl_02", "plate_2031_root_9"]
    assert shortened(names, 40) == names
    assert shortened(names, 15) == ["hypocot…ctrl_01", "hypocot…ctrl_02", "pla…root_9"]
    assert in_the_middle("abcdefgh", 5) == "ab…gh"


@given(
    st.lists(st.text(alphabet="ab-_1", min_size=1, max_size=30), max_size=9, unique=True),
    st.integers(6, 20),
)
def test_short_names_fit_and_are_told_apart(names: list[str], most: int) -> None:
    short = shortened(names, most)
    assert len(short) == len(names)
    assert all(len(name) <= most for name in short)
    assert len(set(short)) == len(short)
