"""A batch of many samples: its time against reading plus computing, memory, two processes.

Usage: python bench/bench_batch.py [--samples 1000] [--jobs 2] [--folder DIR]

The samples are synthetic: 1024×1024 pixels, 16 bit, two channels, about thirty cells each. Prints
times and their ratios; asserts nothing. Takes about ten minutes with 1000 samples.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import resource
import shutil
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numba
import numpy as np
import tifffile
from tests.core.helpers.measuring import run_batch

from rilievo.core.batch import Progress, ResultStore
from rilievo.core.batch.outcome import outcome_of
from rilievo.core.files import read_sample
from rilievo.core.files.reader import file_checksum
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.demo.lipid import lipid_method

SIDE, CELLS, DIFFERENT = 1024, 30, 8
COMPUTED = 12


def scene(seed: int) -> np.ndarray:
    """Two channels of bright cells on an uneven background, shape (2, SIDE, SIDE)."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:SIDE, :SIDE].astype(np.float32)
    light = np.stack([100 + 20 * x / SIDE, 100 + 10 * y / SIDE])
    for _ in range(CELLS):
        cx, cy, radius = (*rng.uniform(40, SIDE - 40, 2).tolist(), rng.uniform(12, 20))
        x0, y0 = int(cx) - 30, int(cy) - 30
        part = np.s_[max(y0, 0) : y0 + 60, max(x0, 0) : x0 + 60]
        inside = np.hypot(x[part] - cx, y[part] - cy) < radius
        light[0][part] += 700 * inside
        light[1][part] += rng.uniform(100, 900) * inside
    return light.astype(np.float32)


def make_samples(folder: Path, count: int) -> list[Path]:
    """Write the samples: a few scenes, shifted, each with noise of its own."""
    scenes = [scene(k) for k in range(DIFFERENT)]
    rng, paths = np.random.default_rng(99), []
    noise = rng.normal(0, 12, (2, 2 * SIDE, 2 * SIDE)).astype(np.float32)
    for k in range(count):
        dy, dx = rng.integers(0, SIDE, 2)
        own = np.roll(scenes[k % DIFFERENT], (int(dy), int(dx)), (1, 2))
        own = own + noise[:, dy : dy + SIDE, dx : dx + SIDE]
        path = folder / f"{'abcd'[k % 4]}-{k // 4 + 1}.ome.tif"
        axes = {
            "axes": "CYX",
            "Channel": {"Name": ["chlorophyll", "lipid dye"]},
            "PhysicalSizeX": 0.32,
            "PhysicalSizeXUnit": "µm",
            "PhysicalSizeY": 0.32,
            "PhysicalSizeYUnit": "µm",
        }
        tifffile.imwrite(path, own.astype(np.uint16), metadata=axes, ome=True)
        paths.append(path)
    return paths


def read_one(path: Path) -> int:
    """Read and decode a file, with its checksum, as a batch does."""
    file_checksum(path)
    return sum(
        int(plane.pixels[0, 0]) for plane in read_sample(path, checksum=False).channels.values()
    )


def seconds_of_reading(paths: list[Path], jobs: int) -> float:
    """Read and decode all files in processes that run already."""
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(jobs, mp_context=context) as pool:
        list(pool.map(read_one, paths[: 4 * jobs]))
        start = time.perf_counter()
        list(pool.map(read_one, paths))
        return time.perf_counter() - start


def seconds_of_computing(paths: list[Path]) -> float:
    """Measure some samples that are in memory already, by one core; the time for all."""
    numba.set_num_threads(1)
    method, cache = lipid_method(), AnalysisCache(512_000_000)
    chosen = paths[:: max(len(paths) // COMPUTED, 1)][:COMPUTED]
    items = samples_for(chosen)
    read = [read_sample(path, checksum=False) for path in chosen]
    outcome_of(items[0], Analysis(Analysis(read[0], method, cache).sample, method))
    start = time.perf_counter()
    for item, sample in zip(items, read, strict=True):
        outcome_of(item, Analysis(Analysis(sample, method, cache).sample, method, cache))
    return (time.perf_counter() - start) / len(chosen) * len(paths)


def peak_of_children() -> list[int]:
    """Resident memory of the worker processes now, in MB."""
    found = []
    for child in multiprocessing.active_children():
        try:
            status = Path(f"/proc/{child.pid}/status").read_text()
        except OSError:
            continue
        line = next((one for one in status.splitlines() if one.startswith("VmRSS")), "")
        found.append(int(line.split()[1]) // 1024 if line else 0)
    return sorted(found)


def own_memory() -> int:
    """Resident memory of this process, in MB."""
    status = Path("/proc/self/status").read_text()
    return int(next(x for x in status.splitlines() if x.startswith("VmRSS")).split()[1]) // 1024


def seconds_of_batch(paths: list[Path], jobs: int, folder: Path) -> tuple[float, dict[int, str]]:
    """Measure all into a new store; also memory at some samples."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    memory: dict[int, str] = {}
    marks = {max(len(paths) // 10, 1), len(paths) // 2, len(paths) * 9 // 10}

    def report(progress: Progress) -> None:
        if progress.done in marks:
            memory[progress.done] = f"{own_memory()} MB + workers {peak_of_children()} MB"

    store = ResultStore(folder / "results.sqlite")
    start = time.perf_counter()
    outcomes = run_batch(samples_for(paths), lipid_method(), jobs=jobs, store=store, report=report)
    spent = time.perf_counter() - start
    failed = [outcome.failure for outcome in outcomes if outcome.failure]
    if failed:
        sys.exit(f"{len(failed)} failed: {failed[0]}")
    start = time.perf_counter()
    run_batch(samples_for(paths), lipid_method(), jobs=jobs, store=store)
    print(f"  unchanged, {jobs} processes: {time.perf_counter() - start:6.1f} s")
    store.close()
    return spent, memory


def main() -> None:
    """Print times, ratios, memory."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--samples", type=int, default=1000)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--serial", type=int, default=200, help="samples for one against several")
    parser.add_argument("--folder", type=Path, default=None)
    asked = parser.parse_args()
    folder = asked.folder or Path(tempfile.mkdtemp(prefix="rilievo-bench-"))
    folder.mkdir(parents=True, exist_ok=True)
    start = time.perf_counter()
    paths = make_samples(folder, asked.samples)
    print(
        f"{len(paths)} samples made in {time.perf_counter() - start:.0f} s, {os.cpu_count()} cores"
    )
    reading = seconds_of_reading(paths, asked.jobs)
    computing = seconds_of_computing(paths)
    total, memory = seconds_of_batch(paths, asked.jobs, folder / "out")
    cores = min(asked.jobs, os.cpu_count() or 1)
    print(f"reading alone, {asked.jobs} processes:  {reading:7.1f} s")
    print(f"computing alone, one core: {computing:7.1f} s")
    print(f"batch, {asked.jobs} processes:          {total:7.1f} s")
    print(f"batch / (reading + computing / cores) = {total / (reading + computing / cores):.2f}")
    for done, said in memory.items():
        print(f"  memory after {done}: {said}")
    few = paths[: asked.serial]
    one, _ = seconds_of_batch(few, 1, folder / "one")
    several, _ = seconds_of_batch(few, asked.jobs, folder / "several")
    print(f"{len(few)} samples: 1 process {one:.1f} s, {asked.jobs} processes {several:.1f} s, "
          f"{one / several:.2f} × as fast")  # fmt: skip
    print(f"peak of this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB")
    if asked.folder is None:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
