"""Curves from intensity to a physical quantity."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.errors import StepError
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.signal.intensity_curves import CalibrationPoint, fit_curve

TRUE = {
    "linear": lambda v: 3 + 0.02 * v,
    "quadratic": lambda v: 3 + 0.02 * v + 1e-6 * v**2,
    "cubic": lambda v: 3 + 0.02 * v + 1e-6 * v**2 - 1e-10 * v**3,
    "log_linear": lambda v: 4 - 1.1 * np.log10(v),
}


def points(kind: str, noise: float = 0.0) -> list[CalibrationPoint]:
    rng = np.random.default_rng(1)
    levels = np.linspace(100, 60_000, 21)
    values = TRUE[kind](levels) + rng.normal(0, noise, 21)
    return [
        CalibrationPoint(intensity=v, value=y)
        for v, y in zip(levels.tolist(), values.tolist(), strict=True)
    ]


@pytest.mark.parametrize("kind", TRUE)
def test_a_curve_is_found_again(kind: str) -> None:
    curve = fit_curve(kind, points(kind))
    at = np.array([150.0, 5_000, 30_000])
    np.testing.assert_allclose(curve.of(at), TRUE[kind](at), rtol=1e-8)
    assert curve.r_squared == pytest.approx(1)
    assert curve.largest_residual < 1e-6
    assert curve.span == (100, 60_000)


def test_residuals_are_what_the_curve_leaves() -> None:
    made = points("linear", noise=2.0)
    curve = fit_curve("linear", made)
    slope, start = np.polyfit([p.intensity for p in made], [p.value for p in made], 1)
    np.testing.assert_allclose(curve.coefficients, [start, slope], rtol=1e-9)
    off = [p.value - (start + slope * p.intensity) for p in made]
    np.testing.assert_allclose(curve.residuals, off, atol=1e-6)
    assert curve.text() == f"{start:.6g} + {slope:.6g}·v"


def test_optical_density() -> None:
    curve = fit_curve("optical_density", [], white=50_000)
    np.testing.assert_allclose(curve.of(np.array([50_000, 5_000, 500])), [0, 1, 2])
    assert np.isnan(curve.of(np.array([0.0, -5.0]))).all()
    with pytest.raises(StepError, match="needs the intensity of white"):
        fit_curve("optical_density", [])


def test_too_few_points_say_how_many_are_needed() -> None:
    with pytest.raises(StepError, match=r"at least 3 points of different intensity\. Got 2"):
        fit_curve("quadratic", points("linear")[:2])
    with pytest.raises(StepError, match="at least 2 points"):
        fit_curve("linear", [points("linear")[0]] * 3)
    with pytest.raises(StepError, match="intensities above 0"):
        fit_curve("log_linear", [CalibrationPoint(intensity=0, value=1)] * 2)


def calibrated(kind: str, **fields: object) -> tuple[Plane, tuple[str, ...], str]:
    values = np.array([[200.0, 1_000.0, 90_000.0]], np.float32)
    sample = Sample("s", {"gray": Plane(values)})
    given = {"points": [p.model_dump() for p in points(kind)], "unit": "mg/ml", **fields}
    method = Method(
        steps=(step_use("c", "curve.calibrate", kind=kind, **given),),
        outlines=(ClassDefinition(threshold=hand_threshold(-1e9), clean=()),),
        measure=Measure(quantities=("mean", "native_mean")),
    )
    cache = AnalysisCache()
    table = Analysis(sample, method, cache).table()
    return (
        Analysis(sample, method, cache).signal("gray"),
        table.marks["gray"],
        table.heading("mean"),
    )


def test_the_step_is_marked_and_has_its_unit() -> None:
    plane, marks, heading = calibrated("linear")
    np.testing.assert_allclose(plane.pixels, TRUE["linear"](np.array([[200, 1000, 90_000]])))
    assert marks == ("calibrated",)
    assert heading == "Mean (mg/ml)"
    _, marks, _ = calibrated("log_linear")
    assert marks == ("not linear", "calibrated")


def test_beyond_the_points_can_be_left_undefined() -> None:
    plane, _, _ = calibrated("linear", outside="undefined")
    assert np.isnan(plane.pixels).tolist() == [[False, False, True]]


@pytest.mark.parametrize(("kind", "needs"), [("linear", 2), ("quadratic", 3), ("cubic", 4)])
def test_as_many_points_as_fix_a_curve_are_enough(kind: str, needs: int) -> None:
    some = points(kind)[:: 20 // (needs - 1)][:needs]
    assert fit_curve(kind, some).r_squared == pytest.approx(1)
    with pytest.raises(StepError, match=f"at least {needs}"):
        fit_curve(kind, some[:-1])
