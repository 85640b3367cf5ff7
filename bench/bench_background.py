"""Accuracy of each background estimator against a known background; writes the page of it.

Usage: python bench/bench_background.py            (takes about a minute; the numbers are the same
every time, because the images are made from a fixed seed)
"""

from __future__ import annotations

import functools
import sys
from pathlib import Path

import numpy as np

from rilievo.core.image.image import Plane
from rilievo.core.signal.steps import STEPS, StepContext

SIDE = 512
LEVEL = 1000.0
SHARES = (0.05, 0.2, 0.4)
NOISES = (2.0, 10.0, 40.0)
RADIUS = 9.0
ESTIMATORS = {
    "mesh, automatic": ("background.mesh", {}),
    "mesh, tile 64": ("background.mesh", {"tile": 64}),
    "surface, order 2": ("background.surface", {"order": 2}),
    "opening, paraboloid 100": ("background.opening", {"radius": 100, "smooth_before": 2}),
    "opening, disc 25": ("background.opening", {"form": "disc", "radius": 25, "smooth_before": 2}),
    "median, automatic": ("background.smoothed", {}),
    "median, 100": ("background.smoothed", {"way": "median", "width": 100}),
}


def backgrounds() -> dict[str, np.ndarray]:
    """Known backgrounds of mean about LEVEL."""
    y, x = np.mgrid[-1 : 1 : SIDE * 1j, -1 : 1 : SIDE * 1j]
    return {
        "flat": np.full((SIDE, SIDE), LEVEL),
        "tilt 20 %": LEVEL * (1 + 0.08 * x + 0.06 * y),
        "quadratic 20 %": LEVEL * (1 + 0.1 * (x - 0.2) ** 2 - 0.08 * y**2 + 0.05 * x * y),
        "vignetted 15 %": LEVEL * (1.05 - 0.075 * (x**2 + y**2)),
    }


@functools.cache
def objects(share: float, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Bright discs with soft edges that cover about a share of the field, and where they are."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:SIDE, :SIDE]
    light, covered = np.zeros((SIDE, SIDE)), np.zeros((SIDE, SIDE), bool)
    while covered.mean() < share:
        cx, cy = rng.uniform(0, SIDE, 2)
        away = np.hypot(x - cx, y - cy)
        radius = RADIUS * rng.uniform(0.8, 1.2)
        light = np.maximum(
            light, 400 * rng.uniform(0.5, 1.5) / (1 + np.exp(np.minimum((away - radius) * 2, 50)))
        )
        covered |= away < radius + 2
    return light, covered


def errors(
    name: str, truth: np.ndarray, share: float, noise: float, seed: int
) -> tuple[float, float, float, float]:
    """Bias and root mean square error in % of the level, outside and inside of objects."""
    rng = np.random.default_rng(seed)
    light, covered = objects(share, seed)
    pixels = (truth + light + rng.normal(0, noise, truth.shape)).astype(np.float32)
    key, given = ESTIMATORS[name]
    step = STEPS[key]
    parameters = step.parameters.model_validate(given)
    assert step.estimate is not None
    field = step.estimate(Plane(pixels), parameters, StepContext("made up", "gray"))
    away = 100 * (field - truth) / LEVEL
    return tuple(
        float(v)
        for part in (~covered, covered)
        for v in (away[part].mean(), np.sqrt((away[part] ** 2).mean()))
    )  # type: ignore[return-value]


def table() -> str:
    """The page."""
    lines = [
        "<!-- Made by bench/bench_background.py; do not edit. -->",
        "",
        "# Accuracy of the background estimators",
        "",
        f"Synthetic images of {SIDE}×{SIDE} pixels: a known background of about {LEVEL:g} counts,",
        "bright round objects of 18 px with 200 to 600 counts, normal noise. Given are the bias",
        "and, in brackets, the root mean square error in % of the level, *outside* / *inside* the",
        "objects (inside is what matters: there it is subtracted from what is measured).",
        "",
        "## Objects and shape of the background, noise of 10 counts",
        "",
        "| background | objects | " + " | ".join(ESTIMATORS) + " |",
        "|---|---|" + "---|" * len(ESTIMATORS),
    ]
    for shape, truth in backgrounds().items():
        for share in SHARES:
            cells = [_cell(errors(name, truth, share, 10.0, 7)) for name in ESTIMATORS]
            lines.append(f"| {shape} | {share:.0%} | " + " | ".join(cells) + " |")
    lines += [
        "",
        "## Noise, vignetted background, 20 % objects",
        "",
        "| noise (counts) | " + " | ".join(ESTIMATORS) + " |",
        "|---|" + "---|" * len(ESTIMATORS),
    ]
    truth = backgrounds()["vignetted 15 %"]
    for noise in NOISES:
        cells = [_cell(errors(name, truth, 0.2, noise, 7)) for name in ESTIMATORS]
        lines.append(f"| {noise:g} | " + " | ".join(cells) + " |")
    return "\n".join([*lines, "", *NOTES, ""])


def _cell(found: tuple[float, float, float, float]) -> str:
    out_bias, out_error, in_bias, in_error = found
    return f"{out_bias:+.2f} ({out_error:.2f}) / {in_bias:+.2f} ({in_error:.2f})"


NOTES = [
    "An opening runs along the lower side of the noise, so that it lies below the background by",
    "one to two standard deviations of the smoothed image; it climbs into a cluster of objects",
    "that is wider than its body. A mesh needs tiles several times the size of the objects. The",
    "surface is nearest where the background is as smooth as its order; it bends no further. A",
    "wide median is drawn up by objects: it is for few and small ones.",
]


if __name__ == "__main__":
    page = table()
    target = Path(__file__).parent.parent / "docs" / "background-accuracy.md"
    target.write_text(page, encoding="utf-8")
    sys.stdout.write(page)
