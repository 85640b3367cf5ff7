"""Check that a version may be released, and keep its files as test data.

    python distribution/release.py VERSION          what is in the way, if anything
    python distribution/release.py VERSION --keep   also keep study, method and results of it

`script/release` calls it after the tests. What is refused: a version that is no semantic version,
or not the program's; a changelog without an entry and date for it; results that changed since the
last release without an entry that begins with **result**; a new format without a test that opens
the old one.
"""

from __future__ import annotations

import argparse
import json
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas
import tifffile
from tests.core.helpers.measuring import run_batch

from rilievo._version import __version__
from rilievo.cli import main as rilievo
from rilievo.core.batch import measured
from rilievo.core.files.sample_ref import labelled
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse, clean_use
from rilievo.core.method.method import VERSION as METHOD_VERSION
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.study.study_file import SCHEMA_VERSION, load_study, save_study

ROOT = Path(__file__).resolve().parents[1]
KEPT = ROOT / "tests" / "released"
# As PEP 440 writes what semantic versions say: 1.2.3, and 1.2.3rc1 before it.
_SEMANTIC = re.compile(r"(0|[1-9]\d*)\.(0|[1-9]\d*)\.(0|[1-9]\d*)(?:rc([1-9]\d*))?")
QUANTITIES = (
    "pixel_count", "area_unit", "mean", "median", "sd", "sum", "native_mean", "background",
    "contrast", "snr", "p05", "entropy", "x", "y", "perimeter", "circularity",
)  # fmt: skip
SIZE = "0.5um"
_WAY = ("--pixel-size", SIZE, "--no-report", "--quiet")
# The same computation in another order of sums.
_CLOSE = 1e-12


def order_of(version: str) -> tuple[int, int, int, float] | None:
    """Return what versions are ordered by; None for one that is no semantic version."""
    found = _SEMANTIC.fullmatch(version)
    if found is None:
        return None
    major, minor, patch, candidate = found.groups()
    return int(major), int(minor), int(patch), float(candidate) if candidate else float("inf")


def released(folder: Path = KEPT) -> list[str]:
    """Return the versions of which files are kept, oldest first."""
    names = [path.name for path in folder.iterdir()] if folder.is_dir() else []
    return sorted((n for n in names if order_of(n)), key=lambda n: order_of(n) or (0, 0, 0, 0.0))


def entry_of(changelog: str, version: str) -> str:
    """Return what the changelog says of a version; "" for nothing."""
    heading = rf"^## {re.escape(version)} \((\d{{4}}-\d{{2}}-\d{{2}})\)$"
    found = re.search(heading + r"(.*?)(?=^## |\Z)", changelog, re.MULTILINE | re.DOTALL)
    return found[2].strip() if found else ""


def problems(version: str, changelog: str, folder: Path = KEPT) -> Iterator[str]:
    """Yield in sentences what is in the way of releasing a version."""
    own = order_of(version)
    if own is None:
        yield f"{version} is no semantic version such as 1.2.3 or 1.2.3rc1."
        return
    if version != __version__:
        yield f"The program says that it is {__version__}; change src/rilievo/_version.py."
    before = [one for one in released(folder) if one != version]
    if before and (order_of(before[-1]) or own) >= own:
        yield f"{before[-1]} was released already; {version} is not after it."
    entry = entry_of(changelog, version)
    if not entry:
        yield f"CHANGELOG.md has no “## {version} (year-month-day)” with an entry below it."
    open_entry = re.search(
        r"^## Not released$(.*?)(?=^## |\Z)", changelog, re.MULTILINE | re.DOTALL
    )
    if open_entry and open_entry[1].strip():
        yield "CHANGELOG.md has entries under “Not released”; move them to the version."
    if before:
        moved = moved_results(folder / before[-1])
        if moved and "**result**" not in entry:
            yield f"Results differ from {before[-1]} without a **result** entry: {moved[0]}."
        yield from _formats(folder / before[-1])


def _formats(kept: Path) -> Iterator[str]:
    """Formats that are newer than those of a release and have no test that opens the old one."""
    facts = json.loads((kept / "facts.json").read_text(encoding="utf-8"))
    tests = {
        "method": (METHOD_VERSION, ROOT / "tests/core/method/test_migrations.py"),
        "study": (SCHEMA_VERSION, ROOT / "tests/core/study/test_study_file.py"),
    }
    for name, (now, test) in tests.items():
        old = facts[name]
        wanted = f"test_{name}_{old}_of_{kept.name.replace('.', '_')}"
        if now > old and f"def {wanted}(" not in test.read_text(encoding="utf-8"):
            yield (
                f"The {name} format is {now}, that of {kept.name} was {old}: add {wanted} to "
                f"{test.relative_to(ROOT)}."
            )


