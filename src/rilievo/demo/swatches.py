"""The Swatches set: wool dyed with madder, faded under a lamp, photographed; truth known.

Three photographs of 960×640 pixels, 8 bits a colour, of seven swatches each, which lay under the
lamp for 0 to 64 hours, and a gray card. All of it is invented. A pixel is

    code = round(255 · sRGB(light · reflectance · texture)) with noise,

with light that falls off to one side. The truth of a swatch is its reflectance.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.curve_fits import fit_curve
from rilievo.core.compare.question import Question
from rilievo.core.compare.wording import with_error
from rilievo.core.files.channel_preparation import Derived, Reading, Term
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Measure, Method
from rilievo.core.method.picks import Pick
from rilievo.core.regions.drawn_shapes import DrawnRegion
from rilievo.core.regions.shapes import RectangleShape
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.derived_columns import DerivedColumn

if TYPE_CHECKING:
    import pandas

SEED = 61_803
WIDTH, HEIGHT = 960, 640
HOURS = (0, 2, 4, 8, 16, 32, 64)
COLOURS = ("red", "green", "blue")
WOOL = np.array([0.78, 0.73, 0.62])
CARD = 0.5
TABLE = np.array([0.30, 0.31, 0.32])
SIDE = 104
_TOP, _LEFT, _STEP = 210, 52, 124

Image = NDArray[np.float64]


@dataclass(frozen=True)
class Bath:
    """One dye bath: reflectance when fresh, and the hours in which half of the dye fades."""

    name: str
    fresh: tuple[float, float, float]
    half_life: float
    falloff: float


BATHS = (
    Bath("bath-1", (0.42, 0.075, 0.060), 21.0, 0.22),
    Bath("bath-2", (0.47, 0.105, 0.080), 17.0, 0.30),
    Bath("bath-3", (0.36, 0.060, 0.055), 26.0, 0.16),
)


def reflectance(bath: Bath, hours: float) -> Image:
    """Return the share of red, green and blue light that a swatch throws back.

    The dye's absorption falls by half every half-life; absorption is −ln of the reflectance
    relative to undyed wool.
    """
    absorbed = -np.log(np.array(bath.fresh) / WOOL) * 0.5 ** (hours / bath.half_life)
    return np.asarray(WOOL * np.exp(-absorbed))


def position(swatch: int) -> tuple[int, int]:
    """Return the centre of a swatch (0 … 6), the same in all photographs."""
    return _LEFT + swatch * _STEP + SIDE // 2, _TOP + (12 if swatch % 2 else 0) + SIDE // 2


def _srgb(light: Image) -> Image:
    light = np.clip(light, 0, 1)
    return np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)


def make_photo(bath: Bath) -> NDArray[np.uint8]:
    """Return a photograph, shape (HEIGHT, WIDTH, 3); the same every time."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    rng = np.random.default_rng([SEED, BATHS.index(bath)])
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    scene = np.broadcast_to(TABLE, (HEIGHT, WIDTH, 3)).copy()
    scene *= 1 + 0.03 * rng.normal(size=(HEIGHT, WIDTH, 1))
    for k, hours in enumerate(HOURS):
        cx, cy = position(k)
        turn = np.deg2rad(rng.uniform(-3, 3))
        u = (x - cx) * np.cos(turn) + (y - cy) * np.sin(turn)
        v = (y - cy) * np.cos(turn) - (x - cx) * np.sin(turn)
        ragged = 1.5 * np.sin(u / 3.1 + k) + 1.5 * np.sin(v / 2.7)
        inside = (np.abs(u) < SIDE / 2 + ragged) & (np.abs(v) < SIDE / 2 + ragged)
        # A twill weave: fine diagonal ribs, and wool that is uneven over a few pixels.
        ribs = 0.05 * np.sin((u + 1.6 * v) / 1.4)
        fluff = 6 * ndimage.gaussian_filter(rng.normal(0, 0.06, (HEIGHT, WIDTH)), 3)
        texture = 1 + ribs + fluff
        texture /= texture[inside].mean()
        scene[inside] = reflectance(bath, hours) * texture[inside][:, None]
    card = (np.abs(x - WIDTH / 2) < 150) & (np.abs(y - 470) < 42)
    scene[card] = CARD
    light = 1.05 * (1 - bath.falloff * (x / WIDTH) - 0.1 * ((y - HEIGHT / 2) / HEIGHT) ** 2)
    seen = ndimage.gaussian_filter(scene * light[..., None], (0.7, 0.7, 0))
    seen += rng.normal(0, 0.004, seen.shape) * np.sqrt(np.maximum(seen, 0.02))
    return np.asarray(np.rint(255 * _srgb(seen)), dtype=np.uint8)


