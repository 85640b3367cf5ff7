"""What measuring costs beside a script that asks SciPy for one statistic after another.

    python bench/bench_measure.py

One channel of 4096 × 4096 pixels, 16 bit, with 8 000 regions of different size: every intensity
and shape quantity here, against the eleven statistics for which SciPy has something ready. Both
run one after the other in this process. Memory is what is allocated on top of the input.
"""

from __future__ import annotations

import time
import tracemalloc

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from rilievo.core.image.image import Plane, plane_from_native
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues

SIDE, ACROSS = 4096, 90
GOAL_RATIO, GOAL_SECONDS, GOAL_MEMORY = 10, 3.0, 6
PERCENTILES = (1, 5, 25, 75, 95, 99)


def made_up(side: int = SIDE, across: int = ACROSS) -> tuple[NDArray[np.int32], Plane]:
    """Return discs on a shaken grid as labels, and a 16-bit plane."""
    rng = np.random.default_rng(6)
    labels = np.zeros((side, side), np.int32)
    pitch = side / across
    number = 0
    for row in range(across):
        for column in range(across):
            radius = rng.uniform(0.25, 0.48) * pitch
            cy, cx = (row + 0.5) * pitch, (column + 0.5) * pitch
            top, left = int(cy - radius), int(cx - radius)
            size = int(2 * radius) + 2
            y, x = np.mgrid[top : top + size, left : left + size]
            inside = (y - cy) ** 2 + (x - cx) ** 2 <= radius**2
            number += 1
            labels[top : top + size, left : left + size][inside] = number
    pixels = rng.normal(1000, 60, labels.shape) + (labels > 0) * rng.uniform(400, 5000)
    return labels, plane_from_native(np.clip(pixels, 0, 65535).astype(np.uint16))


def ours(labels: NDArray[np.int32], plane: Plane) -> dict[str, NDArray[np.float64]]:
    """Return every intensity and shape quantity."""
    index = RegionIndex(labels, np.arange(1, labels.max() + 1))
    signal = plane.with_pixels(plane.as_float() - np.float32(100), plane.lattice)
    values = RegionValues(index, signal, plane)
    wanted = [q for q in QUANTITIES.values() if q.family in ("intensity", "shape")]
    return {q.key: q.measure(values) for q in wanted}


def theirs(labels: NDArray[np.int32], plane: Plane) -> dict[str, NDArray[np.float64]]:
    """Return what SciPy has a function for, one call a statistic."""
    pixels = plane.as_float() - np.float32(100)
    ids = np.arange(1, labels.max() + 1)
    found = {
        name: getattr(ndimage, function)(pixels, labels, ids)
        for name, function in (
            ("mean", "mean"),
            ("sd", "standard_deviation"),
            ("median", "median"),
            ("min", "minimum"),
            ("max", "maximum"),
            ("sum", "sum_labels"),
        )
    }
    for percent in PERCENTILES:
        found[f"p{percent:02}"] = ndimage.labeled_comprehension(
            pixels, labels, ids, lambda v, p=percent: np.percentile(v, p), np.float64, np.nan
        )
    return found


def main() -> None:
    """Print times, their ratio and the memory."""
    labels, plane = made_up()
    ours(labels[:256, :256] * (labels[:256, :256] < 20), plane_from_native(np.zeros((256, 256))))
    times = []
    for _ in range(3):
        start = time.perf_counter()
        own = ours(labels, plane)
        times.append(time.perf_counter() - start)
    start = time.perf_counter()
    other = theirs(labels, plane)
    spent = time.perf_counter() - start
    for name in ("mean", "median", "p05", "max"):
        assert np.allclose(own[name], other[name], rtol=1e-6), name
    tracemalloc.start()
    ours(labels, plane)
    peak = tracemalloc.get_traced_memory()[1] / (4 * labels.size)
    best = min(times)
    print(f"{int(labels.max())} regions, {len(own)} quantities: {best:.2f} s (goal {GOAL_SECONDS})")
    print(
        f"SciPy, {len(other)} statistics: {spent:.2f} s, {spent / best:.1f} × as long "
        f"(goal {GOAL_RATIO})"
    )
    print(f"memory at its peak: {peak:.1f} × a float32 image (goal {GOAL_MEMORY})")
    single = {}
    index = RegionIndex(labels, np.arange(1, labels.max() + 1))
    for key in own:
        values = RegionValues(index, plane, plane)
        start = time.perf_counter()
        QUANTITIES[key].measure(values)
        single[key] = time.perf_counter() - start
    worst = sorted(single.items(), key=lambda item: -item[1])[:6]
    print("dearest by themselves: " + ", ".join(f"{key} {cost:.2f} s" for key, cost in worst))


if __name__ == "__main__":
    main()
