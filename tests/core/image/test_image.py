from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.image import Plane, Sample, plane_from_native, working_dtype


@pytest.mark.parametrize(
    ("native", "expected"),
    [("uint8", "float32"), ("int16", "float32"), ("float16", "float32"), ("float32", "float32"),
     ("uint32", "float64"), ("int32", "float64"), ("float64", "float64")],
)  # fmt: skip
def test_working_precision_holds_every_native_value(native: str, expected: str) -> None:
    dtype = np.dtype(native)
    assert working_dtype(dtype) == np.dtype(expected)
    if dtype.kind in "iu":
        ends = np.array([np.iinfo(dtype).min, np.iinfo(dtype).max], dtype)
        assert [int(v) for v in ends.astype(expected)] == [int(v) for v in ends]


def test_a_plane_cannot_be_written_to_and_leaves_its_source_writable() -> None:
    pixels = np.zeros((2, 3), np.uint16)
    plane = plane_from_native(pixels)
    with pytest.raises(ValueError, match="read-only"):
        plane.pixels[0, 0] = 1
    pixels[0, 0] = 1


def test_infinite_values_are_undefined() -> None:
    plane = Plane(np.array([[1.0, np.inf, -np.inf, np.nan]], np.float32))
    assert np.isnan(plane.as_float()).tolist() == [[False, True, True, True]]


def test_saturation_follows_the_stated_depth() -> None:
    pixels = np.zeros((1, 1), np.uint16)
    assert plane_from_native(pixels).saturation == 65535
    assert plane_from_native(pixels, significant_bits=12).saturation == 4095
    assert plane_from_native(pixels.astype(np.float32)).saturation is None


def test_the_scale_from_0_to_1() -> None:
    twelve = plane_from_native(np.zeros((1, 1), np.uint16), significant_bits=12)
    assert twelve.unit_share(4095, (0, 9)) == 1.0
    floats = plane_from_native(np.zeros((1, 1)))
    assert floats.unit_share(3.0, (2.0, 6.0)) == 0.25
    assert np.isnan(floats.unit_share(3.0, (3.0, 3.0)))


def test_wrong_shapes_are_refused() -> None:
    with pytest.raises(ValueError, match="two dimensions"):
        Plane(np.zeros(3))
    with pytest.raises(ValueError, match="no channel"):
        Sample("a", {})