def moved_results(kept: Path) -> list[str]:
    """Return what is not the same when a release's images are measured again, in words."""
    now = measured_again(kept)
    before = pandas.read_csv(kept / "results" / "regions.csv")
    if len(now) != len(before):
        return [f"{len(before)} rows of regions are {len(now)}"]
    moved = []
    for column in before.columns.intersection(now.columns):
        if pandas.api.types.is_numeric_dtype(before[column]):
            old, new = before[column].to_numpy(float), now[column].to_numpy(float)
            if not np.allclose(new, old, rtol=_CLOSE, atol=0, equal_nan=True):
                moved.append(f"{column} moved by up to {np.nanmax(np.abs(new - old)):.3g}")
        elif before[column].fillna("").tolist() != now[column].fillna("").tolist():
            moved.append(f"{column} is another text")
    return moved + [f"{name} is missing" for name in before.columns.difference(now.columns)]


def measured_again(kept: Path) -> pandas.DataFrame:
    """Return the regions of a release's images, measured by its method now."""
    import tempfile  # noqa: PLC0415

    with tempfile.TemporaryDirectory() as name:
        run("run", kept / "method.json", kept / "images", "--out", name, *_WAY)
        return pandas.read_csv(Path(name) / "regions.csv")


def run(*words: object) -> None:
    """Run a command of the program in this process. Raises SystemExit where it fails."""
    try:
        rilievo([str(word) for word in words])
    except SystemExit as exc:
        if exc.code:
            raise


def keep(version: str, folder: Path = KEPT) -> Path:
    """Write images, method, study and results of a version; return the folder."""
    target = folder / version
    images = target / "images"
    images.mkdir(parents=True)
    for k, group in enumerate(("fed", "fed", "starved", "starved")):
        write_image(images / f"{group}_{k % 2 + 1}.tif", seed=k, light=1.0 + 0.5 * (k > 1))
    method = Method(
        name="Kept",
        steps=(
            step_use("hot", "repair.outliers"),
            step_use("even", "background.mesh", tile=16),
            step_use("soft", "smooth.gaussian", sigma=0.8),
        ),
        outlines=(
            ClassDefinition(
                region_class="spot",
                threshold=ThresholdUse.model_validate({"way": "between_class_variance"}),
                clean=(clean_use("fill_holes"), clean_use("keep", lower=6.0)),
            ),
        ),
        measure=Measure(quantities=QUANTITIES),
    )
    method.save(target / "method.json")
    study = target / "study.rilievo"
    run("new", images, "--method", target / "method.json", "--pixel-size", SIZE, "-o", study)
    state = load_study(study).state
    tables = measured(run_batch(labelled(state.samples), state.method))
    save_study(state, study, dict(zip((e.id for e in state.samples), tables, strict=True)))
    results = target / "all"
    run("run", target / "method.json", images, "--out", results, *_WAY)
    (target / "results").mkdir()
    for name in ("regions.csv", "samples.csv", "groups.csv", "tests.csv", "study.rilievo"):
        (results / name).rename(target / "results" / name)
    for path in results.iterdir():
        path.unlink()
    results.rmdir()
    facts = {"version": version, "method": METHOD_VERSION, "study": SCHEMA_VERSION}
    (target / "facts.json").write_text(json.dumps(facts, indent=2) + "\n", encoding="utf-8")
    return target


def write_image(path: Path, seed: int, light: float) -> None:
    """A small field: uneven background, Gaussian spots, Poisson noise; 16 bit."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:64, :64]
    field = 100.0 + 0.6 * x + 0.3 * y
    for cx, cy in rng.uniform(8, 56, (9, 2)):
        field += 300.0 * light * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / (2 * 2.2**2))
    tifffile.imwrite(path, rng.poisson(field).astype(np.uint16), compression="zlib")


def main() -> None:
    """Say what is in the way; with --keep, keep the files of the version."""
    options = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    options.add_argument("version")
    options.add_argument("--keep", action="store_true")
    given = options.parse_args()
    changed = subprocess.run(
        ["git", "-C", str(ROOT), "status", "--porcelain"],  # noqa: S607
        capture_output=True, text=True, check=False,
    ).stdout.strip()  # fmt: skip
    found = list(problems(given.version, (ROOT / "CHANGELOG.md").read_text(encoding="utf-8")))
    if changed:
        found.append("Files are changed and not committed.")
    for sentence in found:
        print(sentence)
    if found:
        sys.exit(1)
    if given.keep and given.version not in released():
        print(f"Kept: {keep(given.version)}")
    print(f"{given.version} may be released.")


if __name__ == "__main__":
    main()
