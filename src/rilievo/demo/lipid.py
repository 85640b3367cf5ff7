"""The Lipid set: synthetic microalgae from three cultures, with everything that was put in known.

Twelve fields of 768×768 pixels with two channels, as a 12-bit camera would give them in 16-bit
files, from two harvests of each culture. All of it is invented. The image of a channel is

    counts = clip(round(noise(offset + illumination · (medium + cells))), 0, 4095)

with an illumination that falls off towards the corners, shot noise and read noise. The truth of
a cell is the mean of its noise-free signal under even illumination, over the pixels whose
centres lie inside its outline.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.method.class_definition import ClassDefinition, clean_use
from rilievo.core.method.method import Method, SampleException, step_use
from rilievo.core.parameters import Rectangle
from rilievo.core.result_frame import ResultFrame

if TYPE_CHECKING:
    import pandas

SEED = 20_261
SIZE = 768
PIXEL_SIZE_UM = 0.32
FIELDS_PER_CULTURE = 4
CHANNELS = ("chlorophyll", "lipid dye")
FULL_SCALE = 4095

# What the camera adds: offset in counts, electrons per count, read noise in counts.
OFFSET, ELECTRONS_PER_COUNT, READ_NOISE = 100.0, 2.0, 3.0
MEDIUM = {"chlorophyll": 150.0, "lipid dye": 120.0}
OPTICAL_BLUR = 1.0

# A place that is empty in every field but one, for the background patch.
PATCH = Rectangle(x=560, y=118, width=90, height=90)
CROWDED_FIELD = "starved-3"
CROWDED_PATCH = Rectangle(x=118, y=560, width=90, height=90)

Image = NDArray[np.float64]


@dataclass(frozen=True)
class Culture:
    """What is put into the cells of one culture.

    lipid : mean lipid signal per cell at the second harvest, counts. first : what it is of that at
    the first harvest. droplets : share of it in droplets.
    """

    name: str
    lipid: float
    first: float
    droplets: float
    largest_droplets: float

    def lipid_at(self, harvest: str) -> float:
        """Return the mean lipid signal per cell at a harvest, counts."""
        return self.lipid * (self.first if harvest == HARVESTS[0] else 1.0)


# The first half of the fields of a culture are of the first.
HARVESTS = ("day 1", "day 2")
# Lipid in one cell varies by this, as the standard deviation of its logarithm.
CELL_SPREAD = 0.16
CULTURES = (
    Culture("replete", 262.0, 1.0, 0.25, 0.0),
    Culture("low-nitrogen", 590.0, 0.85, 0.45, 0.02),
    Culture("starved", 940.0, 0.7, 0.6, 0.08),
)


def harvest_of(number: int) -> str:
    """Return the harvest that a field is of."""
    return HARVESTS[0] if number <= FIELDS_PER_CULTURE // 2 else HARVESTS[1]


@dataclass(frozen=True)
class Cell:
    """One cell: centre, mean radius, and the waves of its outline, in pixels."""

    x: float
    y: float
    radius: float
    waves: tuple[tuple[int, float, float], ...]

    def window(self) -> tuple[slice, slice]:
        """Return rows and columns of a square that holds the cell, clipped to the field."""
        half = int(np.ceil(self.reach)) + 2
        rows = slice(max(int(self.y) - half, 0), min(int(self.y) + half + 1, SIZE))
        return rows, slice(max(int(self.x) - half, 0), min(int(self.x) + half + 1, SIZE))

    def grid(self) -> tuple[Image, Image]:
        """Return rows and columns of the window's pixels, as open grids."""
        rows, columns = self.window()
        y, x = np.ogrid[rows, columns]
        return y.astype(np.float64), x.astype(np.float64)

    def mask(self) -> NDArray[np.bool_]:
        """Return the pixels of the window whose centres lie inside the outline."""
        y, x = self.grid()
        angle = np.arctan2(y - self.y, x - self.x)
        edge = np.full(angle.shape, self.radius)
        for order, strength, phase in self.waves:
            edge = edge + self.radius * strength * np.cos(order * angle + phase)
        return np.asarray(np.hypot(x - self.x, y - self.y) < edge)

    @property
    def reach(self) -> float:
        """Largest distance of the outline from the centre."""
        return self.radius * (1 + sum(strength for _, strength, _ in self.waves))


