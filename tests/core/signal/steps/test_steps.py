"""The contract of every step, over the registry."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from pydantic import ValidationError

from rilievo.core.errors import StepError
from rilievo.core.image.image import Plane, Sample, placed, plane_from_native
from rilievo.core.image.pyramid import halved
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.pyramids import coarse_level
from rilievo.core.signal.steps import FAMILIES, STEPS, Step, StepContext

PATCH = {"x": 0, "y": 0, "width": 2, "height": 1}
FRAME = {"files": [{"file": "frame"}]}

# Parameters that make each step do something; “frame” and “mask” stand for files.
EXAMPLES: dict[str, dict[str, Any]] = {
    "arithmetic.absolute": {},
    "arithmetic.combine": {"channels": ["other"], "files": FRAME},
    "arithmetic.formula": {"formula": "2 × this − other ÷ 4 + mean(other)"},
    "arithmetic.image": {"files": FRAME, "factor": 0.5},
    "arithmetic.light": {"level": 50},
    "arithmetic.limits": {"lowest": 3, "highest": 800},
    "arithmetic.match": {"reference": {"file": "frame"}},
    "arithmetic.negative": {"white": 900},
    "arithmetic.number": {"operation": "divide", "number": 4},
    "background.level": {"level": 12.25},
    "background.mesh": {"tile": 8, "filter_tiles": 1},
    "background.opening": {"radius": 5, "form": "ball"},
    "background.patch": {"patches": [PATCH, {**PATCH, "y": 1}]},
    "background.smoothed": {"width": 6},
    "background.surface": {"order": 1, "objects": "both"},
    "curve.calibrate": {
        "points": [{"intensity": v, "value": 2 + v / 7} for v in (1, 40, 900)],
    },
    "curve.card": {
        "card": "typed",
        "values": ".1\n.2\n.3\n.4\n.5\n.6",
        "picture": {"file": "frame"},
        "corners": [{"x": x, "y": y} for x, y in ((0, 0), (29, 0), (29, 23), (0, 23))],
    },
    "curve.equalise": {},
    "curve.local_contrast": {"size": 5},
    "curve.log": {},
    "curve.power": {"exponent": 0.5},
    "filter.difference": {},
    "filter.high_pass": {"size": 5},
    "filter.kernel": {"matrix": "1 2 1; 2 4 2; 1 2 1"},
    "filter.low_pass": {"size": 5},
    "frames.dark": {"dark": FRAME},
    "frames.flat": {"flat": FRAME},
    "frames.reference": {"reference": FRAME, "factor": "one"},
    "geometry.bin": {"size": 2, "way": "sum"},
    "geometry.crop": {"rectangle": {"x": 1, "y": 0, "width": 3, "height": 2}},
    "geometry.flip": {},
    "geometry.register": {"reference": {"file": "frame"}},
    "geometry.shift": {"right": 1, "down": -1},
    "geometry.turn": {"quarters": 1},
    "repair.mask": {"mask": {"files": [{"file": "mask"}]}},
    "repair.outliers": {"sigmas": 4},
    "repair.pixels": {"repairs": [{"x": 1, "y": 0}]},
    "sharpen.unsharp": {},
    "smooth.gaussian": {"sigma": 1.5},
    "smooth.mean": {"size": 3},
    "smooth.median": {"size": 3},
}
# What cannot be told from its pixels alone: it needs a plane of another size, spread or light.
GLOBAL_SPREAD = {"arithmetic.light", "curve.card", "arithmetic.match", "geometry.register"}


class FakeSources:
    """Another channel and files of the plane's own size, without any file."""

    def __init__(self, like: Plane) -> None:
        rows, columns = np.indices(like.shape)
        self._ramp = Plane((100 + 3 * rows + 2 * columns).astype(np.float32))

    def channel(self, name: str) -> Plane:
        return self._ramp

    def frames(self, frames: Any, role: str, like: Plane) -> Plane:
        if frames.files[0].file == "mask":
            mask = np.zeros(like.shape, np.float32)
            mask[0, 0] = 1
            return Plane(mask)
        return self._ramp

    def exposure(self, frames: Any, role: str) -> float:
        return 2.0

    def reference(self, reference: Any, role: str) -> Plane:
        return self._ramp


def context(plane: Plane) -> StepContext:
    return StepContext("a sample", "gray", sources=FakeSources(plane), exposure=4.0)


def applied(step: Step, plane: Plane, **changes: Any) -> Plane:
    parameters = step.parameters.model_validate({**EXAMPLES[step.key], **changes})
    return step.apply(plane, parameters, context(plane))


@pytest.fixture(params=list(STEPS))
def step(request: pytest.FixtureRequest) -> Step:
    return STEPS[request.param]


