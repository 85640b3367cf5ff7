"""CPU of `rilievo run` beside a plain SciPy script that does the same, and the cost of tiny images.

    python bench/bench_run.py [--fields 60] [--tiny 2000] [--profile]

Both are processes of their own, started one after the other; CPU and memory are theirs, start and
report included. Prints ratios; asserts nothing.
"""

from __future__ import annotations

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import tifffile

from bench_batch import make_samples

HERE = Path(__file__).parent
METHOD = Path(__file__).parents[1] / "src/rilievo/core/method/shipped/uneven-fluorescence.json"


def spent(command: list[str]) -> tuple[float, float]:
    """CPU and wall seconds of a command and all its children."""
    before, start = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(
        command,
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ},
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return cpu, time.perf_counter() - start


def rilievo(*words: object) -> list[str]:
    return [sys.executable, "-m", "rilievo", *map(str, words)]


def tiny_images(folder: Path, count: int) -> list[Path]:
    """64 × 64 pixels with a few bright squares."""
    rng, paths = np.random.default_rng(3), []
    for k in range(count):
        values = rng.normal(200, 10, (64, 64))
        for y, x in rng.integers(4, 54, (4, 2)):
            values[y : y + 7, x : x + 7] += 400
        paths.append(folder / f"tiny-{k:06}.tif")
        tifffile.imwrite(paths[-1], values.astype(np.uint16))
    return paths


def main() -> None:
    options = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    options.add_argument("--fields", type=int, default=60)
    options.add_argument("--tiny", type=int, default=2000)
    given = options.parse_args()
    with tempfile.TemporaryDirectory(prefix="rilievo-bench-") as name:
        folder = Path(name)
        if given.fields:
            (folder / "fields").mkdir()
            paths = make_samples(folder / "fields", given.fields)
            plain = [sys.executable, str(HERE / "plain_script.py"), str(folder / "plain.csv")]
            theirs, _ = spent([*plain, *map(str, paths)])
            ours, wall = spent(rilievo("run", METHOD, folder / "fields", "--out", folder / "out"))
            again, _ = spent(rilievo("run", METHOD, folder / "fields", "--out", folder / "out"))
            print(f"SciPy script: {theirs / given.fields:.3f} s of CPU a field")
            print(
                f"rilievo run: {ours / given.fields:.3f} s ({wall / given.fields:.3f} s wall), "
                f"{ours / theirs:.2f} × (goal 0.35)"
            )
            print(f"the same again, nothing changed: {again:.1f} s in all")
        if given.tiny:
            (folder / "tiny").mkdir()
            tiny_images(folder / "tiny", given.tiny)
            ours, wall = spent(rilievo("run", METHOD, folder / "tiny", "--out", folder / "small"))
            print(
                f"{given.tiny} images of 64 × 64: {1000 * ours / given.tiny:.1f} ms of CPU each "
                f"({1000 * wall / given.tiny:.1f} ms wall; goal 5)"
            )


if __name__ == "__main__":
    main()
