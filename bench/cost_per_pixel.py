"""What every step, threshold, clean-up and quantity costs a pixel, at four sizes.

    python bench/cost_per_pixel.py [--sizes 0.06,1,16,60] [--only TEXT] [--out FILE.json]
    python bench/cost_per_pixel.py --write NOW.json [--before BEFORE.json]

The unit is one copy of the float32 image into new memory, taken at 16 megapixels in the same run
and divided by the pixels. The field is the same at every size: uneven ground, noise, and a disc
of about 10 pixels for every 2 000 pixels, so that larger fields hold more of them. Cost is that of
the second call and later; compiled loops are built before. `--write` puts the table into
docs/performance.md.
"""

from __future__ import annotations

import argparse
import json
import math
import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

# As the program does, before NumPy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from rilievo.core.cleaning import CLEANERS
from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Calibration, Plane, plane_from_native
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.memory import reuse_freed_memory
from rilievo.core.regions.label_map import LabelMap
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.signal.steps import STEPS, StepContext

DOCUMENT = Path(__file__).parents[1] / "docs" / "performance.md"
BEGIN, END = "<!-- cost per pixel: begin -->", "<!-- cost per pixel: end -->"
SIDES = {"0.06": 256, "1": 1024, "16": 4096, "60": 7746}
MOST_GROWTH = 3.0

Work = Callable[[], object]


