"""The Nights set: eight nights of one synthetic star field, with everything that was put in known.

FITS images of 800×600 pixels in 16-bit counts. All of it is invented. A frame is

    counts = offset + dark + hot pixels + flat · (sky + stars), with shot noise and read noise

One star varies, all others are constant. One night is out of focus, on one the stars are trailed.
Dark and flat frames that belong to the nights lie in `frames`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.question import Question
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.parameters import Rectangle
from rilievo.core.result_frame import ResultFrame

if TYPE_CHECKING:
    import pandas

SEED = 40_427
WIDTH, HEIGHT = 800, 600
STARS = 130
VARIABLE = 17
EXPOSURE = 60.0
OFFSET, DARK, GAIN, READ_NOISE = 300.0, 12.0, 1.5, 4.0
FULL_SCALE = 65_535
SATURATED = 60_000
PIXEL_SCALE = 1.15
HOT_PIXELS = 60
# A place without a bright star on every night, for the background patch.
PATCH = Rectangle(x=392, y=36, width=60, height=60)
RADIUS = 8.0
# Stars of more counts than this are bright.
BRIGHT = 20_000.0
QUANTITIES_MEASURED = (
    "flux", "flux_error", "magnitude", "magnitude_error", "star_snr", "peak", "sky", "sky_sd",
    "fwhm", "fwhm_unit", "hfd", "ellipticity", "star_orientation", "fit_quality", "star_x",
    "star_y", "saturated_count",
)  # fmt: skip

Image = NDArray[np.float64]


@dataclass(frozen=True)
class Night:
    """What a night was like. fwhm : pixels. trail : length of a star's trail, pixels."""

    number: int
    date: str
    sky: float
    tilt: float
    fwhm: float
    trail: float
    variable: float
    shift: tuple[float, float]
    transparency: float


NIGHTS = (
    Night(1, "2031-02-03T21:14:00", 700, 0.05, 3.0, 0, 1.00, (0.0, 0.0), 1.00),
    Night(2, "2031-02-05T20:58:00", 820, 0.07, 3.3, 0, 0.86, (2.3, -1.4), 0.97),
    Night(3, "2031-02-08T22:31:00", 640, 0.04, 2.8, 0, 0.71, (-3.1, 0.8), 1.02),
    Night(4, "2031-02-11T21:40:00", 905, 0.09, 3.5, 0, 0.55, (1.2, 3.7), 0.93),
    Night(5, "2031-02-13T23:05:00", 760, 0.06, 7.4, 0, 0.62, (4.4, -2.2), 0.99),
    Night(6, "2031-02-16T21:22:00", 690, 0.05, 3.1, 0, 0.83, (-1.7, -4.1), 1.00),
    Night(7, "2031-02-18T22:10:00", 730, 0.06, 3.2, 11, 0.97, (0.6, 2.9), 0.98),
    Night(8, "2031-02-21T20:47:00", 870, 0.12, 3.4, 0, 1.08, (-2.6, 1.5), 0.95),
)


@dataclass(frozen=True, eq=False)
class Sky:
    """The field: positions and counts of the stars in a clear night, the detector's faults."""

    x: Image
    y: Image
    flux: Image
    flat: Image
    hot: list[tuple[int, int, float]]


def synthetic_sky() -> Sky:
    """Make the field: stars apart from each other, the flat field, the hot pixels."""
    rng = np.random.default_rng(SEED)
    indices: list[tuple[float, float]] = []
    while len(indices) < STARS:
        x, y = rng.uniform(25, WIDTH - 25), rng.uniform(25, HEIGHT - 25)
        away = all(np.hypot(x - a, y - b) > 26 for a, b in indices)
        outside = not (
            PATCH.x - 20 < x < PATCH.x + PATCH.width + 20
            and PATCH.y - 20 < y < PATCH.y + PATCH.height + 20
        )
        if away and outside:
            indices.append((x, y))
    # Many faint stars and few bright ones, as skies have them.
    flux = 3_500.0 * (1 - rng.uniform(0, 0.9975, STARS)) ** -0.75
    flux[VARIABLE] = 60_000.0
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    away2 = ((x - WIDTH / 2) / WIDTH) ** 2 + ((y - HEIGHT / 2) / WIDTH) ** 2
    flat = 1.03 - 0.35 * away2
    for _ in range(9):
        dust_x, dust_y = rng.uniform(0, WIDTH), rng.uniform(0, HEIGHT)
        ring = np.hypot(x - dust_x, y - dust_y)
        flat *= 1 - 0.035 * np.exp(-(((ring - 9) / 4) ** 2))
    flat += rng.normal(0, 0.004, flat.shape)
    flat /= flat.mean()
    hot = [
        (int(rng.integers(WIDTH)), int(rng.integers(HEIGHT)), float(rng.uniform(400, 20_000)))
        for _ in range(HOT_PIXELS)
    ]
    positions = np.array(indices)
    return Sky(positions[:, 0], positions[:, 1], flux, flat, hot)


