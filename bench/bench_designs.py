"""What designs, errors of numbers, common light and two measurers cost, from small to large.

    python bench/bench_designs.py

A design nests regions in samples in dishes in animals, in two groups.
"""

from __future__ import annotations

from functools import partial

import numpy as np

from rilievo.core.compare import Question, compare
from rilievo.core.compare.question import Design
from rilievo.core.regions.overlap import match_regions
from rilievo.core.signal.batch_light import batch_light
from rilievo.core.table.table import RegionTable
from shortest import shortest

SAMPLES = (24, 1_000, 10_000)
REGIONS = 30
SIDES = (256, 1024, 4096)
PICTURES = 24


def made_up(samples: int) -> tuple[list[RegionTable], dict[str, dict[str, str]]]:
    """Return tables of samples, three of a dish and two dishes of an animal, and attributes."""
    rng = np.random.default_rng(7)
    tables, attributes = [], {}
    for k in range(samples):
        name = f"sample {k}"
        values = 100 + 5 * rng.normal() + 10 * rng.normal(size=REGIONS)
        tables.append(
            RegionTable(
                name, "", f"group {k % 2}", ("cell",), np.arange(1, REGIONS + 1),
                {"dye": {"mean": values}},
            )
        )  # fmt: skip
        attributes[name] = {"dish": str(k // 6), "animal": str(k // 12)}
    return tables, attributes


def designs() -> None:
    """Print the times of one question asked in four ways."""
    levels = ("sample:animal", "sample:dish")
    asked = {
        "plain": Question(),
        "with bootstrap": Question(bootstrap=True),
        "averaged up to the dish": Question(unit="sample:dish", design=Design(numbered_anew=True)),
        "levels modelled": Question(
            design=Design(levels=levels, modelled=True, numbered_anew=True)
        ),
    }
    for samples in SAMPLES:
        tables, attributes = made_up(samples)
        for name, question in asked.items():
            spent = shortest(partial(compare, tables, question, attributes), 2)
            print(f"{samples:6d} samples, {name}: {spent:.3f} s", flush=True)


def light(side: int) -> float:
    """Return seconds for the light of pictures with noise and falloff."""
    rng = np.random.default_rng(3)
    y, x = np.mgrid[:side, :side] / side - 0.5
    lit = (1000 * (1 - 0.3 * (x**2 + y**2))).astype(np.float32)
    picture = lit + rng.normal(0, 10, lit.shape).astype(np.float32)
    return shortest(lambda: batch_light(picture * (1 + k / 50) for k in range(PICTURES)), 1)


def matched(side: int) -> float:
    """Return seconds for matching discs that two people drew."""
    y, x = np.mgrid[:side, :side]
    number = (y // 32 * (side // 32) + x // 32 + 1).astype(np.int32)
    from_middle = np.hypot(y % 32 - 16, x % 32 - 16)
    first = np.where(from_middle < 12, number, 0).astype(np.int32)
    second = np.where(from_middle < 11, number, 0).astype(np.int32)
    return shortest(lambda: match_regions(first, second), 2)


def main() -> None:
    """Print all times."""
    designs()
    for side in SIDES:
        print(f"light of {PICTURES} pictures, {side}×{side}: {light(side):.2f} s", flush=True)
        print(f"two measurers' regions, {side}×{side}: {matched(side):.3f} s", flush=True)


if __name__ == "__main__":
    main()
