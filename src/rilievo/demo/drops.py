"""The Drops set: drying drops of three dyes on glass under a fading lamp, everything put in known.

Three time series of 40 pictures, 16-bit counts, one OME-TIFF a dye with three drops each. All of it
is invented. A picture is

    counts = offset + lamp · (glass + drops), with shot noise and read noise

Each dye fades with a time constant of its own; the lamp fades as well, which *Same light* takes
out by the light of the glass. The slide drifts by a few pixels. One drop wanders to another one and
touches it halfway through.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.question import Question
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.result_frame import ResultFrame

if TYPE_CHECKING:
    import pandas

SEED = 72_113
WIDTH, HEIGHT, TIMES, STEP_S = 280, 200, 40, 20.0
OFFSET, GLASS, READ_NOISE, GAIN = 100.0, 400.0, 3.0, 2.0
PIXEL_SIZE = 4.0
# The lamp loses this share of its light in e-fold over so many seconds.
LAMP_S = 1500.0
RADIUS, EDGE = 14.0, 1.2
# Half of the times; there the wandering drop touches.
TOUCH = TIMES // 2
# Nearer than this the two are one region.
APART = 2 * RADIUS + 2.0
QUANTITIES_MEASURED = ("pixel_count", "mean", "sum", "sd", "x", "y", "area", "equivalent_diameter")

Image = NDArray[np.float64]


@dataclass(frozen=True)
class Dye:
    """A dye. seconds : in which it fades to 1/e. light : of its drops at first, in counts."""

    name: str
    seconds: float
    light: tuple[float, float, float]


DYES = (
    Dye("amber", 260.0, (3200.0, 2900.0, 2600.0)),
    Dye("cobalt", 380.0, (2500.0, 3100.0, 2800.0)),
    Dye("moss", 560.0, (2900.0, 2400.0, 3000.0)),
)
_PLACES = ((60.0, 55.0), (75.0, 145.0), (190.0, 100.0))
# The drop that wanders, and the one it comes to.
WANDERER, HOST = ("moss", 1), ("moss", 2)


def drift() -> Image:
    """How far the slide has moved at each time: x and y, shape (TIMES, 2)."""
    rng = np.random.default_rng([SEED, 1])
    walk = np.cumsum(rng.normal(0, 0.35, (TIMES, 2)), axis=0)
    return np.asarray(walk - walk[0], np.float64)


def place_of(dye: Dye, drop: int, time: int) -> tuple[float, float]:
    """Return where the centre of a drop is."""
    x, y = _PLACES[drop]
    if (dye.name, drop) == WANDERER:
        # Along the line to its host, to where the two just touch, and back.
        host_x, host_y = _PLACES[HOST[1]]
        away = 2 * RADIUS - 4.0 + 4.5 * abs(time - TOUCH)
        length = np.hypot(x - host_x, y - host_y)
        share = min(away / length, 1.0)
        x, y = host_x + (x - host_x) * share, host_y + (y - host_y) * share
    moved = drift()[time]
    return x + float(moved[0]), y + float(moved[1])


def touches(dye: Dye, drop: int, time: int) -> bool:
    """Whether a drop and its neighbour are one region."""
    if (dye.name, drop) not in (WANDERER, HOST):
        return False
    (ax, ay), (bx, by) = place_of(dye, WANDERER[1], time), place_of(dye, HOST[1], time)
    return bool(np.hypot(ax - bx, ay - by) < APART)


def light_of(dye: Dye, drop: int, time: int) -> float:
    """Return the light of a drop above the glass, in counts under the lamp as it was at first."""
    return dye.light[drop] * float(np.exp(-time * STEP_S / dye.seconds))


def make_series(dye: Dye) -> NDArray[np.uint16]:
    """Return the pictures of a dye, shape (TIMES, HEIGHT, WIDTH); the same every time."""
    from scipy.special import erfc  # noqa: PLC0415 (slow to import)

    rng = np.random.default_rng([SEED, 10, *dye.name.encode()])
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    series = np.empty((TIMES, HEIGHT, WIDTH), np.uint16)
    for time in range(TIMES):
        lamp = float(np.exp(-time * STEP_S / LAMP_S))
        scene = np.full((HEIGHT, WIDTH), GLASS)
        for drop in range(len(_PLACES)):
            cx, cy = place_of(dye, drop, time)
            edge = (np.hypot(x - cx, y - cy) - RADIUS) / (np.sqrt(2) * EDGE)
            scene += light_of(dye, drop, time) * 0.5 * erfc(edge)
        electrons = rng.poisson(lamp * scene * GAIN) / GAIN
        counts = OFFSET + electrons + rng.normal(0, READ_NOISE, scene.shape)
        series[time] = np.clip(np.rint(counts), 0, 65_535)
    return series


def drops_method() -> Method:
    """Return the method for the set: offset off, the same light, drops above half of their own."""
    method = Method(
        name="Drying drops",
        steps=(
            step_use("offset", "arithmetic.number", operation="subtract", number=OFFSET),
            step_use("light", "arithmetic.light"),
            step_use("glass", "arithmetic.number", operation="subtract", number=1.0),
        ),
    )
    drop = ClassDefinition(
        region_class="drop",
        threshold=ThresholdUse.model_validate({"way": "between_class_variance"}),
    )
    return method.changed(outlines=(drop,), measure=Measure(quantities=QUANTITIES_MEASURED))


def drops_question() -> Question:
    """Return what is compared: the light of the drops through time."""
    return Question(
        quantities=("mean",), by="sample:time (s)", shown_as="series", curves="region", fit="decay"
    )


def write_drops(folder: Path, report: Callable[[float], None] = lambda _: None) -> list[Path]:
    """Write the series into `folder`, the truth below it; return the series.

    report : is told the share done.
    """
    import tifffile  # noqa: PLC0415 (slow to import)

    (folder / "truth").mkdir(parents=True, exist_ok=True)
    paths, rows = [], []
    for number, dye in enumerate(DYES):
        path = folder / f"{dye.name}.ome.tif"
        facts = {
            "axes": "TYX",
            "TimeIncrement": STEP_S,
            "TimeIncrementUnit": "s",
            "PhysicalSizeX": PIXEL_SIZE,
            "PhysicalSizeXUnit": "µm",
            "PhysicalSizeY": PIXEL_SIZE,
            "PhysicalSizeYUnit": "µm",
            "Channel": {"Name": ["fluorescence"]},
        }
        tifffile.imwrite(path, make_series(dye), metadata=facts, compression="zlib")
        paths.append(path)
        for time in range(TIMES):
            for drop in range(len(_PLACES)):
                x, y = place_of(dye, drop, time)
                rows.append(
                    {
                        "stack": dye.name,
                        "drop": drop + 1,
                        "time": time + 1,
                        "time (s)": time * STEP_S,
                        "x": x,
                        "y": y,
                        "relative light": light_of(dye, drop, time) / GLASS,
                        "touches": touches(dye, drop, time),
                    }
                )
        report((number + 1) / (len(DYES) + 1))
    ResultFrame.of_records(rows).write_csv(folder / "truth" / "drops.csv")
    dyes = [{"stack": dye.name, "seconds": dye.seconds} for dye in DYES]
    ResultFrame.of_records(dyes).write_csv(folder / "truth" / "dyes.csv")
    report(1.0)
    return paths


def recovery_lines(truth_folder: Path, measured: pandas.DataFrame) -> list[str]:
    """Return how the measurement deviates from what was put in, as lines of text."""
    import pandas  # noqa: PLC0415

    truth = pandas.read_csv(truth_folder / "drops.csv")
    dyes = pandas.read_csv(truth_folder / "dyes.csv").set_index("stack")["seconds"]
    found = matched(truth, measured)
    lines = ["Time constants of the dyes, and the drops through time"]
    lines.append(
        f"{'dye':<8}{'true s':>8}{'measured':>10}{'deviation':>11}{'farthest px':>13}"
        f"{'tracks':>8}  {'where drops touch'}"
    )
    for name, own in found.groupby("stack", sort=False):
        fitted = [
            time_constant(drop[~drop["touches"]].dropna(subset=["mean"]))
            for _, drop in own.groupby("drop")
        ]
        value, true = float(np.mean(fitted)), float(dyes[name])
        apart = own[~own["touches"]]
        farthest = float(np.nanmax(apart["away"]))
        events = measured[(measured["stack"] == name) & (measured.get("track event", "") != "")]
        told = "; ".join(
            f"{row['time (s)']} s: track {row['track']} {row['track event']}"
            for _, row in events.iterrows()
        )
        lines.append(
            f"{name:<8}{true:>8.0f}{value:>10.1f}{100 * (value / true - 1):>+9.2f} %"
            f"{farthest:>13.2f}{apart['track'].nunique():>8}  {told or '–'}"
        )
    return lines


def matched(truth: pandas.DataFrame, measured: pandas.DataFrame) -> pandas.DataFrame:
    """Return the truth with the region nearest to each drop: mean, track, distance in pixels."""
    result = truth.assign(mean=np.nan, track="", away=np.nan)
    times = measured["time"].astype(int)
    for (stack, time), rows in truth.groupby(["stack", "time"]):
        regions = measured[(measured["stack"] == stack) & (times == time)]
        if regions.empty:
            continue
        for k in rows.index:
            away = np.hypot(regions["x"] - truth.loc[k, "x"], regions["y"] - truth.loc[k, "y"])
            nearest = int(np.argmin(away.to_numpy()))
            if away.iloc[nearest] < RADIUS:
                row = regions.iloc[nearest]
                result.loc[k, ["mean", "track", "away"]] = [
                    row["mean"], row.get("track", ""), away.iloc[nearest]
                ]  # fmt: skip
    return result


def time_constant(drop: pandas.DataFrame) -> float:
    """Return in how many seconds the light of a drop fades to 1/e, by a fitted decay."""
    from rilievo.core.compare.curve_fits import fit_curve  # noqa: PLC0415

    fit = fit_curve("decay", drop["time (s)"].to_numpy(float), drop["mean"].to_numpy(float))
    return float(fit.parameters[2])