def _add_star(image: Image, x: float, y: float, flux: float, night: Night) -> None:
    """Add a Moffat profile (exponent 3) of a given total, averaged over 3×3 points a pixel."""
    radius = night.fwhm / (2 * np.sqrt(2 ** (1 / 3) - 1))
    half = int(np.ceil(9 * night.fwhm + night.trail / 2))
    left, right = max(int(x) - half, 0), min(int(x) + half + 1, WIDTH)
    top, bottom = max(int(y) - half, 0), min(int(y) + half + 1, HEIGHT)
    inner = (np.arange(3) - 1) / 3
    rows = (np.arange(top, bottom)[:, None] + inner).ravel()[:, None] - y
    columns = (np.arange(left, right)[:, None] + inner).ravel()[None, :] - x
    steps = np.linspace(-night.trail / 2, night.trail / 2, 15) if night.trail else np.zeros(1)
    profile = np.zeros((rows.size, columns.size))
    for step in steps:
        dx, dy = columns - step * 0.8, rows - step * 0.6
        profile += (1 + (dx * dx + dy * dy) / radius**2) ** -3
    # The integral of (1 + r²/a²)⁻³ over the plane is π a² / 2.
    profile *= flux / (steps.size * np.pi * radius**2 / 2)
    cells = profile.reshape(bottom - top, 3, right - left, 3).mean(axis=(1, 3))
    image[top:bottom, left:right] += cells


def _recorded(rng: np.random.Generator, light: Image, hot: Image) -> NDArray[np.uint16]:
    electrons = rng.poisson(np.maximum(light + DARK + hot, 0) * GAIN) / GAIN
    counts = OFFSET + electrons + rng.normal(0, READ_NOISE, light.shape)
    return np.clip(np.rint(counts), 0, FULL_SCALE).astype(np.uint16)


def _hot_frame(sky: Sky) -> Image:
    frame = np.zeros((HEIGHT, WIDTH))
    for x, y, counts in sky.hot:
        frame[y, x] = counts
    return frame


def make_night(night: Night) -> NDArray[np.uint16]:
    """Return the frame of a night, shape (HEIGHT, WIDTH); the same every time."""
    sky = synthetic_sky()
    rng = np.random.default_rng([SEED, night.number])
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    light = night.sky * (1 + night.tilt * ((x / WIDTH - 0.5) + 0.6 * (y / HEIGHT - 0.5)))
    for k in range(STARS):
        flux = sky.flux[k] * night.transparency * (night.variable if k == VARIABLE else 1.0)
        _add_star(light, sky.x[k] + night.shift[0], sky.y[k] + night.shift[1], float(flux), night)
    return _recorded(rng, sky.flat * light, _hot_frame(sky))


def nights_method(folder: Path) -> Method:
    """Return the method for the set: dark, flat and sky taken off, stars measured in circles.

    folder : where the set was written; its frames are in “frames”.
    """
    dark, flat = (
        {"files": [{"file": str(folder / "frames" / f"{kind}-{n}.fits")} for n in (1, 2, 3)]}
        for kind in ("dark", "flat")
    )
    method = Method(
        name="A variable star",
        steps=(
            step_use("dark", "frames.dark", dark=dark),
            step_use("flat", "frames.flat", flat=flat, flat_dark=dark),
            step_use("sky", "background.mesh"),
        ),
    )
    stars = ClassDefinition(
        region_class="star",
        source="stars",
        star=StarUse(radius=RADIUS, sky_inner=12, sky_outer=20, gain=GAIN),
    )
    return method.changed(outlines=(stars,), measure=Measure(quantities=QUANTITIES_MEASURED))


