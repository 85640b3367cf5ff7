"""The formula parser against plain Python, and what it refuses."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.formula import LONGEST, FormulaError, parsed

RED = np.array([[1.0, 4.0], [9.0, -2.0]])
BLUE = np.array([[2.0, 0.0], [3.0, np.nan]])


def value(text: str) -> np.ndarray:
    return np.asarray(parsed(text).value({"red": RED, "blue": BLUE, "lipid dye": RED * 2}))


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("1 + 2 × 3", 7),
        ("(1 + 2) * 3", 9),
        ("2 ^ 3 ^ 2", 512),
        ("−2 ^ 2", -4),
        ("2 ** -1", 0.5),
        ("8 ÷ 4 / 2", 1),
        ("7 - 2 - 1", 4),
        ("+-+3", -3),
        ("1.5e2 + .5", 150.5),
        ("min(3, 1, 2) + max(4, 5)", 6),
        ("log10(1000)", 3),
        ("exp(log(5))", 5),
        ("sqrt(abs(−16))", 4),
        ("2 < 3", 1),
        ("2 ≥ 3", 0),
        ("(1 = 1) + (1 ≠ 1) + (1 == 1) + (1 != 2)", 3),
        ("mean(red)", 3),
        ("median(blue)", 2),
    ],
)
def test_numbers(text: str, expected: float) -> None:
    assert float(value(text)) == pytest.approx(expected)


def test_planes_work_pixel_by_pixel() -> None:
    np.testing.assert_array_equal(value("red − blue"), RED - BLUE)
    np.testing.assert_array_equal(value('"lipid dye" / red'), np.full((2, 2), 2.0))
    np.testing.assert_array_equal(value("(red > 3) × red"), np.where(RED > 3, RED, 0.0))
    np.testing.assert_array_equal(value("max(red, 2)"), np.maximum(RED, 2))


def test_what_has_no_value_is_not_a_number() -> None:
    assert np.isnan(value("sqrt(red)")).tolist() == [[False, False], [False, True]]
    assert np.isnan(value("red ^ 0.5")).tolist() == [[False, False], [False, True]]
    assert np.isnan(value("blue > 1")).tolist() == [[False, False], [False, True]]
    assert np.isinf(value("red / blue")[0, 1])


def test_names_are_told_in_order() -> None:
    assert parsed('red + mean("lipid dye") × red / blue').names == ("red", "lipid dye", "blue")


@pytest.mark.parametrize(
    ("text", "position", "reason"),
    [
        ("", 0, "empty"),
        ("   ", 0, "empty"),
        ("1 +", 3, "the formula ends"),
        ("1 + ) 2", 4, "stands where"),
        ("(1 + 2", 6, "closing bracket"),
        ("red blue", 4, "operator missing"),
        ("2 $ 3", 2, "not known"),
        ("foo(3)", 0, "no function"),
        ("sqrt(1, 2)", 0, "one value"),
        ("sqrt 4", 5, "operator missing"),
        ('red + "blue', 6, "not closed"),
        ("1 < 2 < 3", 6, "does not follow"),
        ("__import__('os')", 11, "not known"),
        ("red.shape", 3, "not known"),
    ],
)
def test_errors_point_at_the_place(text: str, position: int, reason: str) -> None:
    with pytest.raises(FormulaError) as caught:
        parsed(text)
    assert caught.value.position == position
    assert reason in str(caught.value)
    assert f"character {position + 1}" in str(caught.value)
    assert "▸" in str(caught.value)


@pytest.mark.parametrize(
    "text",
    ["(" * 5000 + "1" + ")" * 5000, "-" * 1900 + "1", "2^" * 900 + "2", "1+" * LONGEST + "1"],
)
def test_monsters_are_refused_or_worked_out(text: str) -> None:
    try:
        assert math.isfinite(float(np.asarray(parsed(text).value({})))) or "^" in text
    except FormulaError as error:
        assert "deep" in str(error) or "longer" in str(error)


LEAVES = st.sampled_from(["1", "2.5", "7", "red", "blue"])
OPERATORS = st.sampled_from(["+", "-", "*", "/"])


def _joined(parts: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    return st.builds(lambda a, o, b, c: f"({a} {o} {b})" if c else f"{a} {o} {b}",
                     parts, OPERATORS, parts, st.booleans())  # fmt: skip


@settings(max_examples=80)
@given(st.recursive(LEAVES, _joined, max_leaves=8))
def test_arithmetic_is_that_of_python(text: str) -> None:
    names = {"red": np.float64(3.5), "blue": np.float64(-1.25)}
    code = compile(text, "formula", "eval")
    with np.errstate(all="ignore"):
        try:
            expected = eval(code, {"__builtins__": {}}, names)  # noqa: S307 (our own text)
        except ZeroDivisionError:
            return
        found = parsed(text).value(names)
    np.testing.assert_allclose(float(np.asarray(found)), float(expected), rtol=1e-12)
