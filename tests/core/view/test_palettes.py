from __future__ import annotations

import math

import numpy as np
import pytest
from pydantic import ValidationError

from rilievo.core.view.palettes import (
    PALETTES,
    Stretch,
    ViewStyle,
    colour_table,
    decode_colours,
    stretched,
)


@pytest.mark.parametrize("stretch", ["linear", "root", "log", "asinh", "gamma"])
def test_stretches_keep_the_ends_and_the_order(stretch: Stretch) -> None:
    shares = np.linspace(0, 1, 101)
    for strength, gamma in ((0.1, 0.3), (10, 0.5), (1000, 3.0)):
        style = ViewStyle(stretch=stretch, strength=strength, gamma=gamma)
        found = stretched(shares, style)
        assert found[0] == pytest.approx(0)
        assert found[-1] == pytest.approx(1)
        assert (np.diff(found) >= 0).all()


def test_stretches_by_their_formulas() -> None:
    share = np.array([0.25])
    for style, expected in (
        (ViewStyle(stretch="root"), 0.5),
        (ViewStyle(stretch="gamma", gamma=2.0), 0.0625),
        (ViewStyle(stretch="log", strength=3.0), math.log(1.75) / math.log(4)),
        (ViewStyle(stretch="asinh", strength=8.0), math.asinh(2) / math.asinh(8)),
    ):
        assert stretched(share, style)[0] == pytest.approx(expected)


@pytest.mark.parametrize("palette", list(PALETTES))
def test_palettes_run_from_dark_to_light(palette: str) -> None:
    colours = decode_colours(colour_table(ViewStyle(palette=palette))[None])[0].astype(float)
    light = colours @ [0.2126, 0.7152, 0.0722]
    assert light[-1] - light[0] > 100
    assert (np.diff(light) >= -1.5).all(), "brighter pixels never look clearly darker"
    inverted = decode_colours(colour_table(ViewStyle(palette=palette, invert=True))[None])[0]
    np.testing.assert_allclose(inverted[::-1], colours, atol=1)


def test_bands_are_flat() -> None:
    table = colour_table(ViewStyle(palette="bands"))
    assert np.unique(table).size == 8


def test_a_palette_that_does_not_exist_is_refused() -> None:
    with pytest.raises(ValidationError, match="unknown palette"):
        ViewStyle(palette="rainbow")
