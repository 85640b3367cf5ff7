"""Derived channels, the sRGB curve, and what is declared of a sample."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from rilievo.core.files.channel_preparation import (
    Derived,
    MetadataOverrides,
    Reading,
    Term,
    derived_plane,
    linear_light,
    luma_of,
    prepared,
)
from rilievo.core.image.image import Plane, Sample, plane_from_native

RED = np.array([[250, 10], [0, 255]], np.uint8)
GREEN = np.array([[100, 20], [0, 5]], np.uint8)
BLUE = np.array([[3, 30], [0, 5]], np.uint8)


def photo() -> dict[str, Plane]:
    names = ("red", "green", "blue")
    return {n: plane_from_native(p) for n, p in zip(names, (RED, GREEN, BLUE), strict=True)}


def terms(**weights: float) -> tuple[Term, ...]:
    return tuple(Term(channel=name, weight=weight) for name, weight in weights.items())


def test_a_signed_mix_is_computed_in_floats_and_keeps_negative_values() -> None:
    mix = Derived(name="madder", terms=terms(red=1, green=-0.5, blue=-0.5))
    plane = derived_plane(mix, photo())
    assert plane is not None
    np.testing.assert_allclose(plane.pixels, RED - 0.5 * GREEN.astype(float) - 0.5 * BLUE)
    assert plane.pixels[0, 1] == -15
    assert mix.formula == "red − 0.5 · green − 0.5 · blue"


def test_largest_ratio_and_luma() -> None:
    largest = derived_plane(
        Derived(name="value", way="largest", terms=terms(red=1, green=1, blue=1)), photo()
    )
    ratio = derived_plane(Derived(name="r/g", way="ratio", terms=terms(red=1, green=1)), photo())
    assert largest is not None and ratio is not None
    np.testing.assert_array_equal(largest.pixels, np.maximum(np.maximum(RED, GREEN), BLUE))
    np.testing.assert_allclose(ratio.pixels, [[2.5, 0.5], [np.nan, 51]])
    brightness = luma_of(photo())
    assert brightness is not None
    assert brightness.pixels[0, 0] == pytest.approx(0.2126 * 250 + 0.7152 * 100 + 0.0722 * 3)
    assert brightness.type_range == (0, 255)


def test_a_derived_pixel_is_saturated_where_any_source_is() -> None:
    mix = derived_plane(Derived(name="m", terms=terms(red=1, green=-1)), photo())
    assert mix is not None
    mask = mix.saturated()
    assert mask is not None
    assert mask.tolist() == [[False, False], [False, True]]


def test_what_cannot_be_derived_is_left_out() -> None:
    sample = Sample("s", {"gray": plane_from_native(RED)})
    reading = Reading(derived=(Derived(name="m", terms=terms(red=1)),))
    assert prepared(sample, reading).channel_names == ("gray",)
    with pytest.raises(ValidationError, match="two channels for a ratio"):
        Derived(name="r", way="ratio", terms=terms(red=1))
    with pytest.raises(ValidationError, match="two derived channels"):
        Reading(derived=(Derived(name="m", terms=terms(red=1)),) * 2)


def test_the_srgb_curve_against_its_definition() -> None:
    codes = np.array([[0, 10, 11, 128, 188, 255]], np.uint8)
    light = linear_light(codes, 255.0) / 255
    # Values of IEC 61966-2-1, computed by hand from its two branches.
    assert light[0].tolist() == pytest.approx(
        [0, 10 / 255 / 12.92, 0.003346535763899161, 0.21586050011389926, 0.5028864580325687, 1]
    )


@given(st.lists(st.integers(0, 65535), min_size=1, max_size=20))
def test_the_look_up_agrees_with_the_formula(codes: list[int]) -> None:
    whole = np.array([codes], np.uint16)
    by_float = linear_light(whole.astype(np.float64), 65535.0)
    np.testing.assert_allclose(linear_light(whole, 65535.0), by_float, rtol=1e-6)


def test_undoing_the_curve_is_said_and_brightness_follows() -> None:
    channels = photo()
    brightness = luma_of(channels)
    assert brightness is not None
    sample = Sample("s", {**channels, "brightness": brightness})
    lit = prepared(sample, Reading(undo_srgb=True))
    assert any("sRGB curve was undone" in note for note in lit.notes)
    expected = sum(
        weight * linear_light(plane, 255.0)
        for weight, plane in zip((0.2126, 0.7152, 0.0722), (RED, GREEN, BLUE), strict=True)
    )
    np.testing.assert_allclose(lit.channels["brightness"].pixels, expected, rtol=1e-6)
    assert lit.content != sample.content
    assert prepared(lit, Reading(undo_srgb=True)) is lit


def test_declared_levels_and_sizes(make_sample: Callable[..., Sample]) -> None:
    sample = make_sample(RED, pixel_size=None)
    told = prepared(
        sample, Reading(), MetadataOverrides(pixel_size=2.5, unit="nm", saturation=250, empty=0)
    ).first
    assert (told.calibration.pixel_size, told.calibration.unit) == (0.0025, "µm")
    in_nm = prepared(
        sample, Reading(length_unit="nm"), MetadataOverrides(pixel_size=2.5, unit="nm")
    )
    assert (in_nm.first.calibration.pixel_size, in_nm.first.calibration.unit) == (2.5, "nm")
    oblong = MetadataOverrides(pixel_size=0.1, pixel_height=0.3, unit="µm")
    assert prepared(sample, Reading(), oblong).first.calibration.sides == (0.1, 0.3)
    mask = told.saturated()
    assert mask is not None and mask.sum() == 2
    assert told.empty == 0
    with pytest.raises(ValidationError, match="unknown unit"):
        MetadataOverrides(unit="furlong")
    assert prepared(sample, Reading(), MetadataOverrides()) is sample
