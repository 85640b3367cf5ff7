"""What a scientist would write with NumPy and SciPy for the method “Uneven fluorescence”.

    python bench/plain_script.py OUT.csv IMAGE...

Hot pixels, an uneven background and a threshold by Otsu for each channel; regions on the first;
the method's quantities on every channel; the same once more at 90 and 110 % of the threshold. One
process, one thread. bench_run.py runs it beside `rilievo run`; nothing else uses it.
"""

from __future__ import annotations

import csv
import sys
from pathlib import Path

import numpy as np
import tifffile
from scipy import ndimage

TILE, CLIP, SIGMAS, LEAST = 64, 3.0, 8.0, 20


def without_hot_pixels(image: np.ndarray) -> np.ndarray:
    middle = ndimage.median_filter(image, 5)
    away = np.abs(image - middle)
    sigma = 1.4826 * np.median(away)
    local = 1.4826 * ndimage.median_filter(away, 5)
    return np.where(away > SIGMAS * np.maximum(sigma, local), middle, image)


def background(image: np.ndarray) -> np.ndarray:
    rows, columns = image.shape[0] // TILE, image.shape[1] // TILE
    levels = np.empty((rows, columns))
    for y in range(rows):
        for x in range(columns):
            tile = image[y * TILE : (y + 1) * TILE, x * TILE : (x + 1) * TILE].ravel()
            for _ in range(12):
                middle, sigma = np.median(tile), tile.std()
                kept = tile[np.abs(tile - middle) <= CLIP * sigma]
                if kept.size == tile.size:
                    break
                tile = kept
            levels[y, x] = 3 * np.median(tile) - 2 * tile.mean()
    levels = ndimage.median_filter(levels, 3, mode="nearest")
    zoom = image.shape[0] / rows, image.shape[1] / columns
    return ndimage.zoom(levels, zoom, order=3, mode="nearest", grid_mode=True)


def otsu(image: np.ndarray) -> float:
    counts, edges = np.histogram(image, 1024)
    centres = (edges[1:] + edges[:-1]) / 2
    below, first = np.cumsum(counts), np.cumsum(counts * centres)
    with np.errstate(invalid="ignore", divide="ignore"):
        between = (first * below[-1] - first[-1] * below) ** 2 / (below * (below[-1] - below))
    return float(edges[1 + int(np.nanargmax(between[:-1]))])


def regions(image: np.ndarray, level: float) -> tuple[np.ndarray, np.ndarray]:
    labels, _ = ndimage.label(ndimage.binary_fill_holes(image > level), np.ones((3, 3)))
    areas = np.bincount(labels.ravel())
    areas[0] = 0
    numbers = np.zeros(areas.size, int)
    kept = areas >= LEAST
    numbers[kept] = np.arange(1, kept.sum() + 1)
    return numbers[labels], np.arange(1, kept.sum() + 1)


def main() -> None:
    with Path(sys.argv[1]).open("w", newline="") as file:
        out = csv.writer(file)
        for path in sys.argv[2:]:
            native = tifffile.imread(path).astype(np.float32)
            clean = [without_hot_pixels(channel) for channel in native]
            signal = [channel - background(channel) for channel in clean]
            level = otsu(signal[0])
            for share in (0.9, 1.1):
                labels, ids = regions(signal[0], share * level)
                out.writerow(
                    [path, share, ids.size, (labels > 0).sum(), signal[0][labels > 0].mean()]
                )
            labels, ids = regions(signal[0], level)
            centres = ndimage.center_of_mass(labels > 0, labels, ids)
            boxes = ndimage.find_objects(labels)
            for k, channel in enumerate(signal):
                columns = [
                    function(channel, labels, ids)
                    for function in (
                        ndimage.mean, ndimage.median, ndimage.standard_deviation,
                        ndimage.minimum, ndimage.maximum, ndimage.sum_labels,
                    )
                ]  # fmt: skip
                columns.append(ndimage.mean(native[k], labels, ids))
                columns.append(ndimage.sum_labels(native[k] >= 65535, labels, ids))
                areas = ndimage.sum_labels(labels > 0, labels, ids)
                for n, numbers in enumerate(zip(*columns, strict=True)):
                    box = boxes[n]
                    where = [*centres[n], box[0].start, box[0].stop, box[1].start, box[1].stop]
                    out.writerow([path, k, n + 1, areas[n], *numbers, *where])


if __name__ == "__main__":
    main()