@dataclass(frozen=True)
class Lamp:
    """Illumination: 1 + falloff · (2/3 − ((x − x₀)/h)² − ((y − y₀)/h)²), h half the width."""

    falloff: float
    centre_x: float
    centre_y: float

    def surface(self) -> Image:
        """Return the illumination of every pixel; its mean over a centred field is 1."""
        half = SIZE / 2
        y, x = np.ogrid[:SIZE, :SIZE]
        away = ((x - self.centre_x) / half) ** 2 + ((y - self.centre_y) / half) ** 2
        return np.asarray(1 + self.falloff * (2 / 3 - away))


def _new_cell(rng: np.random.Generator, x: float, y: float) -> Cell:
    waves = tuple(
        (order, float(rng.uniform(0, limit)), float(rng.uniform(0, 2 * np.pi)))
        for order, limit in ((2, 0.14), (3, 0.06))
    )
    return Cell(x, y, float(rng.uniform(14, 19)), waves)


def _placed_cells(rng: np.random.Generator, name: str) -> tuple[list[Cell], set[int]]:
    """Return the cells of a field, and the indices in the list of those that touch another."""
    patch = CROWDED_PATCH if name == CROWDED_FIELD else PATCH
    cells: list[Cell] = []
    if name == CROWDED_FIELD:
        cells.append(_new_cell(rng, PATCH.x + 45.0, PATCH.y + 45.0))
    wanted = int(rng.integers(12, 16))
    while len(cells) < wanted:
        cell = _new_cell(rng, *rng.uniform(32, SIZE - 32, 2))
        free = all(np.hypot(cell.x - o.x, cell.y - o.y) > cell.reach + o.reach + 14 for o in cells)
        away_x = max(patch.x - cell.x, cell.x - patch.x - patch.width, 0)
        away_y = max(patch.y - cell.y, cell.y - patch.y - patch.height, 0)
        if free and np.hypot(away_x, away_y) > cell.reach + 12:
            cells.append(cell)
    touching: set[int] = set()
    for _ in range(int(rng.integers(0, 3))):
        partner = int(rng.integers(len(cells)))
        angle = float(rng.uniform(0, 2 * np.pi))
        first = cells[partner]
        second = _new_cell(rng, 0.0, 0.0)
        distance = 0.92 * (first.radius + second.radius)
        x, y = first.x + distance * np.cos(angle), first.y + distance * np.sin(angle)
        moved = Cell(float(x), float(y), second.radius, second.waves)
        inside = 32 < x < SIZE - 32 and 32 < y < SIZE - 32
        others = [c for i, c in enumerate(cells) if i != partner]
        free = all(np.hypot(x - c.x, y - c.y) > moved.reach + c.reach + 14 for c in others)
        beside_patch = (
            patch.x - 35 < x < patch.x + patch.width + 35
            and patch.y - 35 < y < patch.y + patch.height + 35
        )
        if inside and free and not beside_patch and partner not in touching:
            touching |= {partner, len(cells)}
            cells.append(moved)
    return cells, touching


def _spots(
    rng: np.random.Generator, cell: Cell, mask: NDArray[np.bool_], count: int, width: float
) -> Image:
    """Return round spots with peak 1 in a cell's window, zero outside the cell."""
    y, x = cell.grid()
    picture = np.zeros(mask.shape)
    for _ in range(count):
        away = cell.radius * 0.62 * np.sqrt(rng.uniform())
        angle = rng.uniform(0, 2 * np.pi)
        spot_x, spot_y = cell.x + away * np.cos(angle), cell.y + away * np.sin(angle)
        size = width * rng.uniform(0.8, 1.25)
        picture += np.exp(-((x - spot_x) ** 2 + (y - spot_y) ** 2) / (2 * size**2))
    return np.where(mask, picture, 0.0)


