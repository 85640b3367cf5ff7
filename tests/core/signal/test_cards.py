"""Cards in a picture: patches where they lie, curves through them, the light beside them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tifffile

from rilievo.core.errors import StepError
from rilievo.core.files.sample_parts import Part
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.signal.card_response import fit_response, patch_values
from rilievo.core.signal.cards import CARDS, CardLayout, place_card, typed_card
from rilievo.core.signal.steps.curve_card import Card
from rilievo.core.signal.uneven_light import light_through
from tests.core.signal.steps.test_steps_by_value import applied
from tests.outlines import outline

RNG = np.random.default_rng(21)
HEIGHT, WIDTH = 300, 420
GRAYS = (0.9, 0.5, 0.3, 0.18, 0.08, 0.04)
VALUES = "\n".join(map(str, GRAYS))
# A card that is turned and seen from aside.
ASKEW = [(110.0, 120.0), (300.0, 100.0), (310.0, 170.0), (105.0, 160.0)]
STRAIGHT = [(60.0, 120.0), (360.0, 120.0), (360.0, 170.0), (60.0, 170.0)]
SURROUND, COUNTS = 0.6, 3000.0


def scene(
    corners: list[tuple[float, float]], layout: CardLayout, channel: str = "gray", rim: float = 1.0
) -> np.ndarray:
    """Reflectances: a card on its even surround, on a darker table with swatches."""
    card = place_card(layout, corners)
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(float)
    u, v = card.to_card(x, y)
    found = np.full((HEIGHT, WIDTH), 0.25)
    across, down = u * layout.columns, v * layout.rows
    beyond = np.maximum(np.abs(u - 0.5) - 0.5, 0) * layout.columns
    beyond = np.maximum(beyond, np.maximum(np.abs(v - 0.5) - 0.5, 0) * layout.rows)
    found[beyond <= rim] = SURROUND
    inside = (u > 0) & (u < 1) & (v > 0) & (v < 1)
    place = (down.clip(0, layout.rows - 1e-9).astype(int) * layout.columns
             + across.clip(0, layout.columns - 1e-9).astype(int))  # fmt: skip
    found[inside] = layout.known_for(channel)[place][inside]
    for k, reflectance in enumerate(SWATCHES):
        top, left = SWATCH_PLACES[k]
        found[top : top + 24, left : left + 24] = reflectance
    return found


SWATCHES = (0.7, 0.45, 0.2, 0.1)
SWATCH_PLACES = ((20, 20), (20, 370), (250, 20), (250, 370))


def falloff(share: float = 0.3) -> np.ndarray:
    """Light that falls from the middle to the corners by a share."""
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(float)
    r2 = ((x - WIDTH / 2) ** 2 + (y - HEIGHT / 2) ** 2) / ((WIDTH / 2) ** 2 + (HEIGHT / 2) ** 2)
    return 1 - share * r2


def typed(corners: list[tuple[float, float]], **given: object) -> dict[str, object]:
    marked = [{"x": x, "y": y} for x, y in corners]
    return {"card": "typed", "values": VALUES, "columns": 6, "corners": marked, **given}


def test_corners_go_to_corners_and_back() -> None:
    card = place_card(CARDS["neutral_6"], ASKEW)
    u, v = np.array([0.0, 1, 1, 0]), np.array([0.0, 0, 1, 1])
    np.testing.assert_allclose(np.column_stack(card.to_picture(u, v)), ASKEW, atol=1e-9)
    u, v = RNG.uniform(-0.5, 1.5, (2, 50))
    back = card.to_card(*card.to_picture(u, v))
    np.testing.assert_allclose(back, (u, v), atol=1e-9)


def test_a_line_seen_in_perspective_stays_a_line() -> None:
    """Crossing points of a card's diagonals lie where those of its picture cross."""
    card = place_card(CARDS["neutral_6"], ASKEW)
    middle = np.array(card.to_picture(np.array([0.5]), np.array([0.5]))).ravel()
    a, b, c, d = (np.array(one) for one in ASKEW)
    shares = np.linalg.solve(np.column_stack([c - a, -(d - b)]), b - a)
    np.testing.assert_allclose(middle, a + shares[0] * (c - a), atol=1e-9)


def test_the_middle_of_each_patch_is_read_and_dust_is_not() -> None:
    layout = typed_card(1, 6, VALUES)
    values = scene(ASKEW, layout) * 1000
    card = place_card(layout, ASKEW)
    rows, columns, mask = card.patches(values.shape, 0.5)[2]
    assert mask.sum() > 100
    place = np.flatnonzero(mask.ravel())[:5]
    spoiled = values[rows, columns].copy()
    spoiled.ravel()[place] = 9000
    noisy = values + RNG.normal(0, 2, values.shape)
    noisy[rows, columns] = np.where(spoiled > 5000, spoiled, noisy[rows, columns])
    found = patch_values(Plane(noisy), card, 0.5)
    np.testing.assert_allclose(found, np.array(GRAYS) * 1000, atol=1.0)
    clipped = patch_values(Plane(values, saturation=850.0), card, 0.5)
    assert np.isnan(clipped).tolist() == [True, False, False, False, False, False]