def swatches_method() -> Method:
    """Return the method: light instead of codes, madder channels, three picks a swatch."""
    mix = tuple(
        Term(channel=name, weight=weight)
        for name, weight in zip(COLOURS, (1.0, -0.5, -0.5), strict=True)
    )
    ratio = (Term(channel="green"), Term(channel="red"))
    reading = Reading(
        undo_srgb=True,
        derived=(
            Derived(name="madder", terms=mix),
            Derived(name="green / red", way="ratio", terms=ratio),
        ),
    )
    picks = []
    for k, hours in enumerate(HOURS):
        cx, cy = position(k)
        for n, (dx, dy) in enumerate(((-24, -20), (22, -4), (-6, 24))):
            picks.append(
                Pick(
                    number=3 * k + n + 1,
                    name=f"{hours} h, {'abc'[n]}",
                    specimen=f"{hours} h",
                    x=cx + dx,
                    y=cy + dy,
                    size=25,
                )
            )
    swatches = ClassDefinition(
        region_class="swatch", source="drawn", drawn=tuple(_drawn(k) for k in range(len(HOURS)))
    )
    # Light that falls off to one side is the same in red and green, and cancels.
    dye = DerivedColumn(name="dye", formula='log("red: mean") - log("green: mean")')
    return Method(
        name="Fading of madder",
        reading=reading,
        picks=tuple(picks),
        outlines=(swatches,),
        measure=Measure(derived=(dye,)),
    )


def _drawn(swatch: int) -> DrawnRegion:
    """The inner part of a swatch, with its hours under the lamp."""
    x, y = position(swatch)
    side = 72
    shape = RectangleShape(x=x, y=y, width=side, height=side)
    name = f"{HOURS[swatch]} h"
    return DrawnRegion(shape=shape, name=name, attributes={"hours": name})


def swatches_question() -> Question:
    """Return what is compared: how the dye fades with the hours, photograph by photograph."""
    return Question(
        quantities=("dye",),
        channel="green / red",
        by="region:hours",
        shown_as="series",
        fit="decay",
    )


def write_swatches(folder: Path, report: Callable[[float], None] = lambda _: None) -> list[Path]:
    """Write the photographs into `folder`, a JPEG copy of one and the truth; return the PNGs.

    report : is told the share done.
    """
    import imagecodecs  # noqa: PLC0415 (slow to import)

    (folder / "truth").mkdir(parents=True, exist_ok=True)
    (folder / "lossy").mkdir(exist_ok=True)
    paths, rows = [], []
    for done, bath in enumerate(BATHS, start=1):
        pixels = make_photo(bath)
        path = folder / f"{bath.name}.png"
        path.write_bytes(imagecodecs.png_encode(pixels))
        if done == 1:
            lossy = imagecodecs.jpeg_encode(pixels, level=70)
            (folder / "lossy" / f"{bath.name}-as-jpeg.jpg").write_bytes(lossy)
        paths.append(path)
        for k, hours in enumerate(HOURS):
            values = reflectance(bath, hours)
            x, y = position(k)
            rows.append(
                {"sample": bath.name, "specimen": f"{hours} h", "hours": hours, "x": x, "y": y}
                | {name: float(v) for name, v in zip(COLOURS, values, strict=True)}
            )
        report(done / len(BATHS))
    ResultFrame.of_records(rows).write_csv(folder / "truth" / "swatches.csv")
    return [*paths, folder / "lossy" / f"{BATHS[0].name}-as-jpeg.jpg"]


def half_lives(regions: pandas.DataFrame) -> dict[str, tuple[float, float]]:
    """Return the hours in which half of the dye fades, with error, by photograph.

    regions : as measured with the derived column “dye”. A decay is fitted to each photograph.
    """
    found = {}
    own = regions[regions["channel"] == "green / red"]
    for sample, part in own.groupby("sample"):
        hours = part["name"].str.removesuffix(" h").astype(float).to_numpy()
        fit = fit_curve("decay", np.asarray(hours, np.float64), part["dye"].to_numpy(np.float64))
        found[str(sample)] = (math.log(2) * fit.parameters[2], math.log(2) * fit.errors[2])
    return found


def recovery_lines(
    truth_folder: Path, regions: pandas.DataFrame, specimens: pandas.DataFrame
) -> list[str]:
    """Return how the green / red ratio and the half-lives deviate from the truth, as lines."""
    import pandas  # noqa: PLC0415

    truth = pandas.read_csv(truth_folder / "swatches.csv")
    measured = specimens[specimens["channel"] == "green / red"]
    joined = truth.merge(measured, on=["sample", "specimen"])
    lines = ["Green / red of a swatch, which uneven light does not change; mean of three picks"]
    lines.append(f"{'bath':<10}{'hours':>6}{'true':>9}{'measured':>10}{'deviation':>11}")
    for row in joined.itertuples():
        true = float(row.green) / float(row.red)  # type: ignore[arg-type]
        off = 100 * (float(row.mean) / true - 1)  # type: ignore[arg-type]
        lines.append(f"{row.sample:<10}{row.hours:>6}{true:>9.4f}{row.mean:>10.4f}{off:>+9.2f} %")
    lines += ["", "Hours in which half of the dye fades, from a decay fitted to each photograph"]
    lines.append(f"{'bath':<18}{'true':>7}{'measured':>18}")
    found = half_lives(regions)
    lives = {bath.name: bath.half_life for bath in BATHS}
    for sample, (value, error) in found.items():
        true = next(life for name, life in lives.items() if sample.startswith(name))
        lines.append(f"{sample:<18}{true:>7.1f}{with_error(value, error):>18}")
    return lines
