from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.table.star_field import star_field


def columns_of(
    width: float = 3.0, corners: float = 0.0, tilt: float = 0.0, ellipticity: float = 0.0
) -> dict[str, np.ndarray]:
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 799, 80), rng.uniform(0, 599, 80)
    u, v = (x - 399.5) / 500, (y - 299.5) / 500
    fwhm = width * (1 + corners * (u**2 + v**2) + tilt * u) + rng.normal(0, 0.03, 80)
    if ellipticity:
        form, angle = np.full(80, ellipticity), 25 + rng.normal(0, 2, 80)
    else:
        form, angle = rng.uniform(0, 0.1, 80), rng.uniform(-90, 90, 80)
    return {
        "star_x": x, "star_y": y, "fwhm": fwhm, "ellipticity": form, "star_orientation": angle,
    }  # fmt: skip


def test_an_even_field_has_nothing_to_say() -> None:
    field = star_field(columns_of(), (600, 800))
    assert field is not None
    assert field.sentences() == []
    assert field.ellipticity < 0.02
    assert field.spreads["fwhm"].median == pytest.approx(3.0, abs=0.02)
    assert field.spreads["fwhm"].sigma == pytest.approx(0.03, rel=0.35)


def test_soft_corners_tilt_and_trails_are_named() -> None:
    soft = star_field(columns_of(corners=0.4), (600, 800))
    assert soft is not None
    assert soft.corners == pytest.approx(1.4, abs=0.05)
    assert soft.sentences()[0].startswith("Sharp in the middle, soft in the corners: FWHM 3.0 px")
    tilted = star_field(columns_of(tilt=0.2), (600, 800))
    assert tilted is not None
    assert tilted.tilt == pytest.approx(0.4, abs=0.03)
    assert "Softer towards the right" in tilted.sentences()[0]
    trailed = star_field(columns_of(ellipticity=0.5), (600, 800))
    assert trailed is not None
    assert trailed.ellipticity == pytest.approx(0.5, abs=0.01)
    assert trailed.sentences() == ["Stars are trailed in one direction: ellipticity 0.50 at 25°."]
    # Shown with the first row at the bottom, directions are the other way round.
    flipped = star_field(columns_of(ellipticity=0.5), (600, 800), bottom_up=True)
    assert flipped is not None
    assert flipped.angle == pytest.approx(-trailed.angle)
    assert flipped.sentences(directions=False) == [
        "Stars are trailed in one direction: ellipticity 0.50."
    ]


def test_no_stars_no_field() -> None:
    assert star_field({"fwhm": np.ones(3)}, (10, 10)) is None
    nothing = {key: np.full(3, np.nan) for key in columns_of()}
    assert star_field(nothing, (10, 10)) is None
    few = {key: values[:3] for key, values in columns_of(ellipticity=0.6).items()}
    found = star_field(few, (600, 800))
    assert found is not None
    assert found.count == 3
    assert found.sentences() == []