@pytest.mark.parametrize(
    ("kind", "curve"),
    [
        ("line", lambda v: 0.02 + 0.0003 * v),
        ("parabola", lambda v: 0.01 + 2e-4 * v + 3e-8 * v**2),
        ("power", lambda v: 1e-4 * v**1.15),
    ],
)
def test_a_curve_goes_through_patches_that_lie_on_it(
    kind: str, curve: Callable[[np.ndarray], np.ndarray]
) -> None:
    values = np.array([100.0, 300, 700, 1200, 2000, 3000])
    response = fit_response(kind, values, curve(values))  # type: ignore[arg-type]
    at = np.linspace(100, 3000, 40)
    np.testing.assert_allclose(response.of(at), curve(at), rtol=1e-9)
    assert response.spread < 1e-9


@pytest.mark.parametrize("kind", ["line", "parabola", "power"])
def test_the_error_of_the_curve_is_how_much_it_scatters(kind: str) -> None:
    """Patches with 2 % of error, drawn again and again: pulls of one."""
    values = np.array([120.0, 300, 700, 1200, 2000, 3000, 3500, 200])
    at = np.array([150.0, 900.0, 2500.0])
    true = {"line": 2.7e-4 * values + 0.01, "parabola": 2e-4 * values + 2e-8 * values**2,
            "power": 3e-4 * values**0.97}[kind]  # fmt: skip
    truth = fit_response(kind, values, true).of(at)  # type: ignore[arg-type]
    pulls, rng = [], np.random.default_rng(8)
    for _ in range(1500):
        known = true * (1 + rng.normal(0, 0.02, values.size))
        response = fit_response(kind, values, known)  # type: ignore[arg-type]
        pulls.append((response.of(at) - truth) / response.error(at))
        table = response.errors_of_result(density=False)
        np.testing.assert_allclose(table.at(response.of(at)), response.error(at), rtol=0.02)
    # Of Student's t with few degrees the middle is compared, which outliers do not move.
    middle = np.median(np.abs(np.array(pulls)), axis=0)
    freedom = values.size - {"line": 2, "parabola": 3, "power": 2}[kind]
    from scipy.stats import t  # noqa: PLC0415

    np.testing.assert_allclose(middle, t.ppf(0.75, freedom), rtol=0.1)


def test_the_light_is_known_from_an_even_surface_with_writing_on_it() -> None:
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    inside = np.hypot(x - 200, y - 150) < 140
    values = COUNTS * falloff() + RNG.normal(0, 15, (HEIGHT, WIDTH))
    values[140:150, 120:260] *= 0.2
    light = light_through(values, inside)
    expected = falloff()
    ratio = light / light[150, 210] / (expected / expected[150, 210])
    np.testing.assert_allclose(ratio[inside], 1, rtol=0.003)
    # Beyond the surface the light is a guess that grows worse.
    np.testing.assert_allclose(ratio, 1, rtol=0.04)
    with pytest.raises(StepError, match="too little of an even surface"):
        light_through(values, inside & (x < 61) & (y < 141))


@pytest.mark.parametrize("corners", [STRAIGHT, ASKEW], ids=["straight", "askew"])
@pytest.mark.parametrize("way", ["sheet", "surround"])
def test_reflectance_within_a_percent_where_light_falls_by_thirty(
    corners: list[tuple[float, float]], way: str, tmp_path: Path
) -> None:
    """Swatches in the corners of the field, read by a card in its middle."""
    layout, offset = typed_card(1, 6, VALUES), 100.0
    true = scene(corners, layout)
    counts = offset + COUNTS * falloff() * true + RNG.normal(0, 8, true.shape)
    sheet = offset + COUNTS * falloff() * 0.8 + RNG.normal(0, 8, true.shape)
    for name, values in (("scene", counts), ("sheet", sheet)):
        tifffile.imwrite(tmp_path / f"{name}.tif", values.round().astype(np.uint16))
    given = typed(corners, light=way, frame=0.8, sheet={"file": str(tmp_path / "sheet.tif")})
    method = Method(
        steps=(
            step_use("black", "arithmetic.number", operation="subtract", number=offset),
            step_use("card", "curve.card", **given),
        )
    )
    cache = AnalysisCache()
    sample = cache.sample((Part(tmp_path / "scene.tif"),), "scene")
    found = Analysis(sample, method, cache).signal("gray")
    far = 0.01 if way == "sheet" or corners is STRAIGHT else 0.03
    for (top, left), reflectance in zip(SWATCH_PLACES, SWATCHES, strict=True):
        value = found.pixels[top + 3 : top + 21, left + 3 : left + 21].mean()
        assert value == pytest.approx(reflectance, rel=far)
    # Without a correction the corners are off by more than a tenth.
    plain = method.with_step(step_use("card", "curve.card", **typed(corners)))
    uneven = Analysis(sample, plain, cache).signal("gray").pixels[22:40, 22:40].mean()
    assert abs(uneven / SWATCHES[0] - 1) > 0.1


