"""Draw the pictures of the pages on decisions, from synthetic data: make_pictures.py FOLDER"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from numpy.typing import NDArray

import rilievo
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse, clean_use
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis

SIDE = 256
INK, LINE = "#26302E", "#A65A2A"
Image = NDArray[Any]


def field(rng: np.random.Generator) -> tuple[Image, Image]:
    """A field with uneven light and round spots, and its background alone; counts."""
    y, x = np.mgrid[:SIDE, :SIDE]
    background = 600.0 * (1 - 0.35 * ((x - 150) ** 2 + (y - 90) ** 2) / SIDE**2) + 0.3 * x
    spots = np.zeros((SIDE, SIDE))
    for cx, cy in rng.uniform(14, SIDE - 14, (26, 2)):
        light = rng.choice([140.0, 420.0])
        spots += light * np.exp(-((((x - cx) ** 2 + (y - cy) ** 2) / 7.0**2) ** 2))
    return rng.poisson(background + spots).astype(np.uint16), background


def shown(axes: Axes, pixels: Image, title: str, **look: Any) -> None:
    """A picture without ticks."""
    axes.imshow(pixels, **{"cmap": "gray", "interpolation": "nearest", **look})
    axes.set_title(title, fontsize=10, color=INK, loc="left")
    axes.set_axis_off()


def backgrounds(path: Path) -> None:
    """Four estimates of one background, and their errors along a row."""
    pixels, truth = field(np.random.default_rng(4))
    sample = rilievo.Sample.from_array(pixels)
    ways = {
        "Level": step_use("b", "background.level", level=float(np.median(pixels))),
        "Mesh": step_use("b", "background.mesh"),
        "Surface": step_use("b", "background.surface"),
        "Opening": step_use("b", "background.opening"),
    }
    figure = Figure(figsize=(11, 5.2), layout="constrained")
    grid = figure.add_gridspec(2, 5, height_ratios=(1, 0.8))
    shown(figure.add_subplot(grid[0, 0]), pixels, "Field")
    errors = figure.add_subplot(grid[1, :])
    for k, (name, use) in enumerate(ways.items(), start=1):
        found = pixels - rilievo.correct(sample, Method(steps=(use,)))["gray"]
        limits = {"vmin": truth.min(), "vmax": truth.max()}
        shown(figure.add_subplot(grid[0, k]), found, name, **limits)
        errors.plot((found - truth)[SIDE // 2], label=name, linewidth=1.4)
    errors.axhline(0, color=INK, linewidth=0.8)
    # The level leaves the plot at both ends: what the others do is seen at this scale.
    errors.set_ylim(-20, 20)
    errors.set_xlabel("column of the middle row")
    errors.set_ylabel("error of the background (counts)")
    errors.legend(ncols=4, frameon=False, fontsize=9)
    figure.savefig(path, dpi=110)


def thresholds(path: Path) -> None:
    """Five levels on one histogram, and the outlines that follow."""
    pixels, _ = field(np.random.default_rng(11))
    sample = rilievo.Sample.from_array(pixels)
    even = step_use("b", "background.mesh")
    ways = {
        "Otsu": {"way": "between_class_variance"},
        "Background + 5 sigmas": {"way": "background_sigmas"},
        "Triangle": {"way": "triangle"},
        "Cross entropy": {"way": "cross_entropy"},
        "Percentile 95": {"way": "percentile"},
    }
    figure = Figure(figsize=(12, 5.6), layout="constrained")
    grid = figure.add_gridspec(2, 5, height_ratios=(0.8, 1))
    bars = figure.add_subplot(grid[0, :])
    colours = ("#A65A2A", "#2F6B5A", "#7A5C99", "#8A5A00", "#3A6EA5")
    for k, ((name, way), colour) in enumerate(zip(ways.items(), colours, strict=True)):
        outline = ClassDefinition(threshold=ThresholdUse.model_validate(way), clean=())
        method = Method(steps=(even,), outlines=(outline,))
        signal, labels = rilievo.correct(sample, method)["gray"], rilievo.labels(sample, method)
        if k == 0:
            bars.hist(signal.ravel(), bins=160, range=(-120, 500), color="#C9C2B0")
            bars.set_yscale("log")
            bars.set_xlabel("signal (counts)")
            bars.set_ylabel("pixels")
        level = Analysis(sample, method).level()
        bars.axvline(level, color=colour, linewidth=1.6, label=f"{name}: {level:.0f}")
        axes = figure.add_subplot(grid[1, k])
        cut = (slice(90, 230), slice(0, 140))
        title = f"{name}\n{len(np.unique(labels)) - 1} regions"
        shown(axes, signal[cut], title, vmin=-80, vmax=450)
        axes.contour(labels[cut] > 0, levels=[0.5], colors=[colour], linewidths=0.9)
    bars.legend(frameon=False, fontsize=9, loc="upper right")
    figure.savefig(path, dpi=110)


def splits(path: Path) -> None:
    """Touching discs: one region, split by distance, split by intensity."""
    rng = np.random.default_rng(8)
    y, x = np.mgrid[:SIDE, :SIDE]
    centres: list[tuple[float, float]] = []
    while len(centres) < 34:
        cx, cy = rng.uniform(16, SIDE - 16, 2)
        if all((cx - a) ** 2 + (cy - b) ** 2 > 23**2 for a, b in centres):
            centres.append((cx, cy))
    discs = np.zeros((SIDE, SIDE))
    for cx, cy in centres:
        distance = np.hypot(x - cx, y - cy)
        discs = np.maximum(discs, np.where(distance < 13, 300 + 200 * (1 - distance / 13), 0))
    sample = rilievo.Sample.from_array(rng.poisson(100 + discs).astype(np.uint16))
    figure = Figure(figsize=(11, 4), layout="constrained")
    ways = {
        "No split": (),
        "By distance": (clean_use("split_distance"),),
        "By intensity": (clean_use("split_intensity"),),
    }
    for k, (name, clean) in enumerate(ways.items(), start=1):
        labels = rilievo.labels(sample, Method(outlines=(ClassDefinition(clean=clean),)))
        mixed = np.where(labels > 0, (labels * 37) % 17 + 3, 0)
        title = f"{name}: {len(np.unique(labels)) - 1} of {len(centres)}"
        shown(figure.add_subplot(1, 3, k), mixed, title, cmap="cubehelix")
    figure.savefig(path, dpi=110)


def main() -> None:
    """Draw all into a folder."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    mpl.rcParams.update({"font.family": "DejaVu Sans", "axes.edgecolor": "#DAD5C8"})
    for draw in (backgrounds, thresholds, splits):
        draw(folder / f"{draw.__name__}.png")


if __name__ == "__main__":
    main()