def noisy(shape: tuple[int, int] = (24, 30), seed: int = 5) -> np.ndarray:
    rng = np.random.default_rng(seed)
    rows, columns = np.indices(shape)
    return (200 + 2 * rows + 3 * columns + rng.normal(0, 5, shape)).round().astype(np.uint16)


def test_every_step_has_an_example_and_a_family() -> None:
    assert set(EXAMPLES) == set(STEPS)
    assert {entry.family for entry in STEPS.values()} == set(FAMILIES)


def test_input_is_never_changed_and_shape_is_kept(step: Step) -> None:
    plane = plane_from_native(noisy())
    before = plane.pixels.copy()
    result = applied(step, plane)
    np.testing.assert_array_equal(plane.pixels, before)
    if not step.resizes:
        assert result.shape == plane.shape
    if step.transform is None:
        assert result.pixels.dtype == np.float32


def test_undefined_pixels_stay_undefined_and_touch_no_others(step: Step) -> None:
    pixels = noisy().astype(np.float32)
    pixels[7, 9] = np.nan
    result = applied(step, Plane(pixels))
    if step.transform is not None:
        return
    undefined = np.isnan(result.pixels)
    assert undefined[7, 9]
    assert undefined.sum() == 1


def test_moved_pixels_keep_their_values_and_tell_where_they_went(step: Step) -> None:
    if step.transform is None or step.key == "geometry.bin":
        return
    pixels = np.arange(24 * 30, dtype=np.float32).reshape(24, 30)
    result = applied(step, Plane(pixels))
    for y in range(24):
        for x in range(30):
            to_x, to_y = (round(v) for v in placed(result.placement, x, y))
            if 0 <= to_x < result.shape[1] and 0 <= to_y < result.shape[0]:
                assert result.pixels[to_y, to_x] == pixels[y, x]
    assert np.isin(result.pixels[np.isfinite(result.pixels)], pixels).all()


@pytest.mark.parametrize("shape", [(1, 1), (1, 9), (9, 1), (2, 3)])
def test_tiny_planes_give_a_result_or_a_sentence(step: Step, shape: tuple[int, int]) -> None:
    plane = plane_from_native(np.arange(1, 1 + shape[0] * shape[1], dtype=np.uint8).reshape(shape))
    try:
        result = applied(step, plane)
    except StepError as error:
        assert str(error).endswith(".")
    else:
        assert result.pixels.ndim == 2
        assert not np.isinf(result.pixels).any()


@pytest.mark.parametrize("level", [0, 9])
def test_constant_planes_stay_constant(step: Step, level: int) -> None:
    if step.key in ("arithmetic.image", "arithmetic.combine", "arithmetic.formula"):
        return
    if step.key.startswith("frames.") or step.key == "geometry.shift":
        return
    try:
        result = applied(step, plane_from_native(np.full((12, 12), level, np.uint8)))
    except StepError:
        assert step.key in GLOBAL_SPREAD
        return
    finite = result.pixels[np.isfinite(result.pixels)]
    assert np.ptp(finite) < 1e-4 if finite.size else True


def test_all_undefined_planes_stay_so(step: Step) -> None:
    plane = Plane(np.full((12, 12), np.nan, np.float32))
    try:
        result = applied(step, plane)
    except StepError as error:
        assert str(error).endswith(".")
    else:
        assert np.isnan(result.pixels).all()


def test_integer_and_float_input_agree(step: Step) -> None:
    pixels = noisy()
    as_int = applied(step, plane_from_native(pixels))
    as_float = applied(step, Plane(pixels.astype(np.float32)))
    np.testing.assert_allclose(as_int.pixels, as_float.pixels, rtol=1e-6)


@settings(max_examples=15, suppress_health_check=[HealthCheck.too_slow])
@given(
    arrays(np.float64, (9, 11), elements=st.floats(-1000, 1000, width=32)),
    st.sampled_from([0.25, 3.0]),
    st.sampled_from([-50.0, 700.0]),
)
def test_linear_steps_are_linear(pixels: np.ndarray, factor: float, offset: float) -> None:
    """A step called linear takes a·v + b to a·step(v) + constant."""
    for step in STEPS.values():
        if not step.is_linear() or step.key in GLOBAL_SPREAD | {"geometry.shift", "geometry.bin"}:
            continue
        if step.family == "Frames" or step.key in (
            "frames.reference", "arithmetic.image", "arithmetic.combine", "arithmetic.negative",
            "repair.outliers", "background.opening", "background.surface",
        ):  # fmt: skip
            continue  # of two images, or with noise limits
        plain = applied(step, Plane(pixels)).pixels
        scaled = applied(step, Plane(pixels * factor + offset)).pixels
        away = scaled - factor * plain
        assert np.ptp(away) <= 1e-6 * (1 + np.abs(scaled).max() + np.abs(plain).max()), step.key


