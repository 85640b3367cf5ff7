"""Automatic backgrounds under objects of known size and coverage, and what is said of others."""

from __future__ import annotations

import zlib

import numpy as np
import pytest

from rilievo.core.image.image import Plane
from rilievo.core.signal.object_finder import find_objects
from rilievo.core.signal.steps import STEPS, StepContext
from rilievo.core.signal.steps.beside_objects import background_doubts

SIGNAL = 200.0


def field(
    kind: str, radius: float, coverage: float, noise: float, side: int = 384
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return a picture, its background, and the objects' own light."""
    rng = np.random.default_rng(zlib.crc32(f"{kind} {radius} {coverage} {noise}".encode()))
    y, x = np.mgrid[:side, :side].astype(float)
    u, v = x / side - 0.5, y / side - 0.5
    if kind == "tilt":
        background = 500 + 150 * (u + 0.6 * v)
    elif kind == "vignette":
        background = 575 - 300 * (u**2 + v**2)
    else:
        wide = float(kind.removeprefix("bumps ")) / 2.355
        background = 500 + 45 * u
        for _ in range(max(3, int(0.35 * (side / wide / 2.355) ** 2))):
            cx, cy = rng.uniform(0, side, 2)
            bump = np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / (2 * wide**2))
            background = background + 75 * rng.choice([-1, 1]) * bump
    light, lit = np.zeros((side, side)), 0
    for _ in range(20_000):
        if lit / light.size >= coverage:
            break
        cx, cy = rng.uniform(0, side, 2)
        size = radius * rng.uniform(0.85, 1.15)
        top, left = (max(int(c - size - 2), 0) for c in (cy, cx))
        near = np.s_[top : int(cy + size + 4), left : int(cx + size + 4)]
        around = light[near]
        away = np.hypot(x[near] - cx, y[near] - cy)
        if coverage <= 0.45 and (around[away <= size + 1] > 0).any():
            continue
        lit -= np.count_nonzero(around > SIGNAL / 3)
        edge = np.clip((size - away) / 1.5 + 0.5, 0, 1)
        np.maximum(around, SIGNAL * rng.uniform(0.7, 1.3) * edge, out=around)
        lit += np.count_nonzero(around > SIGNAL / 3)
    return background + light + rng.normal(0, noise, light.shape), background, light


def estimated(key: str, pixels: np.ndarray, **parameters: object) -> tuple[np.ndarray, dict]:
    step, context = STEPS[key], StepContext("s", "gray")
    assert step.estimate is not None
    plane = Plane(pixels.astype(np.float32))
    found = step.estimate(plane, step.parameters.model_validate(parameters), context)
    return np.asarray(found), context.numbers


def off(found: np.ndarray, background: np.ndarray, light: np.ndarray) -> float:
    """The error at the objects as a share of their signal."""
    there = light > SIGNAL / 3
    return float((found - background)[there].mean() / light[there].mean())


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["tilt", "vignette", "bumps 200"])
@pytest.mark.parametrize("radius", [6, 12, 30])
@pytest.mark.parametrize("coverage", [0.05, 0.4, 0.6])
@pytest.mark.parametrize("noise", [5, 40])
def test_the_automatic_choice_holds_what_it_promises(
    kind: str, radius: float, coverage: float, noise: float
) -> None:
    pixels, background, light = field(kind, radius, coverage, noise)
    found, numbers = estimated("background.mesh", pixels)
    most = 0.02 if coverage <= 0.4 else 0.05
    # A field this small holds a dozen of the largest objects.
    most += 0.01 if radius == 30 else 0.0
    doubtful = bool(background_doubts(numbers))
    assert abs(off(found, background, light)) <= most or doubtful
    assert numbers["chosen"] >= 24


@pytest.mark.parametrize(
    ("key", "automatic"),
    [
        ("background.mesh", {}),
        ("background.smoothed", {}),
        ("background.surface", {}),
        ("background.opening", {}),
    ],
)
def test_each_kind_leaves_objects_out(key: str, automatic: dict[str, object]) -> None:
    pixels, background, light = field("tilt", 12, 0.4, 15)
    found, numbers = estimated(key, pixels, **automatic)
    assert abs(off(found, background, light)) < 0.04
    assert numbers["coverage"] == pytest.approx(40, abs=8)
    assert numbers["object_radius"] == pytest.approx(12, abs=6)


@pytest.mark.parametrize(
    ("key", "typed"),
    [("background.mesh", {"tile": 64}), ("background.smoothed", {"width": 100})],
)
def test_a_typed_length_that_is_beyond_the_estimator_is_said(
    key: str, typed: dict[str, object]
) -> None:
    pixels, background, light = field("tilt", 30, 0.4, 10)
    found, numbers = estimated(key, pixels, **typed)
    error = off(found, background, light)
    assert error > 0.05
    assert any("automatic tile" in text for text in background_doubts(numbers))
    assert numbers["off"] == pytest.approx(100 * error, rel=0.5)


def test_bumps_as_small_as_the_objects_are_warned_of() -> None:
    pixels, _, _ = field("bumps 60", 30, 0.4, 10)
    _, numbers = estimated("background.mesh", pixels)
    assert any("cannot be told from them" in text for text in background_doubts(numbers))


def test_dark_objects_and_none() -> None:
    pixels, background, light = field("vignette", 12, 0.2, 10)
    dark = 2 * background - pixels
    found, _ = estimated("background.mesh", dark)
    assert abs(off(found, background, light)) < 0.02
    rng = np.random.default_rng(1)
    assert find_objects(rng.normal(100, 5, (200, 200))) is None
    assert find_objects(np.full((60, 60), np.nan)) is None
    assert find_objects(np.ones((3, 3))) is None
    _, numbers = estimated("background.mesh", rng.normal(100, 5, (200, 200)))
    assert numbers["chosen"] == 64


def test_what_was_automatic_already_is_not_the_remedy() -> None:
    told = {"off": 12.0, "coverage": 50.0, "object_radius": 20.0}
    (typed,) = background_doubts(told)
    (automatic,) = background_doubts({**told, "chosen": 40.0})
    assert "with an automatic tile" in typed
    assert "picture without objects" in automatic
    assert "with an automatic tile" not in automatic
