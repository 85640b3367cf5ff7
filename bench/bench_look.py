"""How fast Look is: first picture, panning, repainting, reading, statistics.

Usage: python bench/bench_look.py [--large]     (--large makes a 20 000 × 20 000 tiled TIFF)

Times are printed beside their goals, and as multiples of copying the same plane where that says
more than seconds.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import tifffile
from PyQt6.QtCore import QSettings

from rilievo.core.image.image import plane_from_native
from rilievo.core.image.neighbourhood import covered, neighbourhood_statistics
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.measure.plane_statistics import plane_statistics
from rilievo.core.view.palettes import ViewStyle
from rilievo.core.view.render import Shading, painted
from rilievo.core.view.sampling import Viewport
from rilievo.ui.shell.app import make_application
from rilievo.ui.shell.window import Window
from rilievo.ui.theme.roles import Theme
from shortest import shortest

# Megabytes from which a file outweighs what any window needs.
_LARGE = 300


def best(work: Callable[[], object], times: int = 7) -> float:
    """Milliseconds of the fastest of several runs."""
    return 1000 * shortest(work, times)


def row(what: str, value: float, unit: str, goal: str) -> None:
    print(f"{what:<62}{value:>10.1f} {unit:<8}{goal}")


def field(side: int) -> np.ndarray:
    """A synthetic field of soft objects on an uneven background, 16-bit."""
    rng = np.random.default_rng(1)
    tile = rng.normal(1000, 40, (1024, 1024))
    y, x = np.mgrid[:1024, :1024]
    for _ in range(40):
        a, b = rng.uniform(20, 1004, 2)
        tile += 4000 * np.exp(-((x - a) ** 2 + (y - b) ** 2) / 90)
    repeat = -(-side // 1024)
    return np.tile(tile.astype(np.uint16), (repeat, repeat))[:side, :side]


def reading() -> None:
    """Statistics, histogram, neighbourhood."""
    pixels = field(4096)
    plane = plane_from_native(pixels)
    out = np.empty_like(pixels)
    copy = best(lambda: np.copyto(out, pixels))
    row("copying a 4096×4096 16-bit plane", copy, "ms", "")
    spent = best(lambda: plane_statistics(plane))
    row("histogram and all intensity quantities of it", spent / copy, "copies", "goal 12")
    noise = plane_from_native(np.random.default_rng(0).integers(0, 65536, (4096, 4096), np.uint16))
    spent = best(lambda: plane_statistics(noise), 4)
    row("… of pure 16-bit noise", spent / copy, "copies", "goal 12")
    for form in ("square", "disc"):
        part, inside = covered(2000, 2000, 101, form, plane.shape)  # type: ignore[arg-type]
        spent = best(lambda p=part, i=inside: neighbourhood_statistics(plane, p, i))
        row(f"read-out of a 101×101 {form}", spent, "ms", "goal 8")


def painting() -> None:
    """A repaint of the picture in a full window."""
    pyramid = Pyramid(field(4096))
    looks = Theme().looks()
    views = {
        "whole 4096² picture": Viewport(-1000, -100, 0.21, 1280, 800),
        "at 1:1": Viewport(1000, 1000, 1.0, 1280, 800),
    }
    styles = {
        "asinh, viridis": ViewStyle(stretch="asinh", palette="viridis"),
        "relief and contours": ViewStyle(palette="elevation", relief=20, contours=True, smooth=4),
    }
    for where, view in views.items():
        for what, style in styles.items():
            draw = partial(
                painted, pyramid, view, (900.0, 3000.0), looks, shading=Shading(style=style)
            )
            row(f"repaint 1280×800, {where}, {what}", best(draw), "ms", "goal 16")


def memory_mb() -> float:
    """What this process holds in memory now, megabytes."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmRSS"):
            return int(line.split()[1]) / 1024
    return float("nan")


def peak_mb() -> float:
    """The most it ever held."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmHWM"):
            return int(line.split()[1]) / 1024
    return float("nan")


def report_memory(name: str, held: float, size: float) -> None:
    row(f"{name}: memory at rest, × file", (memory_mb() - held) / size, "×", "goal 2.5")
    row(f"{name}: largest memory on the way, × file", (peak_mb() - held) / size, "×", "goal 2.5")


def opening(path: Path, name: str, goal: str) -> None:
    """From naming the file to its picture in the window, and panning after that."""
    application = make_application()
    window = Window()
    window.commands.study.asks_before_leaving = False
    window.show()
    for _ in range(20):
        application.processEvents()
    held = memory_mb()
    start = time.perf_counter()
    window.commands.images.add([path])
    picture = window.views.area.picture
    while picture.image is None and time.perf_counter() - start < 120:
        application.processEvents()
        time.sleep(0.001)
    row(f"{name}: named to first picture", time.perf_counter() - start, "s", goal)
    while not window.jobs.idle:
        application.processEvents()
        time.sleep(0.005)
    row(f"{name}: everything known of it", time.perf_counter() - start, "s", "")
    size = path.stat().st_size / 2**20
    if size > _LARGE:
        report_memory(name, held, size)
    for zoom in (picture.zoom * 2, 1.0):
        picture.zoom_to(zoom)
        while not window.jobs.idle:
            application.processEvents()
        frames, shown = 40, 0
        start = time.perf_counter()
        for _ in range(frames):
            picture.frame.pan(-9, -5)
            before = picture.image
            while picture.image is before:
                application.processEvents()
            picture.repaint()
            shown += 1
        rate = shown / (time.perf_counter() - start)
        row(f"{name}: panning at {100 * zoom:.0f} %", rate, "frames/s", "goal 30")
    window.close()


def main() -> None:
    """Print all figures."""
    folder = Path(tempfile.mkdtemp())
    settings = str(folder / "settings")
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
    reading()
    painting()
    plain = folder / "plain.tif"
    tifffile.imwrite(plain, field(4096))
    opening(plain, "4096×4096 plain TIFF", "goal 0.4")
    if "--large" in sys.argv:
        large = folder / "large.tif"
        tifffile.imwrite(large, field(20_000), tile=(256, 256))
        opening(large, "20 000×20 000 tiled TIFF", "goal 3")
        large.unlink()


if __name__ == "__main__":
    main()