def _with_mean(picture: Image, mask: NDArray[np.bool_], mean: float) -> Image:
    return np.asarray(picture * (mean / picture[mask].mean()))


def _cell_signals(
    rng: np.random.Generator, cell: Cell, culture: Culture, harvest: str
) -> tuple[NDArray[np.bool_], Image, Image]:
    mask = cell.mask()
    even = mask.astype(np.float64)
    chloroplast = _spots(rng, cell, mask, 3, cell.radius * 0.5)
    chlorophyll = _with_mean(even + 0.35 * chloroplast, mask, rng.normal(720, 60))
    lipid_mean = culture.lipid_at(harvest) * rng.lognormal(0, CELL_SPREAD)
    droplets = _spots(rng, cell, mask, int(rng.integers(2, 6)), 3.2)
    lipid = _with_mean(even, mask, lipid_mean * (1 - culture.droplets))
    lipid += _with_mean(droplets + 1e-6 * even, mask, lipid_mean * culture.droplets)
    if rng.uniform() < culture.largest_droplets:
        # A droplet brighter than the camera's full scale.
        lipid += 5600 * _spots(rng, cell, mask, 1, 2.6)
    return mask, chlorophyll, lipid


def _exposed(rng: np.random.Generator, ideal: Image) -> NDArray[np.uint16]:
    shot = rng.poisson(ideal * ELECTRONS_PER_COUNT) / ELECTRONS_PER_COUNT
    counts = OFFSET + shot + rng.normal(0, READ_NOISE, ideal.shape)
    return np.clip(np.rint(counts), 0, FULL_SCALE).astype(np.uint16)


@dataclass(frozen=True, eq=False)
class Field:
    """One synthetic field: pixels of shape (2, SIZE, SIZE) and what was put in."""

    name: str
    culture: str
    pixels: NDArray[np.uint16]
    cells: list[dict[str, Any]]
    background: list[dict[str, Any]]


def make_field(culture: Culture, number: int) -> Field:
    """Return field `number` (1 … FIELDS_PER_CULTURE) of a culture; the same every time."""
    from scipy import ndimage  # noqa: PLC0415 (slow to import)

    name = f"{culture.name}-{number}"
    rng = np.random.default_rng([SEED, CULTURES.index(culture), number])
    lamp = Lamp(0.045, float(rng.normal(SIZE / 2, 12)), float(rng.normal(SIZE / 2, 12)))
    cells, touching = _placed_cells(rng, name)
    ideal = {channel: np.zeros((SIZE, SIZE)) for channel in CHANNELS}
    masks = []
    for cell in cells:
        mask, chlorophyll, lipid = _cell_signals(rng, cell, culture, harvest_of(number))
        masks.append(mask)
        # Where two cells overlap, the upper one hides the lower one.
        for channel, signal in zip(CHANNELS, (chlorophyll, lipid), strict=True):
            view = ideal[channel][cell.window()]
            view[mask] = signal[mask]
    seen = {c: ndimage.gaussian_filter(ideal[c], OPTICAL_BLUR) for c in CHANNELS}
    light = lamp.surface()
    planes = [_exposed(rng, light * (MEDIUM[c] + seen[c])) for c in CHANNELS]
    truth = []
    for i, (cell, mask) in enumerate(zip(cells, masks, strict=True)):
        window = cell.window()
        rows, columns = np.nonzero(mask)
        truth.append(
            {
                "sample": name,
                "culture": culture.name,
                "harvest": harvest_of(number),
                "cell": i + 1,
                "x": float(columns.mean() + window[1].start),
                "y": float(rows.mean() + window[0].start),
                "area": int(mask.sum()),
                "chlorophyll": float(seen["chlorophyll"][window][mask].mean()),
                "lipid": float(seen["lipid dye"][window][mask].mean()),
                "isolated": i not in touching,
                "saturated": any(bool((p[window][mask] >= FULL_SCALE).any()) for p in planes),
            }
        )
    background = [
        {
            "sample": name,
            "channel": channel,
            "offset": OFFSET,
            "medium": MEDIUM[channel],
            "falloff": lamp.falloff,
            "centre_x": lamp.centre_x,
            "centre_y": lamp.centre_y,
        }
        for channel in CHANNELS
    ]
    return Field(name, culture.name, np.stack(planes), truth, background)