def test_regions_have_reflectance_density_and_the_error_of_the_curve() -> None:
    layout = typed_card(1, 6, VALUES)
    true = scene(STRAIGHT, layout)
    patches = {f"{v:g}": v * (1 + e) for v, e in zip(GRAYS, (0.01, -0.02, 0.02, 0, -0.01, 0.01),
                                                     strict=True)}  # fmt: skip
    values = "\n".join(f"{v:.5f}" for v in patches.values())
    sample = Sample("s", {"gray": Plane(COUNTS * true)})
    for result in ("reflectance", "density"):
        step = step_use("c", "curve.card", **typed(STRAIGHT, values=values, result=result))
        method = Method(
            steps=(step,),
            outlines=(outline(0.0, clean=()),),
            measure=Measure(quantities=("mean", "calibration_error")),
        )
        cache = AnalysisCache()
        table = Analysis(sample, method, cache).table()
        card = Card.model_validate(step.parameters.model_dump())
        response = fit_response("line", COUNTS * np.array(GRAYS), card.layout().known_for("gray"))
        mean = float(table.column("gray", "mean")[0])
        error = float(table.column("gray", "calibration_error")[0])
        if result == "reflectance":
            at = np.array([COUNTS * true.mean()])
            assert mean == pytest.approx(float(response.of(at)[0]), rel=1e-6)
            assert error == pytest.approx(float(response.error(at)[0]), rel=0.01)
        else:
            reflectance = 10**-mean
            at = np.array([(reflectance - response.coefficients[0]) / response.coefficients[1]])
            expected = float(response.error(at)[0]) / (reflectance * math.log(10))
            assert error == pytest.approx(expected, rel=0.02)
    smoothed = method.with_step(step_use("more", "smooth.mean", size=3))
    assert Analysis(sample, smoothed, cache).signal("gray").curve_error is None


def test_each_colour_has_its_own_curve() -> None:
    layout = CARDS["colours_24"]
    corners = [(60.0, 60.0), (360.0, 60.0), (360.0, 240.0), (60.0, 240.0)]
    for channel, gain, offset in (
        ("red", 2500.0, 40.0),
        ("green 2", 3900.0, 10.0),
        ("blue", 1800.0, 70.0),
    ):
        true = scene(corners, layout, channel)
        plane = Plane(offset + gain * true)
        step = step_use("c", "curve.card", card="colours_24",
                        corners=[{"x": x, "y": y} for x, y in corners])  # fmt: skip
        found = Analysis(Sample("s", {channel: plane}), Method(steps=(step,))).signal(channel)
        np.testing.assert_allclose(found.pixels, true, atol=1e-6)
    gray = layout.known_for("gray")
    assert np.isfinite(gray).sum() == 6
    np.testing.assert_allclose(
        layout.known_for("brightness"), layout.reflectances @ (0.2126, 0.7152, 0.0722)
    )


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"corners": ()}, "not marked yet"),
        ({"corners": [STRAIGHT[0], STRAIGHT[2], STRAIGHT[1], STRAIGHT[3]]}, "cross each other"),
        ({"corners": [*STRAIGHT[2:], *STRAIGHT[:2]]}, "does not rise"),
        (
            {"corners": [(x + 2000, y) for x, y in STRAIGHT]},
            "^0 patches .* 0 different values",
        ),
        ({"values": VALUES + "\n0.5"}, "needs 6 lines. Got 7"),
        ({"values": "dark\n" * 6}, "Line 1 of the card"),
        ({"light": "surround", "gap": 5.0, "frame": 0.001}, "too little of an even surface"),
    ],
)
def test_what_is_wrong_with_a_card_is_said(given: dict[str, object], message: str) -> None:
    plane = Plane(COUNTS * scene(STRAIGHT, typed_card(1, 6, VALUES)))
    fields = {**typed(STRAIGHT), **given}
    if "corners" in given:
        fields["corners"] = [{"x": x, "y": y} for x, y in given["corners"]]  # type: ignore[attr-defined]
    with pytest.raises(StepError, match=message):
        applied("curve.card", plane, **fields)


def test_saturated_patches_do_not_count_and_the_rest_does() -> None:
    plane = Plane(COUNTS * scene(STRAIGHT, typed_card(1, 6, VALUES)))
    clipped = replace(plane, pixels=np.minimum(plane.pixels, 0.8 * COUNTS), saturation=0.8 * COUNTS)
    found = applied("curve.card", clipped, **typed(STRAIGHT))
    assert found.pixels[30, 30] == pytest.approx(SWATCHES[0], rel=1e-6)
