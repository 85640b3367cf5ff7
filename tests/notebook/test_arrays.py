"""Samples of arrays in memory."""

from __future__ import annotations

import numpy as np
import pytest
import xarray

import rilievo
from rilievo.core.errors import ArrayError
from rilievo.core.image.image import Sample

RNG = np.random.default_rng(5)


def test_planes_keep_values_type_and_pixel_size() -> None:
    pixels = RNG.integers(0, 4096, (20, 30)).astype(np.uint16)
    sample = Sample.from_array(pixels, pixel_size=(0.5, 0.4), unit="um", bits=12, name="a")
    assert sample.first.pixels.dtype == np.uint16
    assert np.array_equal(sample.first.pixels, pixels)
    assert sample.first.calibration.sides == (0.5, 0.4)
    assert sample.first.calibration.unit == "µm"
    assert sample.first.saturation == 4095
    assert Sample.from_array(pixels, saturation=3000).first.saturation == 3000
    # The caller's array may change: the sample does not.
    kept = pixels.copy()
    pixels[:] = 0
    assert np.array_equal(sample.first.pixels, kept)


@pytest.mark.parametrize(
    ("shape", "given", "names"),
    [
        ((3, 20, 30), {}, ("channel 1", "channel 2", "channel 3")),
        ((20, 30, 2), {"channels": ("dye", "stain")}, ("dye", "stain")),
        ((5, 20, 30), {"axes": "cyx"}, tuple(f"channel {k}" for k in range(1, 6))),
        ((20, 5, 30), {"axes": "ycx"}, tuple(f"channel {k}" for k in range(1, 6))),
        ((1, 20, 30), {}, ("gray",)),
    ],
)
def test_channels_are_found(
    shape: tuple[int, ...], given: dict[str, object], names: tuple[str, ...]
) -> None:
    array = RNG.random(shape).astype(np.float32)
    sample = Sample.from_array(array, **given)  # type: ignore[arg-type]
    assert sample.channel_names == names
    axis = shape.index(len(names))
    for k, name in enumerate(names):
        assert np.array_equal(sample.channels[name].pixels, np.take(array, k, axis))


def test_named_axes_and_mappings() -> None:
    values = RNG.random((20, 30, 2))
    named = xarray.DataArray(
        values, dims=("y", "x", "channel"), coords={"channel": ["dye", "stain"]}
    )
    sample = Sample.from_array(named)
    assert sample.channel_names == ("dye", "stain")
    assert np.array_equal(sample.channels["stain"].pixels, values[:, :, 1])
    both = Sample.from_array({"a": values[:, :, 0], "b": values[:, :, 1]})
    assert np.array_equal(both.channels["b"].pixels, values[:, :, 1])
    # Transposed axes are put in order.
    turned = Sample.from_array(xarray.DataArray(values[:, :, 0].T, dims=("x", "y")))
    assert np.array_equal(turned.first.pixels, values[:, :, 0])


@pytest.mark.parametrize(
    ("array", "given", "said"),
    [
        (np.zeros(5), {}, "has the axes y and x"),
        (np.zeros((9, 20, 30)), {}, "name them"),
        (np.zeros((2, 30, 2)), {"channels": ("a", "b")}, "name them"),
        (np.zeros((0, 4)), {}, "two-dimensional array of numbers"),
        (np.zeros((4, 4), complex), {}, "Got complex128"),
        (np.array([["a", "b"]]), {}, "array of numbers"),
        (np.zeros((4, 4)), {"pixel_size": -1}, "above 0"),
        (np.zeros((4, 4)), {"pixel_size": 1, "unit": "yard"}, "in one of"),
        (np.zeros((4, 4)), {"pixel_size": 1, "unit": "px"}, "in one of"),
        (np.zeros((4, 4)), {"pixel_size": [1, 2, 3]}, "above 0"),
        (np.zeros((3, 4, 5)), {"axes": "cyx", "channels": ("a", "a", "b")}, "different names"),
        ({"a": np.zeros((3, 4)), "b": np.zeros((3, 5))}, {}, "one size"),
        (xarray.DataArray(np.zeros((2, 3, 4)), dims=("t", "y", "x")), {}, "“t” is not known"),
    ],
)
def test_what_is_no_image_is_said(array: object, given: dict[str, object], said: str) -> None:
    with pytest.raises(ArrayError, match=said):
        Sample.from_array(array, **given)  # type: ignore[arg-type]


def test_short_and_rich_texts() -> None:
    pixels = RNG.integers(0, 99, (400, 300)).astype(np.uint16)
    sample = Sample.from_array({"a & b": pixels}, pixel_size=0.5, name="<field>")
    assert repr(sample) == "<Sample “<field>”: 300×400, uint16, 0.5 µm/px, channels a & b>"
    html = sample._repr_html_()
    assert "&lt;field&gt;" in html and "a &amp; b" in html
    assert html.count("data:image/png;base64,") == 1
    assert len(repr(rilievo.Method())) < 80
    nothing = Sample.from_array(np.full((3, 3), np.nan), name="nothing")
    assert "data:image/png" in nothing._repr_html_()
