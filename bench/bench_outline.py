"""Times of the Outline stage on 4096×4096 pixels with about 8 000 regions.

Usage: python bench/bench_outline.py     (alone on the machine; prints one line a figure)
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from rilievo.core.cleaning.region_filter import KeepRange
from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.method.class_definition import ClassDefinition, clean_use, hand_threshold
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.threshold_stability import levels_for, stability_of
from rilievo.core.regions.gray_classes import least_squares_cuts, ward_tree
from rilievo.core.regions.label_map import connected
from rilievo.core.regions.thresholds import THRESHOLDS, automatic_levels
from rilievo.core.view.render import RegionLayer, painted
from rilievo.core.view.sampling import Viewport
from rilievo.ui.theme.roles import Theme
from shortest import shortest


def field(side: int, cells: int, seed: int = 3) -> np.ndarray:
    """Discs of radius 6 to 14 on noise, some of which touch."""
    rng = np.random.default_rng(seed)
    values = rng.normal(300, 20, (side, side)).astype(np.float32)
    y, x = np.mgrid[-15:16, -15:16]
    for _ in range(cells):
        cx, cy = rng.integers(20, side - 20, 2)
        disc = x**2 + y**2 <= rng.uniform(6, 14) ** 2
        values[cy - 15 : cy + 16, cx - 15 : cx + 16][disc] = rng.uniform(900, 1500)
    return np.clip(values + rng.normal(0, 20, values.shape), 0, 65535).astype(np.uint16)


def main() -> None:
    pixels = field(4096, 12_000)
    sample = Sample("s", {"gray": plane_from_native(pixels)})
    filled = (clean_use("fill_holes"), clean_use("keep", lower=20.0))
    plain = Method(outlines=(ClassDefinition(threshold=hand_threshold(600), clean=filled),))
    split = (clean_use("fill_holes"), clean_use("split_distance"), clean_use("keep", lower=20.0))
    parted = plain.with_outline(plain.outline.model_copy(update={"clean": split}))

    def run(method: Method) -> int:
        return Analysis(sample, method).regions().count

    run(parted)
    count = run(plain)
    whole = shortest(lambda: run(plain))
    print(f"threshold to numbered regions, {count} regions: {whole:.2f} s (goal 0.8)")
    more = shortest(lambda: run(parted)) - whole
    print(f"splitting by distance, {run(parted)} regions: {more:.2f} s more (goal 2)")
    mask = pixels > 600
    ours = shortest(lambda: connected(mask, 8))
    theirs = shortest(lambda: ndimage.label(mask, np.ones((3, 3)), output=np.int32))
    print(f"connecting: {ours:.3f} s, scipy.ndimage.label {theirs:.3f} s ({theirs / ours:.1f} ×)")
    cache = AnalysisCache()
    regions = Analysis(sample, plain, cache).regions()
    pyramid = Pyramid(sample.first.as_float())
    view = Viewport(left=0, top=0, zoom=0.25, width=1280, height=800)
    flooded = RegionLayer(labels=regions.labels, flood=True)
    pan = shortest(lambda: painted(pyramid, view, (200, 1500), Theme().looks(), flooded))
    print(f"painting {regions.count} outlines, 1280×800: {1000 * pan:.0f} ms (goal 33)")
    areas = Analysis(sample, plain, cache).of_class(0).values_before_filter(1, "area", None)
    found = Analysis(sample, plain, cache).of_class(0).labels_before_step(1)

    def limit() -> object:
        table = np.full(found.count + 1, -1, np.int32)
        table[0] = 0
        good = KeepRange(lower=100.0).holds(areas)
        table[1:][good] = np.flatnonzero(good) + 1
        return painted(
            pyramid,
            view,
            (200, 1500),
            Theme().looks(),
            RegionLayer(labels=found.labels, table=table, flood=True),
        )

    print(f"a limit of a kept range dragged and painted: {1000 * shortest(limit):.0f} ms (goal 50)")
    known = histogram_of(sample.first)
    ward_tree(known)
    least_squares_cuts(known, 4)
    noise = np.random.default_rng(1).integers(0, 65536, (4096, 4096)).astype(np.uint16)
    wide = histogram_of(plane_from_native(noise))
    tree = shortest(lambda: ward_tree(wide))
    print(f"Ward's tree over 65 536 levels: {tree:.3f} s (goal 0.5)")
    print(f"8 least-squares classes: {shortest(lambda: least_squares_cuts(wide, 8)):.3f} s")
    automatic = shortest(lambda: automatic_levels(wide))
    print(f"all automatic levels: {automatic:.3f} s ({len(THRESHOLDS)})")
    stable()


def stable() -> None:
    """The stability of twelve samples, and of 64 runs each."""
    planes = [field(768, 60, seed).astype(np.float32) for seed in range(12)]
    levels = levels_for(histogram_of(plane_from_native(planes[0].astype(np.uint16))))
    stability_of(planes[0], levels)
    once = shortest(lambda: [stability_of(plane, levels, smallest=20) for plane in planes])

    def runs() -> None:
        for plane in planes:
            sample = Sample("s", {"gray": plane_from_native(plane.astype(np.uint16))})
            cache = AnalysisCache()
            for level in levels.tolist():
                clean = (clean_use("keep", lower=20.0),)
                outline = ClassDefinition(threshold=hand_threshold(level), clean=clean)
                Analysis(sample, Method(outlines=(outline,)), cache).regions()

    many = shortest(runs, 1)
    print(
        f"stability over {levels.size} levels of 12 samples 768×768: {once:.2f} s (goal 2); "
        f"as many runs {many:.2f} s ({many / once:.0f} ×, goal 5)"
    )


if __name__ == "__main__":
    main()
