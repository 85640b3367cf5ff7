"""What chance alone does to each test, and to testing regions; writes docs/comparing.md.

Usage: python bench/make_comparing.py       (takes about two minutes; the numbers are the same every
time, because the data are made from a fixed seed)
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from rilievo.core.compare import Question, compare
from rilievo.core.compare.hypotheses import (
    Test,
    kruskal_wallis,
    mann_whitney,
    paired_t,
    welch_anova,
    welch_t,
    wilcoxon,
)
from rilievo.core.table.table import RegionTable

PAGE = Path(__file__).parent.parent / "docs" / "comparing.md"
RUNS, HIERARCHIES = 4000, 400
SIZES = (4, 6, 10, 20)
TESTS: dict[str, Callable[[np.ndarray], Test]] = {
    "Welch's t": lambda v: welch_t(v[0], v[1]),
    "Welch's t, spread 1 : 3": lambda v: welch_t(v[0], 3 * v[1]),
    "Mann–Whitney": lambda v: mann_whitney(v[0], v[1]),
    "paired t": lambda v: paired_t(v[0] - v[1]),
    "Wilcoxon": lambda v: wilcoxon(v[0] - v[1]),
    "Welch's analysis of variance, 3 groups": lambda v: welch_anova(list(v)),
    "Kruskal–Wallis, 3 groups": lambda v: kruskal_wallis(list(v)),
}
REGIONS, SAMPLES = 50, 4
SHARES = (0.0, 0.02, 0.05, 0.1, 0.2, 0.5)


def rate(test: Callable[[np.ndarray], Test], size: int) -> float:
    """How often a test finds something where there is nothing, in per cent."""
    rng = np.random.default_rng(size)
    return 100 * sum(test(rng.normal(0, 1, (3, size))).p < 0.05 for _ in range(RUNS)) / RUNS


def made_up(rng: np.random.Generator, share: float) -> list[RegionTable]:
    """Two groups without any difference; `share` of the variance lies between samples."""
    tables = []
    for group in ("control", "treated"):
        for k in range(SAMPLES):
            own = 100 + 10 * np.sqrt(share) * rng.normal()
            values = own + 10 * np.sqrt(1 - share) * rng.normal(size=REGIONS)
            tables.append(
                RegionTable(
                    sample=f"{group}-{k}", file="", group=group, classes=("cell",),
                    ids=np.arange(1, REGIONS + 1), columns={"dye": {"mean": values}},
                )
            )  # fmt: skip
    return tables


def both_units(share: float) -> tuple[float, float]:
    """False positives in per cent: one value a sample, one value a region."""
    rng, found = np.random.default_rng(round(1000 * share)), [0, 0]
    for _ in range(HIERARCHIES):
        tables = made_up(rng, share)
        for place, unit in enumerate(("sample", "region")):
            result = compare(tables, Question(unit=unit))
            found[place] += result.versus[0].test.p < 0.05
    return 100 * found[0] / HIERARCHIES, 100 * found[1] / HIERARCHIES


def tables_of_chance() -> list[str]:
    """The two tables."""
    lines = ["| test | " + " | ".join(f"{n} samples" for n in SIZES) + " |"]
    lines.append("|---|" + "---:|" * len(SIZES))
    for name, test in TESTS.items():
        rates = [f"{rate(test, n):.1f} %" for n in SIZES]
        lines.append(f"| {name} | " + " | ".join(rates) + " |")
    hierarchy = ["| variance between samples | one value a sample | one value a region |"]
    hierarchy.append("|---:|---:|---:|")
    for share in SHARES:
        by_sample, by_region = both_units(share)
        hierarchy.append(f"| {100 * share:g} % | {by_sample:.1f} % | **{by_region:.1f} %** |")
    return ["\n".join(lines), "\n".join(hierarchy)]


def main() -> None:
    """Fill the tables into the page."""
    text = PAGE.read_text(encoding="utf-8")
    for name, table in zip(("null", "regions"), tables_of_chance(), strict=True):
        begin, end = f"<!-- {name}: made by bench/make_comparing.py -->", f"<!-- end of {name} -->"
        before, rest = text.split(begin)
        text = f"{before}{begin}\n{table}\n{end}{rest.split(end)[1]}"
    PAGE.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