def lipid_attributes(name: str) -> dict[str, str]:
    """Return what is known of a field beside its culture."""
    return {"harvest": harvest_of(int(name.rsplit("-", 1)[1]))}


def true_means() -> dict[tuple[str, str], float]:
    """Return the expected lipid signal per cell of each culture and harvest, counts."""
    return {
        (culture.name, harvest): culture.lipid_at(harvest) * float(np.exp(CELL_SPREAD**2 / 2))
        for culture in CULTURES
        for harvest in HARVESTS
    }


def lipid_method() -> Method:
    """Return the method for the set: patch background, automatic threshold, plausible areas."""
    method = Method(
        name="Lipid in starved algae",
        steps=(step_use("background", "background.patch", patches=[PATCH.model_dump()]),),
    )
    cells = ClassDefinition(
        channel="chlorophyll",
        clean=(
            clean_use("fill_holes"),
            clean_use("split_distance"),
            clean_use("keep", quantity="area_unit", lower=20.0, upper=400.0),
        ),
    )
    moved = SampleException(parameters={"background": {"patches": [CROWDED_PATCH.model_dump()]}})
    return method.changed(outlines=(cells,), exceptions={CROWDED_FIELD: moved})


def write_lipid(folder: Path, report: Callable[[float], None] = lambda _: None) -> list[Path]:
    """Write the images into `folder`, truth tables into `folder`/truth; return the images.

    report : is told the share done after each field.
    """
    import tifffile  # noqa: PLC0415 (slow to import)

    (folder / "truth").mkdir(parents=True, exist_ok=True)
    paths, cells, background = [], [], []
    orders = [(c, n) for c in CULTURES for n in range(1, FIELDS_PER_CULTURE + 1)]
    for done, (culture, number) in enumerate(orders, start=1):
        field = make_field(culture, number)
        path = folder / f"{field.name}.ome.tif"
        tifffile.imwrite(
            path,
            field.pixels,
            ome=True,
            photometric="minisblack",
            metadata={
                "axes": "CYX",
                "Channel": {"Name": list(CHANNELS)},
                "PhysicalSizeX": PIXEL_SIZE_UM,
                "PhysicalSizeXUnit": "µm",
                "PhysicalSizeY": PIXEL_SIZE_UM,
                "PhysicalSizeYUnit": "µm",
                "SignificantBits": 12,
                # A fixed identifier keeps the files, and their checksums, the same every time.
                "UUID": f"00000000-0000-4000-8000-{SEED:06d}{done:06d}",
            },
        )
        paths.append(path)
        cells += field.cells
        background += field.background
        report(done / len(orders))
    ResultFrame.of_records(cells).write_csv(folder / "truth" / "cells.csv")
    ResultFrame.of_records(background).write_csv(folder / "truth" / "background.csv")
    return paths


def background_surface(row: Any) -> Image:
    """Return the true background of a row of truth/background.csv, counts, (SIZE, SIZE)."""
    lamp = Lamp(float(row["falloff"]), float(row["centre_x"]), float(row["centre_y"]))
    return float(row["offset"]) + float(row["medium"]) * lamp.surface()