def field(side: int) -> np.ndarray:
    """Uneven ground with noise, and discs of two brightnesses; 16 bit."""
    rng = np.random.default_rng(4)
    across = np.linspace(-1, 1, side, dtype=np.float32)
    values = 900 - 120 * across[:, None] ** 2 - 90 * across[None, :] ** 2 + 60 * across
    values += rng.standard_normal((side, side), dtype=np.float32) * 14
    y, x = np.mgrid[-12:13, -12:13]
    for cy, cx in rng.integers(14, side - 14, (side * side // 2000, 2)):
        disc = x**2 + y**2 <= rng.uniform(6, 11) ** 2
        values[cy - 12 : cy + 13, cx - 12 : cx + 13][disc] += rng.uniform(250, 600)
    values[rng.integers(0, side, side // 8), rng.integers(0, side, side // 8)] += 3000
    return np.clip(np.rint(values), 0, 65535).astype(np.uint16)


@dataclass
class Around:
    """Other pixels for steps that need them, and what thresholds and clean-ups look at."""

    plane: Plane
    sample_name: str = "bench"
    name: str = "bench"
    keep: str = "bright"

    @property
    def values(self) -> np.ndarray:
        return self.plane.as_float()

    @property
    def calibration(self) -> Calibration:
        return self.plane.calibration

    def histogram(self) -> Histogram:
        return histogram_of(self.plane)

    def measured(self, found: LabelMap, key: str, channel: str | None) -> np.ndarray:
        index = RegionIndex(found.labels, np.arange(1, found.count + 1))
        return QUANTITIES[key].measure(RegionValues(index, self.plane, self.plane))

    def channel(self, name: str) -> Any:
        return self.plane

    def frames(self, frames: Any, role: str, like: Plane) -> Plane:
        if role == "mask":
            return like.with_pixels((like.as_float() > 2500).astype(np.float32), None)
        return like.with_pixels(np.full(like.shape, 50.0, np.float32), None)

    def exposure(self, frames: Any, role: str) -> float:
        return 1.0

    def reference(self, reference: Any, role: str) -> Plane:
        if role == "picture of the card":
            falling = np.linspace(3000, 100, self.plane.shape[1], dtype=np.float32)
            return self.plane.with_pixels(np.broadcast_to(falling, self.plane.shape), None)
        return self.plane.with_pixels(np.roll(self.plane.as_float(), (3, -2), (0, 1)), None)


class Other(Around):
    """Thresholds ask for the values of a channel, steps for its plane."""

    def channel(self, name: str) -> Any:
        return self.plane.as_float()


FILES = {"files": [{"file": "frame.tif"}]}
GIVEN: dict[str, dict[str, Any]] = {
    "arithmetic.image": {"other_channel": "other"},
    "arithmetic.combine": {"channels": ["gray", "other"]},
    "arithmetic.match": {"reference": {"file": "one.tif"}},
    "arithmetic.formula": {"formula": "sqrt(this) * 2 + log(this + 1)"},
    "background.level": {"level": 900.0},
    "background.patch": {"patches": [{"x": 10, "y": 10, "width": 40, "height": 40}]},
    "curve.card": {
        "card": "typed",
        "values": ".9\n.7\n.5\n.3\n.2\n.1",
        "picture": {"file": "card.tif"},
        "corners": [{"x": x, "y": y} for x, y in ((60, 100), (180, 100), (180, 120), (60, 120))],
    },
    "curve.calibrate": {"points": [{"intensity": 0, "value": 0}, {"intensity": 1000, "value": 2}]},
    "frames.dark": {"dark": FILES},
    "frames.flat": {"flat": FILES},
    "frames.reference": {"reference": FILES},
    "geometry.crop": {"rectangle": {"x": 8, "y": 8, "width": 200, "height": 200}},
    "geometry.shift": {"right": 3, "down": 2},
    "geometry.register": {"reference": {"file": "one.tif"}},
    "repair.mask": {"mask": FILES},
    "repair.pixels": {"repairs": [{"x": 5, "y": 5}]},
    "band": {"lower": 1000.0, "upper": 1400.0},
    "hand": {"level": 1050.0},
    "classes": {"k": 3, "kept": [3]},
    "colour": {"ranges": [{"channel": "gray", "lower": 1050.0}]},
    "keep": {"quantity": "area", "lower": 20.0},
}
# Beside the default: what the defaults do not show.
MORE: list[tuple[str, str, dict[str, Any]]] = [
    ("median 5×5", "smooth.median", {"size": 5}),
    ("median 15×15", "smooth.median", {"size": 15}),
    ("median 31×31", "smooth.median", {"size": 31}),
    ("mesh, tile 64", "background.mesh", {"tile": 64.0}),
    ("surface, bright objects", "background.surface", {"objects": "bright"}),
    ("opening, radius 50", "background.opening", {"radius": 50.0}),
    ("opening by a ball, radius 50", "background.opening", {"radius": 50.0, "form": "ball"}),
    ("wide median, width 100", "background.smoothed", {"width": 100.0}),
    ("wide Gaussian, width 100", "background.smoothed", {"width": 100.0, "way": "gaussian"}),
    ("Gaussian, sigma 10", "smooth.gaussian", {"sigma": 10.0}),
    ("mean 51×51", "smooth.mean", {"size": 51}),
]


def jobs(side: int) -> Iterator[tuple[str, str, str, Work]]:
    """Kind, key, name and work of everything that is measured."""
    pixels = field(side)
    plane = plane_from_native(pixels)
    floats = plane.with_pixels(plane.as_float(), None)
    around, other = Around(floats), Other(floats)

    def step_work(key: str, given: dict[str, Any]) -> Work:
        step, parameters = STEPS[key], STEPS[key].parameters.model_validate(given)

        def work() -> object:
            context = StepContext("bench", "gray", around, 1.0, ("gray", "other"))
            return step.apply(floats, parameters, context).pixels

        return work

    for key, step in zip(STEPS, STEPS.values(), strict=True):
        yield "Step", key, step.title, step_work(key, GIVEN.get(key, {}))
    for name, key, given in MORE:
        yield "Step", key, name, step_work(key, given)
    for key, way in zip(THRESHOLDS, THRESHOLDS.values(), strict=True):
        parameters = way.parameters.model_validate(GIVEN.get(key, {}))

        def level(way: Any = way, parameters: Any = parameters) -> object:
            return way.find(histogram_of(floats), parameters)

        def mask(way: Any = way, parameters: Any = parameters) -> object:
            return way.mask(other, parameters)

        yield "Threshold", key, way.title, level if way.find is not None else mask
    smooth = floats.as_float() > 1100
    found = LabelMap.of(smooth, 8)
    yield "Clean-up", "", "connecting pixels to regions", lambda: LabelMap.of(smooth, 8)
    for key, one in zip(CLEANERS, CLEANERS.values(), strict=True):
        parameters = one.parameters.model_validate(GIVEN.get(key, {}))

        def clean(one: Any = one, parameters: Any = parameters) -> object:
            return one.apply(found, parameters, other)

        yield "Clean-up", key, one.title, clean
    numbers = np.arange(1, found.count + 1)
    index = RegionIndex(found.labels, numbers)
    yield "Quantity", "", "pixels of each region, once", lambda: RegionIndex(found.labels, numbers)
    wanted = [q for q in QUANTITIES.values() if q.family in ("intensity", "shape")]

    def everything() -> object:
        values = RegionValues(RegionIndex(found.labels, numbers), floats, plane)
        return [one.measure(values) for one in wanted]

    yield "Quantity", "", f"all {len(wanted)} of intensity and shape together", everything
    for one in wanted:

        def alone(one: Any = one) -> object:
            fresh = RegionIndex(found.labels, numbers)
            fresh.__dict__.update(index.__dict__)
            return one.measure(RegionValues(fresh, floats, plane))

        yield "Quantity", one.key, one.title, alone


def cost(work: Work, side: int) -> tuple[float, float]:
    """Wall and CPU seconds: the least of a few calls after the first."""
    work()
    walls, cpus = [], []
    ends = time.perf_counter() + 0.6
    while len(walls) < 2 or (time.perf_counter() < ends and len(walls) < 30):
        start, spent = time.perf_counter(), time.process_time()
        work()
        cpus.append(time.process_time() - spent)
        walls.append(time.perf_counter() - start)
        if side > 4096:
            break
    return min(walls), min(cpus)


def copy_per_pixel() -> float:
    """Seconds of a copy of a float32 image into new memory, a pixel."""
    image = np.ones((4096, 4096), np.float32)
    times = []
    for _ in range(9):
        start = time.perf_counter()
        image.copy()
        times.append(time.perf_counter() - start)
    return float(np.median(times)) / image.size


def measure(sizes: list[str], only: str) -> dict[str, Any]:
    rows: dict[str, dict[str, Any]] = {}
    copies = []
    for size in sizes:
        side = SIDES[size]
        copies.append(copy_per_pixel())
        for kind, key, name, work in jobs(side):
            if only and only.lower() not in f"{kind} {key} {name}".lower():
                continue
            wall, cpu = cost(work, side)
            row = rows.setdefault(f"{kind}|{key}|{name}", {"kind": kind, "key": key, "name": name})
            unit = copies[-1] * side * side
            row[size] = [wall / unit, cpu / unit]
            print(f"{size:>5} Mpx {kind:10} {name:45} {wall / unit:9.1f} wall "
                  f"{cpu / unit:9.1f} CPU  ({1000 * wall:.1f} ms)", flush=True)  # fmt: skip
    return {"copy ms/Mpx": 1e9 * float(np.median(copies)), "rows": rows}


def table(now: dict[str, Any], before: dict[str, Any] | None) -> str:
    """The table as Markdown."""
    lines = [
        f"A copy takes {now['copy ms/Mpx']:.2f} ms a megapixel in this run. Each cell: wall / CPU, "
        "in copies. Growth is the largest over the smallest CPU of sizes with over 2 ms of work.",
        "",
        "| | 0.06 Mpx | 1 Mpx | 16 Mpx | 60 Mpx | growth | before, CPU at 0.06 / 1 / 16 |",
        "|---|---:|---:|---:|---:|---:|---:|",
    ]
    kind = ""
    for name, row in now["rows"].items():
        if row["kind"] != kind:
            kind = row["kind"]
            lines.append(f"| **{kind}** | | | | | | |")
        cells = [_cell(row.get(size)) for size in SIDES]
        lines.append(
            f"| {row['name']} | {' | '.join(cells)} | {_growth(row, now['copy ms/Mpx'])} | "
            f"{_before(before, name)} |"
        )
    return "\n".join(lines)


def _cell(pair: list[float] | None) -> str:
    return "–" if pair is None else f"{_short(pair[0])} / {_short(pair[1])}"


def _short(value: float) -> str:
    return f"{value:.0f}" if value >= 9.95 else f"{value:.1f}"


def _growth(row: dict[str, Any], copy: float) -> str:
    known = [
        row[size][1]
        for size, side in SIDES.items()
        if size in row and row[size][1] * copy * side * side / 1e6 > 2.0
    ]
    if len(known) < 2 or min(known) <= 0:
        return "–"
    ratio = max(known) / min(known)
    return f"**{ratio:.1f}**" if ratio > MOST_GROWTH else f"{ratio:.1f}"


def _before(before: dict[str, Any] | None, name: str) -> str:
    row = (before or {}).get("rows", {}).get(name)
    if row is None:
        return "–"
    return " / ".join(_short(row[s][1]) if s in row else "–" for s in ("0.06", "1", "16"))


def write(text: str) -> None:
    """Put the table between its marks in the document."""
    page = DOCUMENT.read_text(encoding="utf-8")
    head, _, rest = page.partition(BEGIN)
    _, _, tail = rest.partition(END)
    DOCUMENT.write_text(f"{head}{BEGIN}\n{text}\n{END}{tail}", encoding="utf-8")


def main() -> None:
    options = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    options.add_argument("--sizes", default="0.06,1,16,60")
    options.add_argument("--only", default="")
    options.add_argument("--out", type=Path)
    options.add_argument("--before", type=Path)
    options.add_argument("--write", type=Path)
    given = options.parse_args()
    if given.write is not None:
        before = json.loads(given.before.read_text()) if given.before else None
        write(table(json.loads(given.write.read_text()), before))
        return
    # As the program does.
    reuse_freed_memory()
    found = measure(given.sizes.split(","), given.only)
    assert all(
        math.isfinite(row[s][0]) for row in found["rows"].values() for s in row if s in SIDES
    )
    if given.out is not None:
        given.out.write_text(json.dumps(found, indent=1))


if __name__ == "__main__":
    main()
