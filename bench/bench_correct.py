"""What corrections cost: ratios to copying the image, and how soon a change is seen.

Usage: python bench/bench_correct.py          (two to three minutes; run it alone)
"""

from __future__ import annotations

import sys
import time
import tracemalloc
from collections.abc import Callable
from typing import Any

import numpy as np

from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.pyramids import coarse_level, pyramid_of, visible
from rilievo.core.signal.medians import median
from rilievo.core.signal.opening import _lowest, body, opened_by_paraboloid
from rilievo.core.signal.steps import STEPS, StepContext
from rilievo.core.view.sampling import Viewport

SIDE = 4096
CONTEXT = StepContext("bench", "gray")


def say(text: str) -> None:
    sys.stdout.write(text + "\n")


def picture(side: int = SIDE) -> np.ndarray:
    """Vignetted ground with noise and bright spots."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j]
    values = 1000 - 150 * (x**2 + y**2) + rng.normal(0, 10, x.shape)
    for cy, cx in rng.integers(20, side - 20, (side // 8, 2)):
        values[cy - 8 : cy + 8, cx - 8 : cx + 8] += 400
    return values.astype(np.float32)


def seconds(work: Callable[[], object], times: int = 3) -> float:
    """The shortest of a few runs."""
    best = float("inf")
    for _ in range(times):
        start = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - start)
    return best


def peak(work: Callable[[], object]) -> int:
    """The most memory that was held at once, beside what was there before."""
    tracemalloc.start()
    work()
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return most


def backgrounds(pixels: np.ndarray) -> None:
    """Backgrounds against a copy of the image."""
    copy = seconds(pixels.copy, 7)
    say(f"copy of {SIDE}×{SIDE} float32: {1000 * copy:.1f} ms")
    plane = Plane(pixels)
    wanted: list[tuple[str, str, dict[str, Any], str]] = [
        ("mesh, tile 64", "background.mesh", {}, "25"),
        ("surface, order 2", "background.surface", {}, ""),
        ("median, 100", "background.smoothed", {}, ""),
    ]
    wanted += [
        (f"{form}, radius {radius}", "background.opening",
         {"form": form, "radius": radius, "smooth_before": 0}, "60, memory 6")
        for form in ("paraboloid", "ball") for radius in (50, 200)
    ]  # fmt: skip
    wanted.append(("ball, radius 20 (exact)", "background.opening",
                   {"form": "ball", "radius": 20, "smooth_before": 0}, ""))  # fmt: skip
    for name, key, given, goal in wanted:
        step = STEPS[key]
        parameters = step.parameters.model_validate(given)
        estimate = step.estimate
        assert estimate is not None
        estimate(Plane(pixels[:256, :256]), parameters, CONTEXT)

        def work(estimate: Any = estimate, parameters: Any = parameters) -> object:
            return estimate(plane, parameters, CONTEXT)

        ratio = seconds(work, 1 if "exact" in name else 3) / copy
        memory = peak(work) / pixels.nbytes
        aim = f"   (goal: {goal} ×)" if goal else ""
        say(f"  {name:26} {ratio:6.1f} × the copy, memory {memory:.1f} × the image{aim}")


def compiled_gain(pixels: np.ndarray) -> None:
    """The compiled loops against the best NumPy and SciPy have for the same result."""
    from scipy import ndimage  # noqa: PLC0415

    values = pixels[:1024, :1024].astype(np.float64)
    rise = 1 / 100
    # As far as a parabola can reach within the range of the values.
    reach = int(np.sqrt(np.ptp(values) / rise)) + 1

    def plain() -> np.ndarray:
        result = values
        for sign in (1, -1):
            for axis in (1, 0):
                room = [(reach, reach) if a == axis else (0, 0) for a in (0, 1)]
                padded = np.pad(sign * result, room, constant_values=np.inf)
                lowest = np.full(values.shape, np.inf)
                for d in range(-reach, reach + 1):
                    part = padded.take(range(reach + d, reach + d + 1024), axis=axis)
                    np.minimum(lowest, part + rise * d * d, out=lowest)
                result = sign * lowest
        return result

    quick = seconds(lambda: opened_by_paraboloid(values, 50.0))
    slow = seconds(plain, 1)
    assert np.allclose(plain(), opened_by_paraboloid(values, 50.0))
    say(f"compiled envelope, 1024×1024, radius 50: {slow / quick:.0f} × faster than NumPy")
    single = values.astype(np.float32)
    heights, widths = body("ball", 8, 1.0)
    along = np.arange(-8, 9)
    inside = along[:, None] ** 2 + along**2 <= 64
    slow = seconds(lambda: ndimage.grey_erosion(single, footprint=inside, structure=heights), 1)
    quick = seconds(lambda: _lowest(single, heights, widths))
    say(f"compiled erosion by a ball of 8: {slow / quick:.0f} × faster than SciPy")
    slow = seconds(lambda: ndimage.median_filter(single, 5), 1)
    quick = seconds(lambda: median(single, 5))
    say(f"compiled median of 5×5: {slow / quick:.1f} × faster than SciPy")


def five_steps(pixels: np.ndarray) -> None:
    """A late parameter of five steps is changed."""
    native = np.clip(pixels, 0, 65535).round().astype(np.uint16)
    sample = Sample("bench", {"gray": plane_from_native(native)}, checksum="bench")
    method = Method(
        steps=(
            step_use("level", "background.level", level=100),
            step_use("mesh", "background.mesh"),
            step_use("smooth", "smooth.gaussian", sigma=1.5),
            step_use("times", "arithmetic.number", number=2),
            step_use("power", "curve.power", exponent=1.5),
        )
    )
    cache = AnalysisCache(8_000_000_000)
    whole = seconds(lambda: pyramid_of(Analysis(sample, method, cache), "gray"), 1)
    level = coarse_level(native.shape)
    Analysis(sample, method, cache).chain(level).after("gray", 5)
    view = Viewport(1500, 1500, 1.0, 850, 480)
    say(f"five steps on {SIDE}×{SIDE}: all of it the first time {whole:.2f} s")
    for what, step_id, name, values in (
        ("the last step's", "power", "exponent", (1.4, 1.3, 1.2)),
        ("the third step's", "smooth", "sigma", (1.6, 1.7, 1.8)),
    ):
        coarse, seen, exact = [], [], []
        for value in values:
            changed = step_edits.with_parameters(method, step_id, **{name: value})
            chain = Analysis(sample, changed, cache).chain(level)
            coarse.append(seconds(lambda chain=chain: chain.after("gray", 5), 1))  # type: ignore[misc]
            seen.append(seconds(
                lambda changed=changed: visible(Analysis(sample, changed, cache), "gray", view), 1  # type: ignore[misc]
            ))  # fmt: skip
            exact.append(seconds(
                lambda changed=changed: Analysis(sample, changed, cache).signal("gray"), 1  # type: ignore[misc]
            ))  # fmt: skip
        say(
            f"  {what} parameter changed: coarse {1000 * min(coarse):.0f} ms (goal 50), visible "
            f"part {1000 * min(seen):.0f} ms, exact {min(exact):.2f} s (goal 1.5)"
        )


if __name__ == "__main__":
    made = picture()
    backgrounds(made)
    compiled_gain(made)
    five_steps(made)