def write_nights(folder: Path, report: Callable[[float], None] = lambda _: None) -> list[Path]:
    """Write the nights into `folder`, frames and truth tables below it; return the nights.

    report : is told the share done.
    """

    (folder / "truth").mkdir(parents=True, exist_ok=True)
    (folder / "frames").mkdir(exist_ok=True)
    sky = synthetic_sky()
    paths, stars = [], []
    for night in NIGHTS:
        path = folder / f"night-{night.number}.fits"
        cards = {"DATE-OBS": night.date, "EXPTIME": EXPOSURE, "FILTER": "V", "OBJECT": "Field 9"}
        _write_fits(path, make_night(night), cards)
        paths.append(path)
        for k in range(STARS):
            flux = sky.flux[k] * night.transparency * (night.variable if k == VARIABLE else 1.0)
            stars.append(
                {
                    "sample": path.stem,
                    "star": k + 1,
                    "x": sky.x[k] + night.shift[0],
                    "y": sky.y[k] + night.shift[1],
                    "flux": flux,
                    "variable": k == VARIABLE,
                }
            )
        report(night.number / (len(NIGHTS) + 1))
    _write_frames(folder / "frames", sky)
    ResultFrame.of_records(stars).write_csv(folder / "truth" / "stars.csv")
    facts = [
        {
            "sample": f"night-{n.number}",
            "date": n.date,
            "sky": n.sky,
            "tilt": n.tilt,
            "fwhm": n.fwhm,
            "trail": n.trail,
            "variable": n.variable,
            "transparency": n.transparency,
        }
        for n in NIGHTS
    ]
    ResultFrame.of_records(facts).write_csv(folder / "truth" / "nights.csv")
    hot = ResultFrame.of_rows(("x", "y", "counts"), sky.hot)
    hot.write_csv(folder / "truth" / "hot_pixels.csv")
    report(1.0)
    return paths


def _write_frames(folder: Path, sky: Sky) -> None:
    hot = _hot_frame(sky)
    for number in (1, 2, 3):
        rng = np.random.default_rng([SEED, 100 + number])
        dark = _recorded(rng, np.zeros((HEIGHT, WIDTH)), hot)
        flat = _recorded(rng, 21_000.0 * sky.flat, hot)
        _write_fits(folder / f"dark-{number}.fits", dark, {"EXPTIME": EXPOSURE, "OBJECT": "Dark"})
        _write_fits(
            folder / f"flat-{number}.fits",
            flat,
            {"EXPTIME": EXPOSURE, "FILTER": "V", "OBJECT": "Flat"},
        )


def _write_fits(path: Path, pixels: NDArray[np.uint16], cards: dict[str, Any]) -> None:
    from astropy.io import fits  # noqa: PLC0415 (slow to import)

    unit = fits.PrimaryHDU(pixels)
    unit.header.update(cards)
    unit.header["INSTRUME"] = "Made-up camera"
    unit.header["PIXSCALE"] = (PIXEL_SCALE, "arcsec per pixel")
    unit.header["SATURATE"] = (SATURATED, "counts")
    unit.writeto(path, overwrite=True)


def nights_question() -> Question:
    """Return what is compared: sharpness and sky from night to night."""
    return Question(quantities=("fwhm", "sky"), by="sample:date", shown_as="series")


def recovery_lines(truth_folder: Path, measured: pandas.DataFrame) -> list[str]:
    """Return how the measurement deviates from what was put in, as lines of text."""
    import pandas  # noqa: PLC0415

    truth = pandas.read_csv(truth_folder / "stars.csv")
    nights = pandas.read_csv(truth_folder / "nights.csv")
    true_width = dict(zip(nights["sample"].astype(str), nights["fwhm"], strict=True))
    lines = ["The variable star beside the bright constant ones, and the sharpness"]
    lines.append(
        f"{'night':<10}{'stars':>6}{'true':>9}{'measured':>10}{'deviation':>11}"
        f"{'FWHM true':>11}{'measured':>10}"
    )
    first: float | None = None
    for sample, stars in truth.groupby("sample", sort=False):
        found = measured[measured["sample"] == sample]
        values = np.array(
            [_flux_at(found, x, y) for x, y in zip(stars["x"], stars["y"], strict=True)]
        )
        variable = stars["variable"].to_numpy()
        flux = stars["flux"].to_numpy(dtype=np.float64)
        bright = ~variable & (flux > BRIGHT) & np.isfinite(values)
        count = int(np.isfinite(values).sum())
        if not bright.any() or not np.isfinite(values[variable]).all():
            lines.append(f"{sample:<10}{count:>6}{'–':>9}{'–':>10}")
            continue
        ratio = float(values[variable][0] / values[bright].sum())
        true = float(flux[variable][0]) / float(flux[bright].sum())
        first = first or ratio / true
        off = 100 * (ratio / true / first - 1)
        width = float(found["fwhm"].median())
        lines.append(
            f"{sample:<10}{count:>6}{true:>9.4f}{ratio / first:>10.4f}{off:>+9.2f} %"
            f"{true_width[str(sample)]:>11.1f}{width:>10.2f}"
        )
    lines.append("On night 7 the stars are trailed, so they are wider than the air made them.")
    return lines


def _flux_at(found: pandas.DataFrame, x: float, y: float) -> float:
    """The flux of the star within 4 pixels of a position; NaN for none."""
    away = np.hypot(found["star_x"] - x, found["star_y"] - y)
    if not away.size or not away.min() < 4:
        return np.nan
    return float(found["flux"].iloc[int(away.argmin())])
