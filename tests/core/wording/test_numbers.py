"""Digits that follow how far the data are spread."""

from __future__ import annotations

import math

import pytest

from rilievo.core.wording.numbers import p_number, share_text, shown_within


@pytest.mark.parametrize(
    ("value", "span", "text"),
    [
        (-8.4517, 960.0, "\u22128.5"),
        (1015.23, 960.0, "1\u202f015.2"),
        (12.34567, 64_000.0, "12"),
        (0.123456, 1.0, "0.123"),
        (0.0004567, 0.01, "0.00046"),
        (-0.0001, 500.0, "0.0"),
        (5.0, 500.0, "5.0"),
        (3.5, 0.0, "3.500"),
        (math.nan, 10.0, "–"),
        (1e12, 10.0, "1.000e+12"),
    ],
)
def test_values_of_one_picture_have_the_same_decimals(value: float, span: float, text: str) -> None:
    assert shown_within(value, span) == text


@pytest.mark.parametrize(
    ("percent", "text"),
    [(0.000208, "< 0.01 %"), (0.0, "0 %"), (0.235, "0.235 %"), (99.9, "99.9 %"),
     (99.9999, "> 99.99 %"), (100.0, "100 %")],
)  # fmt: skip
def test_shares_are_no_longer_than_one_can_read(percent: float, text: str) -> None:
    assert share_text(percent) == text


@pytest.mark.parametrize(
    ("p", "text"),
    [(0.00099, "< 0.001"), (0.001, "0.001"), (0.0456, "0.046"), (0.1, "0.10"), (0.456, "0.46")],
)
def test_p_values_have_two_digits(p: float, text: str) -> None:
    assert p_number(p) == text
