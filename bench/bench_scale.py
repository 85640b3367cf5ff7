"""The window with many samples: times, pauses of the interface thread, memory.

    python bench/bench_scale.py [--samples 1000] [--side 512] [--photographs 30]

Everything is driven through the real window, offscreen, with two-channel samples of `side` pixels,
and then with colour photographs of 24 megapixels. A pause is any time over 50 ms in which the
interface thread answers no timer; what ran in it is printed below.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
import tifffile
from PIL import Image
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication

from pauses import PauseWatch
from rilievo.core.memory import collect_seldom, reuse_freed_memory
from rilievo.ui.shell.app import make_application
from rilievo.ui.shell.window import Window

LEAST = 0.05


def fields(folder: Path, count: int, side: int) -> list[Path]:
    """Two channels of cells on uneven ground, 16 bit; three groups."""
    rng = np.random.default_rng(7)
    y, x = np.mgrid[:side, :side] / side
    noise = rng.normal(0, 12, (2, 2 * side, 2 * side)).astype(np.float32)
    paths = []
    for k in range(count):
        dy, dx = rng.integers(0, side, 2)
        values = 200 + 40 * x + 20 * y + noise[:, dy : dy + side, dx : dx + side]
        for cy, cx in rng.integers(12, side - 12, (side * side // 8000, 2)):
            values[:, cy - 7 : cy + 8, cx - 7 : cx + 8] += rng.uniform(300, 700)
        paths.append(folder / f"{'abc'[k % 3]}-{k // 3 + 1}.ome.tif")
        axes = {"axes": "CYX", "Channel": {"Name": ["dye", "stain"]}}
        tifffile.imwrite(
            paths[-1], values.clip(0, 65535).astype(np.uint16), metadata=axes, ome=True
        )
    return paths


def photographs(folder: Path, count: int) -> list[Path]:
    """Colour photographs of 24 megapixels."""
    rng = np.random.default_rng(8)
    paths = []
    small = rng.integers(60, 200, (50, 75, 3)).astype(np.uint8)
    large = np.asarray(Image.fromarray(small).resize((6000, 4000), Image.Resampling.BICUBIC))
    for k in range(count):
        paths.append(folder / f"photo-{k + 1}.png")
        Image.fromarray(np.roll(large, 40 * k, 1)).save(paths[-1], compress_level=1)
    return paths


class Driver:
    """One window and the clock."""

    def __init__(self, application: QApplication) -> None:
        self.application = application
        self.window = Window()
        self.window.commands.study.asks_before_leaving = False
        self.window.resize(1280, 800)
        self.window.show()
        self.turn(0.3)

    def turn(self, seconds: float) -> None:
        end = time.perf_counter() + seconds
        while time.perf_counter() < end:
            self.application.processEvents()
            time.sleep(0.001)

    def until(self, ready: Callable[[], bool], limit: float = 600.0) -> float:
        start = time.perf_counter()
        while not ready():
            self.application.processEvents()
            if time.perf_counter() - start > limit:
                print(f"   gave up after {limit:.0f} s")
                return limit
            time.sleep(0.0005)
        return time.perf_counter() - start

    def step(self, name: str, work: Callable[[], object], *ready: Callable[[], bool]) -> None:
        """Do something; print how long it takes until each is ready, and the pauses."""
        with PauseWatch(LEAST) as watch:
            start = time.perf_counter()
            work()
            times = []
            for one in ready:
                self.until(one)
                times.append(time.perf_counter() - start)
            self.turn(0.3)
        said = ", ".join(f"{one:.2f} s" for one in times)
        print(f"{name:34} {said:22} {watch.told()}   [{memory():.1f} GB]", flush=True)

    # -- what is ready

    @property
    def image(self) -> object:
        return self.window.views.area.picture.image

    def all_known(self) -> bool:
        window = self.window
        held = window.compute.store.residency.wanted
        return (
            bool(held)
            and window.jobs.idle
            and all(window.compute.queue.current(k) is not None for k in held)
        )

    def picture_of(self, index: int) -> Callable[[], bool]:
        wanted, before = self.window.session.state.samples[index], self.image

        def ready() -> bool:
            there = wanted.id in self.window.compute.store.samples
            return there and self.image is not None and self.image is not before

        return ready


def memory() -> float:
    """Resident memory now, GB."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmRSS"):
            return int(line.split()[1]) / 1e6
    return 0.0


def go_through(driver: Driver, paths: list[Path], folder: Path) -> None:
    window = driver.window
    session = window.session
    driver.step(
        f"{len(paths)} files taken",
        lambda: window.commands.images.add(paths),
        lambda: driver.image is not None,
        driver.all_known,
    )
    for index in (len(paths) * 9 // 10, len(paths) // 2):
        entry = session.state.samples[index]
        driver.step(
            f"sample {index}", lambda e=entry: session.focus.set(sample_id=e.id),
            driver.picture_of(index),
        )  # fmt: skip
    driver.step("stage Outline", lambda: session.go_to("outline"), driver.all_known)
    driver.step(
        "threshold by hand",
        lambda: window.session.change_class("Threshold", threshold=_hand(350.0)),
        driver.all_known,
    )
    driver.step("undo", session.undo_stack.undo, driver.all_known)
    driver.step("recovery copy", lambda: driver.turn(1.5), lambda: window.jobs.idle)
    study = folder / f"many-{len(paths)}.rilievo"
    driver.step("stage Measure", lambda: session.go_to("measure"), driver.all_known)
    batch = window.compute.batch
    ids = [entry.id for entry in session.state.samples]
    batch.start(ids)
    driver.step("measured", lambda: None, lambda: not batch.is_running and window.jobs.idle)
    driver.step(
        "saved",
        lambda: window.commands.study.save_to(study),
        lambda: study.is_file() and window.jobs.idle,
    )
    driver.step("new study", window.commands.study.new, lambda: window.jobs.idle)
    driver.step(
        "opened again",
        lambda: window.commands.study.open_study(study),
        lambda: driver.image is not None,
        driver.all_known,
    )
    driver.step("new study", window.commands.study.new, lambda: window.jobs.idle)
    driver.turn(1.0)
    print(f"memory after New study: {memory():.1f} GB")


def _hand(level: float) -> object:
    from rilievo.core.method.class_definition import hand_threshold  # noqa: PLC0415

    return hand_threshold(level)


def main() -> None:
    # As the program does.
    reuse_freed_memory()
    collect_seldom()
    options = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    options.add_argument("--samples", type=int, default=1000)
    options.add_argument("--side", type=int, default=512)
    options.add_argument("--photographs", type=int, default=30)
    options.add_argument("--folder", type=Path)
    given = options.parse_args()
    with tempfile.TemporaryDirectory(prefix="rilievo-bench-") as name:
        folder = given.folder or Path(name)
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, name)
        application = make_application()
        for what, count in (("fields", given.samples), ("photographs", given.photographs)):
            if not count:
                continue
            place = folder / f"{what}-{count}"
            if place.is_dir():
                paths = sorted(p for p in place.iterdir() if p.suffix != ".rilievo")
            else:
                place.mkdir(parents=True)
                if what == "fields":
                    paths = fields(place, count, given.side)
                else:
                    paths = photographs(place, count)
            print(f"{count} {what}", flush=True)
            driver = Driver(application)
            go_through(driver, paths, Path(name))
            driver.window.close()


if __name__ == "__main__":
    main()
