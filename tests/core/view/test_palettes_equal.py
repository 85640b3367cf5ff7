from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import plane_from_native
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.view.palettes import (
    LEVELS,
    ViewStyle,
    colour_table,
    decode_colours,
    equaliser,
    overlay_colours,
)
from rilievo.core.view.render import Layer, Shading, overlaid, painted
from rilievo.core.view.sampling import Viewport
from tests.core.helpers.looking import LOOKS, RNG, grays


def test_equalising_gives_every_shade_as_many_pixels() -> None:
    pixels = (RNG.random((128, 128)) ** 4 * 4000).astype(np.uint16)
    histogram = histogram_of(plane_from_native(pixels))
    low, high = histogram.lowest, histogram.highest
    equal = equaliser(histogram, low, high)
    style = ViewStyle(stretch="equal")
    view = Viewport(0, 0, 1.0, 128, 128)
    shown = grays(
        painted(
            Pyramid(pixels), view, (low, high), LOOKS, shading=Shading(style=style, equal=equal)
        )
    )
    counts, _ = np.histogram(shown, bins=8, range=(0, 256))
    # A sixth of the pixels share the lowest level; the other seven bins are even.
    assert counts[1:].std() < 0.25 * counts[1:].mean()
    assert np.array_equal(np.argsort(equal.shares, kind="stable"), np.arange(LEVELS))


def test_overlay_adds_colours_and_equalising_keeps_hues() -> None:
    red = np.full((4, 4), 100.0, np.float32)
    green = np.full((4, 4), 50.0, np.float32)
    red[0, 0] = green[0, 0] = 10
    layers = [
        Layer(Pyramid(red), (0, 200), ViewStyle(), (255, 0, 0)),
        Layer(Pyramid(green), (0, 200), ViewStyle(), (0, 255, 0)),
    ]
    view = Viewport(0, 0, 1.0, 6, 4)
    plain = decode_colours(overlaid(layers, view, LOOKS)).astype(float)
    assert plain[2, 2].tolist() == pytest.approx([127, 63, 0], abs=1)
    assert plain[0, 5].tolist() == [1, 2, 3]
    even = decode_colours(overlaid(layers, view, LOOKS, equalise=True)).astype(float)
    assert even[2, 2, 0] / even[2, 2, 1] == pytest.approx(2, rel=0.03)
    assert even[2, 2, 0] > plain[2, 2, 0]
    assert overlay_colours(("red", "green", "blue", "brightness"))["green"] == (0, 255, 0)
    assert len(set(overlay_colours(("a", "b", "c")).values())) == 3


def test_bands_are_as_many_as_asked() -> None:
    for bands in (2, 5, 16):
        table = colour_table(ViewStyle(palette="bands", bands=bands))
        assert np.unique(table).size == bands