@pytest.mark.slow
def test_a_constant_becomes_what_the_step_says(step: Step) -> None:
    if not step.is_linear() or step.transform is not None or step.estimate is not None:
        return
    parameters = step.parameters.model_validate(EXAMPLES[step.key])
    factor = step.error_after(parameters, 1.0)
    if factor is None:
        return
    pixels = noisy().astype(np.float64)
    change = applied(step, Plane(pixels + 100)).pixels - applied(step, Plane(pixels)).pixels
    change = np.delete(change.ravel(), [1]) if step.key == "repair.pixels" else change
    np.testing.assert_allclose(np.abs(change), abs(factor) * 100, atol=1e-6)


def test_parameters_are_checked_and_explained(step: Step) -> None:
    with pytest.raises(ValidationError):
        step.parameters.model_validate({"no such": 1})
    assert step.explanation.endswith(".")
    assert (step.transform or step.estimate or step.apply).__doc__
    for name, field in step.parameters.model_fields.items():
        assert field.title, f"{step.key}: {name} has no title for its form"


def test_round_trip_through_a_method_file(step: Step, tmp_path: Path) -> None:
    method = Method(steps=(step_use("a", step.key, **EXAMPLES[step.key]),))
    method.save(tmp_path / "m.json")
    loaded = Method.load(tmp_path / "m.json")
    assert loaded.to_json(tmp_path) == method.to_json(tmp_path)
    assert Method.from_json(method.to_json()) == method


def _scene(side: int = 96) -> np.ndarray:
    """Smooth ground with wide blobs, so that a coarser picture shows the same."""
    rows, columns = np.indices((side, side)) / side
    values = 300 + 80 * rows + 50 * columns**2
    for y, x in ((0.3, 0.3), (0.7, 0.6)):
        values += 400 * np.exp(-((rows - y) ** 2 + (columns - x) ** 2) / (2 * 0.09**2))
    return values.astype(np.float32)


COARSE = {
    "background.mesh": {"tile": 48, "statistic": "median"},
    "background.opening": {"radius": 30, "form": "disc"},
    "background.surface": {"order": 2},
    "background.smoothed": {"width": 24},
    "background.patch": {"patches": [{"x": 60, "y": 4, "width": 24, "height": 20}]},
    "filter.difference": {"inner": 4, "outer": 12},
    "filter.high_pass": {"size": 193},
    "filter.low_pass": {"size": 65},
    "geometry.crop": {"rectangle": {"x": 8, "y": 16, "width": 64, "height": 48}},
    "geometry.bin": {"size": 2, "way": "sum"},
    "geometry.shift": {"right": 8, "down": -4},
    "curve.local_contrast": {"size": 45},
    "repair.pixels": {"repairs": [{"x": 8, "y": 8, "width": 4, "height": 4}]},
    "sharpen.unsharp": {"sigma": 8},
    "smooth.gaussian": {"sigma": 6},
    "smooth.mean": {"size": 13},
    "smooth.median": {"size": 13},
    # Without noise every bend would be an outlier.
    "repair.outliers": {"sigmas": 1000},
}


def test_a_coarse_level_shows_what_the_exact_result_will(step: Step, tmp_path: Path) -> None:
    """Within 8 % of what the picture spans, away from the border, at a quarter of the size."""
    for name, pixels in (("frame", _scene()[::-1].copy()), ("mask", np.zeros((96, 96), np.uint8))):
        tifffile.imwrite(tmp_path / name, pixels)
    sample = Sample(
        "s", {"gray": Plane(_scene()), "other": Plane(_scene().T.copy())}, checksum="coarse"
    )
    given = {**EXAMPLES[step.key], **COARSE.get(step.key, {})}
    method = Method(steps=(step_use("a", step.key, **given),))
    text = method.to_json().replace('"file": "', f'"file": "{tmp_path}/')
    method = Method.from_json(text)
    cache = AnalysisCache()
    exact = Analysis(sample, method, cache).signal("gray").pixels
    coarse = Analysis(sample, method, cache).chain(2).after("gray", 1).plane.pixels
    expected = halved(halved(exact))
    assert coarse.shape == expected.shape
    inner = (slice(3, -3), slice(3, -3))
    away = np.abs(coarse - expected)[inner]
    span = np.nanmax(expected) - np.nanmin(expected)
    assert np.nanmax(away) <= 0.08 * span


def test_small_planes_are_not_coarsened() -> None:
    assert coarse_level((500, 500)) == 0
    assert coarse_level((4096, 4096)) == 3
