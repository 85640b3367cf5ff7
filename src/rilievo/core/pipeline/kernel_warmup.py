"""Builds the compiled loops, so that the first correction or measurement does not wait for them.

They are built once for a machine and kept: in the package where it can be written, else in the
user's cache. A small file there tells that all of them are.
"""

from __future__ import annotations

import contextlib
import hashlib
import platform
import sys
from importlib.metadata import version
from pathlib import Path

import numpy as np
import platformdirs

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import ClassDefinition, clean_use, hand_threshold
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.threshold_stability import stability_of
from rilievo.core.regions.binary_morphology import depth, grown
from rilievo.core.signal.opening import warm_up


def build_all() -> None:
    """Build every loop that is needed often, or read it; the first time takes up to a minute."""
    warm_up()
    warm_up_regions()
    warm_up_stars()
    warm_up_backgrounds()
    mark = _mark()
    with contextlib.suppress(OSError):
        # Where nothing can be kept, they are built again.
        mark.parent.mkdir(parents=True, exist_ok=True)
        mark.touch()


def are_built() -> bool:
    """Whether all loops were built before, as the program is now."""
    return _mark().is_file()


def _mark() -> Path:
    """The file that tells; its name changes with the loops and with what builds them."""
    root = Path(__file__).parents[1]
    digest = hashlib.sha256(
        f"{root} {sys.version} {version('numba')} {platform.machine()}".encode()
    )
    for path in sorted(root.rglob("*_kernels.py")):
        digest.update(path.read_bytes())
    folder = Path(platformdirs.user_cache_dir("rilievo")) / "loops"
    return folder / digest.hexdigest()[:24]


def warm_up_regions() -> None:
    """Find, clean, split and measure a few pixels, which builds the loops or reads them."""
    from rilievo.core.pipeline.analysis import Analysis  # noqa: PLC0415 (imports much)
    from rilievo.core.view.paint_kernels import paint_edges  # noqa: PLC0415

    values = np.zeros((8, 8), np.float32)
    values[2:6, 2:6] = 1
    values[3, 3] = 0
    clean = (clean_use("fill_holes"), clean_use("split_distance"), clean_use("keep", lower=1.0))
    method = Method(outlines=(ClassDefinition(threshold=hand_threshold(0.5), clean=clean),))
    labels = Analysis(Sample("warm up", {"gray": Plane(values)}), method).regions().labels
    measure = Measure(quantities=("sd", "median", "contrast", "perimeter"))
    Analysis(Sample("warm up", {"gray": Plane(values)}), method.changed(measure=measure)).table()
    depth(labels)
    grown(labels, 1.0)
    stability_of(values, np.array([0.2, 0.5]))
    paint_edges(np.zeros((8, 8), np.uint32), labels, np.ones(4, np.uint32), np.zeros(0, np.int64))


def warm_up_stars() -> None:
    """Measure one star of a few pixels, which builds the loops for stars or reads them."""
    from rilievo.core.measure.stars.apertures import stars_at  # noqa: PLC0415 (compiled on first use)

    rows, columns = np.mgrid[:31, :31] - 15.0
    values = (100 * np.exp(-(rows**2 + columns**2) / 8) + (rows * 7 + columns * 3) % 2).astype(
        np.float32
    )
    star = stars_at(Plane(values), np.array([[15.0, 15.0]]), StarUse().resolved(2.0))
    for gaussian in (True, False):
        star.profile(gaussian)


def warm_up_backgrounds() -> None:
    """Look for the objects of a small picture, as the automatic backgrounds do."""
    from rilievo.core.signal.object_finder import find_objects  # noqa: PLC0415 (imports much)

    rows, columns = np.mgrid[:64, :64] - 32.0
    values = (rows * 7 + columns * 3) % 5 + 200.0 * (rows**2 + columns**2 < 50)
    find_objects(values.astype(np.float32))