def matched(truth: pandas.DataFrame, measured: pandas.DataFrame) -> pandas.DataFrame:
    """Return the isolated cells with the number of the region that holds each, 0 for none.

    truth : truth/cells.csv. measured : the region table with x, y, bbox_* and area. A region
    belongs to a cell when its centroid lies within half a cell radius of the cell's.
    """
    rows = []
    for sample, cells in truth[truth["isolated"]].groupby("sample", sort=False):
        found = measured[measured["sample"] == sample].drop_duplicates("region")
        for _, cell in cells.iterrows():
            distance = np.hypot(found["x"] - cell["x"], found["y"] - cell["y"])
            near = distance.size > 0 and distance.min() < 0.5 * np.sqrt(cell["area"] / np.pi)
            rows.append(int(found["region"].iloc[int(distance.argmin())]) if near else 0)
    result = truth[truth["isolated"]].copy()
    result["region"] = rows
    return result


def false_regions(truth: pandas.DataFrame, measured: pandas.DataFrame) -> int:
    """Return how many regions hold the centre of no cell in their bounding box."""
    count = 0
    for sample, found in measured.drop_duplicates(["sample", "region"]).groupby("sample"):
        cells = truth[truth["sample"] == sample]
        for _, region in found.iterrows():
            inside = cells["x"].between(
                region["bbox_x"], region["bbox_x"] + region["bbox_w"] - 1
            ) & cells["y"].between(region["bbox_y"], region["bbox_y"] + region["bbox_h"] - 1)
            count += not bool(inside.any())
    return count


@dataclass(frozen=True)
class Recovery:
    """Deviation of the measurement from what was put in; deviations in per cent."""

    culture: str
    cells: int
    found: int
    true_mean: float
    measured_mean: float
    median_deviation: float

    @property
    def deviation(self) -> float:
        """Deviation of the culture's mean."""
        return 100 * (self.measured_mean / self.true_mean - 1)


def recovery(
    truth: pandas.DataFrame, measured: pandas.DataFrame, channel: str = "lipid dye"
) -> list[Recovery]:
    """Compare the mean signal per matched, unsaturated, isolated cell with the truth."""
    key = {"chlorophyll": "chlorophyll", "lipid dye": "lipid"}[channel]
    pairs = matched(truth, measured)
    values = measured[measured["channel"] == channel][["sample", "region", "mean"]]
    joined = pairs.merge(values, on=["sample", "region"], how="left")
    result = []
    for culture in dict.fromkeys(truth["culture"]):
        cells = joined[joined["culture"] == culture]
        good = cells[cells["mean"].notna() & ~cells["saturated"]]
        off = (good["mean"] / good[key] - 1).abs()
        result.append(
            Recovery(
                culture=str(culture),
                cells=len(cells),
                found=int((cells["region"] > 0).sum()),
                true_mean=float(good[key].mean()),
                measured_mean=float(good["mean"].mean()),
                median_deviation=100 * float(off.median()),
            )
        )
    return result


def recovery_lines(truth_folder: Path, measured: pandas.DataFrame) -> list[str]:
    """Return how the measurement deviates from what was put in, as lines of text."""
    import pandas  # noqa: PLC0415

    truth = pandas.read_csv(truth_folder / "cells.csv")
    lines = ["Mean lipid signal per cell (counts), isolated unsaturated cells"]
    head = ("culture", "cells", "found", "true", "measured", "deviation", "median |dev.|")
    lines.append("{:<14}{:>6}{:>7}{:>9}{:>10}{:>11}{:>15}".format(*head))
    for row in recovery(truth, measured):
        lines.append(
            f"{row.culture:<14}{row.cells:>6}{row.found:>7}{row.true_mean:>9.1f}"
            f"{row.measured_mean:>10.1f}{row.deviation:>+9.2f} %{row.median_deviation:>13.2f} %"
        )
    return lines
