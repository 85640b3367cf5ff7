"""What all tests share: a quiet place for settings, and synthetic images."""

from __future__ import annotations

import signal
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from hypothesis import settings

from rilievo.core.image.image import Calibration, Plane, Sample, plane_from_native

# How long an example takes depends on what else the machine does; tests never assert times.
settings.register_profile("no times", deadline=None)
settings.load_profile("no times")


# Long tests in processes of their own; last, they would keep one worker waiting for the other.
_FIRST = ("core/batch/test_killed.py", "core/batch/test_cluster.py", "test_cli.py", "demo/")


def pytest_configure() -> None:
    """Let what the tests start be interrupted, also where the suite runs in the background."""
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
        signal.signal(signal.SIGINT, signal.default_int_handler)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with what takes longest; everything else stays in its order."""
    here = Path(__file__).parent
    items.sort(key=lambda item: not item.path.relative_to(here).as_posix().startswith(_FIRST))


@pytest.fixture(autouse=True)
def _own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME"):
        (home / name).mkdir()
        monkeypatch.setenv(name, str(home / name))


@pytest.fixture
def blobs() -> np.ndarray:
    """A 60×80 plane of 100 with three rectangles: 300, 500 and a single pixel of 900."""
    pixels = np.full((60, 80), 100, np.uint16)
    pixels[5:15, 10:30] = 300
    pixels[30:50, 40:60] = 500
    pixels[55, 70] = 900
    return pixels


@pytest.fixture
def make_sample() -> Callable[..., Sample]:
    def make(*planes: np.ndarray, name: str = "s", pixel_size: float | None = 0.5) -> Sample:
        calibration = Calibration(pixel_size, "µm" if pixel_size else "px")
        channels: dict[str, Plane] = {
            f"ch{i + 1}": plane_from_native(p, calibration) for i, p in enumerate(planes)
        }
        return Sample(name, channels, checksum=f"made {name} {id(planes)}")

    return make


@pytest.fixture
def write_tiff(tmp_path: Path) -> Callable[..., Path]:
    def write(name: str, pixels: np.ndarray, **options: object) -> Path:
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        tifffile.imwrite(path, pixels, **options)
        return path

    return write
