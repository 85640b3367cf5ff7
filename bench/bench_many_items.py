"""Very many tiny images through processes and a local Dask cluster: items a second, and memory.

    python bench/bench_many_items.py [--items 100000] [--jobs 2] [--way processes|dask|both]

Images are 64 × 64 pixels, 16 bit, each with noise of its own; a threshold, a clean-up, five
quantities. Memory is that of the process that keeps the results and of all its workers, after 10,
50 and 90 % of the items; then of the keeper while tables and report are written.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import tifffile
from tests.core.helpers.measuring import run_batch

from rilievo.core.batch import Progress, ResultStore
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.memory import collect_seldom, reuse_freed_memory
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse, clean_use
from rilievo.core.method.method import Measure, Method
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Contents

METHOD = Method(
    outlines=(
        ClassDefinition(
            threshold=ThresholdUse.model_validate({"way": "between_class_variance"}),
            clean=(clean_use("keep", lower=5.0),),
        ),
    ),
    measure=Measure(quantities=("area", "mean", "sum", "x", "y")),
)


def images(folder: Path, count: int) -> list[Path]:
    """Write the images, a thousand a folder."""
    rng, paths = np.random.default_rng(3), []
    noise = rng.normal(200, 10, (256, 256))
    for k in range(count):
        place = folder / f"{k // 1000:04}"
        if k % 1000 == 0:
            place.mkdir(parents=True, exist_ok=True)
        y, x = rng.integers(0, 190, 2)
        values = noise[y : y + 64, x : x + 64] + k % 7
        for v, u in rng.integers(4, 54, (3, 2)):
            values[v : v + 7, u : u + 7] += 400
        paths.append(place / f"{'abc'[k % 3]}-{k:06}.tif")
        if not paths[-1].exists():
            tifffile.imwrite(paths[-1], values.astype(np.uint16))
    return paths


def resident(pid: int) -> float:
    """Resident memory of a process, MB."""
    try:
        text = Path(f"/proc/{pid}/statm").read_text()
    except OSError:
        return 0.0
    return int(text.split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


def workers() -> list[float]:
    """Resident memory of all children that do much, MB."""
    own = os.getpid()
    found = []
    for status in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = status.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[1]) == own:
            found.append(resident(int(status.parent.name)))
    return sorted(one for one in found if one > 60)


def run(paths: list[Path], folder: Path, jobs: int, scheduler: str, name: str) -> None:
    items = samples_for(paths)
    folder.mkdir(parents=True)
    marks = {max(1, round(share * len(items))): share for share in (0.1, 0.5, 0.9)}
    start = time.perf_counter()

    def report(progress: Progress) -> None:
        share = marks.get(progress.done)
        if share is not None:
            speed = progress.done / (time.perf_counter() - start)
            keeper, others = resident(os.getpid()), ", ".join(f"{one:.0f}" for one in workers())
            print(
                f"  {100 * share:.0f} %: {speed:.0f} items/s, keeper {keeper:.0f} MB, "
                f"workers {others} MB",
                flush=True,
            )

    print(f"{name}: {len(items)} items", flush=True)
    store = ResultStore(folder / "results.sqlite")
    outcomes = run_batch(
        items, METHOD, jobs=jobs, scheduler=scheduler, store=store, report=report, pictures=60
    )
    spent = time.perf_counter() - start
    print(f"  all: {spent:.0f} s, {len(items) / spent:.0f} items/s", flush=True)
    start = time.perf_counter()
    write_outputs(Contents(outcomes, METHOD), folder)
    size = (folder / "report.html").stat().st_size / 1e6
    print(
        f"  tables and report: {time.perf_counter() - start:.0f} s, keeper "
        f"{resident(os.getpid()):.0f} MB, report {size:.1f} MB",
        flush=True,
    )


def main() -> None:
    # As the program does.
    reuse_freed_memory()
    collect_seldom()
    options = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    options.add_argument("--items", type=int, default=100_000)
    options.add_argument("--jobs", type=int, default=2)
    options.add_argument("--way", default="both", choices=("processes", "dask", "both"))
    options.add_argument("--folder", type=Path)
    given = options.parse_args()
    with tempfile.TemporaryDirectory(prefix="rilievo-bench-") as name:
        paths = images((given.folder or Path(name)) / "images", given.items)
        if given.way in ("processes", "both"):
            run(paths, Path(name) / "processes", given.jobs, "", "Processes")
        if given.way in ("dask", "both"):
            from distributed import LocalCluster  # noqa: PLC0415 (an optional package)

            with LocalCluster(
                n_workers=given.jobs, threads_per_worker=1, dashboard_address=None
            ) as c:
                run(paths, Path(name) / "dask", given.jobs, c.scheduler_address, "Dask")


if __name__ == "__main__":
    sys.exit(main())
