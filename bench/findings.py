# ruff: noqa: E501, PLC0415 (one line a finding; what only one part needs)
"""What an independent audit found, measured again: `python bench/findings.py [FILE]`.

Prints a JSON object, or writes it to FILE. The same script measured the version before
(bench/findings_before.json); bench/make_accuracy.py sets both side by side.
"""

from __future__ import annotations

import json
import math
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.compare.effects import hedges_g, rank_biserial
from rilievo.core.compare.hypotheses import welch_anova, welch_t
from rilievo.core.files.reader import read_sample
from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.measure import QUANTITIES, RegionIndex, RegionValues
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.signal.steps import STEPS, StepContext

Found = dict[str, float | None]
TRIALS = 2000


def shape_of(mask: np.ndarray, *keys: str) -> list[float]:
    plane = Plane(np.zeros(mask.shape, np.float32))
    values = RegionValues(RegionIndex(mask.astype(np.int32), np.array([1])), plane, plane)
    return [float(QUANTITIES[key].measure(values)[0]) for key in keys]


def box_in_units() -> Found:
    import tifffile

    pixels = np.zeros((60, 80), np.uint16)
    pixels[10:40, 10:50] = 500
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.ome.tif"
        size = {"PhysicalSizeX": 0.1, "PhysicalSizeY": 0.3}
        tifffile.imwrite(path, pixels, metadata={"axes": "YX", **size})
        sample = read_sample(path)
    use = ThresholdUse.model_validate({"way": "hand", "parameters": {"level": 100}})
    outlines = (ClassDefinition(threshold=use, clean=()),)
    keys = ("area_unit", "perimeter_unit")
    table = Analysis(sample, Method(outlines=outlines, measure=Measure(quantities=keys))).table()
    return {
        "area of 40 × 30 px of 0.1 × 0.3 µm (36 µm²)": float(
            table.columns[table.channels[0]]["area_unit"][0]
        ),
        "its perimeter (26 µm)": float(table.columns[table.channels[0]]["perimeter_unit"][0]),
    }


def kept_share(pixels: np.ndarray, way: str) -> float:
    plane = plane_from_native(pixels) if pixels.dtype.kind == "u" else Plane(pixels)
    use = ThresholdUse.model_validate({"way": way})
    method = Method(outlines=(ClassDefinition(threshold=use, clean=()),))
    return float((Analysis(Sample("s", {"g": plane}), method).regions().labels > 0).mean())


def thresholds() -> Found:
    rng = np.random.default_rng(6)
    values = rng.normal(100, 6, (400, 400))
    values[:20] += rng.uniform(40, 120, (20, 400))
    whole = np.round(values).astype(np.uint8)
    found: Found = {}
    for name, pixels in (
        ("8 bit", whole),
        ("× 1.1 in floats", whole.astype(np.float32) * np.float32(1.1)),
        ("floats", values.astype(np.float32)),
    ):
        found[f"triangle keeps, {name} (5 %)"] = 100 * kept_share(pixels, "triangle")
    for noise in (0.5, 1.0):
        level = Analysis(
            Sample(
                "s",
                {
                    "g": plane_from_native(
                        np.round(rng.normal(200.3, noise, (400, 400))).astype(np.uint16)
                    )
                },
            ),
            Method(
                outlines=(
                    ClassDefinition(
                        threshold=ThresholdUse.model_validate({"way": "background_sigmas"})
                    ),
                )
            ),
        ).level()
        found[f"background + 5 σ on whole counts, noise {noise:g} (5 true σ)"] = (
            level - 200.3
        ) / noise
    far = values.copy()
    far[200, 200] = 1e7
    use = ThresholdUse.model_validate({"way": "percentile", "parameters": {"percent": 90.0}})
    method = Method(outlines=(ClassDefinition(threshold=use),))
    levels = [Analysis(Sample("s", {"g": Plane(v)}), method).level() for v in (values, far)]
    found["a pixel of 1e7 moves the 90th percentile by (0)"] = abs(levels[1] - levels[0])
    return found


def intervals() -> Found:
    rng = np.random.default_rng(1)
    found: Found = {}
    for n in (3, 5, 20):
        for effect in (0.0, 1.0, 2.0):
            inside = np.zeros(2)
            superiority = 2 * 0.5 * (1 + math.erf(effect / 2)) - 1
            for _ in range(TRIALS // 4):
                a, b = rng.normal(effect, 1, n), rng.normal(0, 1, n)
                for k, (one, truth) in enumerate(
                    ((hedges_g(a, b), effect), (rank_biserial(a, b), superiority))
                ):
                    low, high = one.interval
                    inside[k] += bool(low <= truth <= high) if math.isfinite(low) else 0
            share = 100 * inside / (TRIALS // 4)
            found[f"interval of g holds, n = {n}, effect {effect:g} (95 %)"] = float(share[0])
            found[f"interval of r holds, n = {n}, effect {effect:g} (95 %)"] = float(share[1])
    p = welch_t(np.array([0.1 + 0.2, 0.3, 0.3]), np.array([0.7, 0.1 * 7, 0.7])).p
    found["p of three equal against three equal values, off by rounding (none)"] = (
        None if math.isnan(p) else p
    )
    wrong = [welch_anova([rng.normal(0, 1, 3) for _ in range(6)]).p < 0.05 for _ in range(TRIALS)]
    found[
        "Welch's analysis of six groups of 3 finds effects where none are, % (5; said beside it)"
    ] = 100 * float(np.mean(wrong))
    return found


def curves() -> Found:
    from rilievo.core.compare.curve_fits import fit_curve
    from rilievo.core.errors import ComparisonError

    x = np.linspace(0, 10, 11)
    y = 5 + 20 * np.exp(-x / 3)
    found: Found = {}
    for zero in (0.0, 2020.0, 2_460_000.5):
        try:
            with np.errstate(all="ignore"):
                tau: float | None = fit_curve("decay", x + zero, y).parameters[2]
        except ComparisonError:
            tau = None
        found[f"τ of a decay that begins at {zero:.10g} (3)"] = tau
    return found


def shapes() -> Found:
    rng = np.random.default_rng(3)
    y, x = np.mgrid[-30:31, -30:31]

    def disc(r: float) -> np.ndarray:
        cx, cy = rng.uniform(-0.5, 0.5, 2)
        return (x - cx) ** 2 + (y - cy) ** 2 < r * r

    def box(a: float, b: float) -> np.ndarray:
        t, (cx, cy) = rng.uniform(0, np.pi), rng.uniform(-0.5, 0.5, 2)
        u = (x - cx) * np.cos(t) + (y - cy) * np.sin(t)
        v = -(x - cx) * np.sin(t) + (y - cy) * np.cos(t)
        return (np.abs(u) < a / 2) & (np.abs(v) < b / 2)

    two = np.zeros((60, 61), bool)
    two[2:12, 2:12] = two[30:50, 20:50] = True
    found: Found = {"circularity of two parts (0.45)": shape_of(two, "circularity")[0]}
    solid = np.array(
        [shape_of(disc(5), "solidity", "caliper_max", "caliper_min") for _ in range(200)]
    ).mean(axis=0)
    found["solidity of a disc of radius 5 (1)"] = float(solid[0])
    found["its largest width (10 px)"], found["its smallest width (10 px)"] = (
        float(solid[1]),
        float(solid[2]),
    )
    found["least width of a turned 20 × 5 (5 px)"] = float(
        np.mean([shape_of(box(20, 5), "caliper_min")[0] for _ in range(300)])
    )
    for a, b in ((6, 3), (10, 4)):
        p = np.mean([shape_of(box(a, b), "perimeter")[0] for _ in range(300)])
        found[f"perimeter of a turned {a} × {b}, error in %"] = 100 * float(p / (2 * (a + b)) - 1)
    return found


def stars() -> Found:
    from scipy.special import erf

    def star(frame: tuple[int, int], x: float, y: float, flux: float, fwhm: float) -> np.ndarray:
        s = fwhm / 2.3548 * math.sqrt(2)
        along = [
            np.diff(erf((np.arange(n + 1) - 0.5 - c) / s)) / 2
            for n, c in zip(frame, (y, x), strict=True)
        ]
        return flux * np.outer(*along)

    outline = ClassDefinition(region_class="star", source="stars")
    method = Method(
        outlines=(outline,), measure=Measure(quantities=("flux", "fwhm", "sky", "star_x", "star_y"))
    )
    rng = np.random.default_rng(5)

    def fluxes(fwhm: float, change: Any = None, flux: float = 6e4) -> Any:
        side = 60 if fwhm < 6 else 130
        size = 4 * side + 20
        places = [
            (side * (i + 0.5) + 10.3, side * (j + 0.5) + 10.7) for i in range(4) for j in range(4)
        ]
        light = sum(star((size, size), px, py, flux, fwhm) for px, py in places)
        if change is not None:
            light = change(light, *places[5])
        pixels = (np.asarray(light) + 200 + rng.normal(0, 3, (size, size))).astype(np.float32)
        table = Analysis(Sample("s", {"g": Plane(pixels)}), method).table()
        columns = table.columns["g"]
        away = np.hypot(columns["star_x"] - places[5][0], columns["star_y"] - places[5][1])
        own = float(columns["flux"][away.argmin()]) if away.min() < 2 else None
        return columns, own, flux

    def companion(light: np.ndarray, px: float, py: float) -> np.ndarray:
        return light + star(light.shape, px + 8, py, 0.3 * 6e4, 4.0)

    def hit(light: np.ndarray, px: float, py: float) -> np.ndarray:
        light = light.copy()
        light[round(py) + 6, round(px) - 4 : round(px) - 1] += 0.17 * 6e4 / 3
        return light

    def clipped(light: np.ndarray, px: float, py: float) -> np.ndarray:
        light = light.copy()
        part = light[round(py) - 5 : round(py) + 6, round(px) - 5 : round(px) + 6]
        np.minimum(part, 0.5 * part.max(), out=part)
        return light

    found: Found = {}
    for name, change in (
        ("a companion of 30 % at two FWHM", companion),
        ("a cosmic-ray hit of 17 %", hit),
    ):
        _, own, flux = fluxes(4.0, change)
        found[f"flux with {name}, error in % (left out)"] = (
            None if own is None else 100 * (own / flux - 1)
        )
    _, own, flux = fluxes(4.0, clipped)
    found["flux of a core clipped at half, noise on top, error in %"] = (
        None if own is None else 100 * (own / flux - 1)
    )
    columns, _, flux = fluxes(10.0, flux=3e5)
    found["flux at FWHM 10, error in %"] = 100 * float(np.median(columns["flux"]) / flux - 1)
    columns, _, flux = fluxes(4.0)
    found["FWHM of a Gaussian star by a Moffat fit, error in %"] = 100 * float(
        np.median(columns["fwhm"]) / 4 - 1
    )
    return found


def backgrounds() -> Found:
    rng = np.random.default_rng(9)
    y, x = np.mgrid[:384, :384].astype(float)
    background = 500 + 150 * (x / 384 - 0.5 + 0.6 * (y / 384 - 0.5))
    found: Found = {}
    for radius, coverage in ((30, 0.4), (12, 0.6)):
        light = np.zeros(x.shape)
        while (light > 0).mean() < coverage:
            cx, cy = rng.uniform(0, 384, 2)
            light[np.hypot(x - cx, y - cy) < radius] = 200
        plane = Plane((background + light + rng.normal(0, 10, x.shape)).astype(np.float32))
        for key, title in (
            ("background.mesh", "mesh"),
            ("background.surface", "surface"),
            ("background.smoothed", "wide median"),
        ):
            step = STEPS[key]
            assert step.estimate is not None
            made = step.estimate(plane, step.parameters(), StepContext("s", "g"))
            off = (np.asarray(made) - background)[light > 0].mean() / 200
            found[
                f"{title} under radius {radius}, {100 * coverage:.0f} % covered, error in % of the signal"
            ] = 100 * float(off)
    patch = STEPS["background.patch"]
    pixels = np.round(rng.normal(40_000, 30, (200, 300))).astype(np.uint16)
    whole = patch.parameters.model_validate(
        {"statistic": "mean", "patches": [{"x": 0, "y": 0, "width": 300, "height": 200}]}
    )
    left = patch.apply(plane_from_native(pixels), whole, StepContext("s", "g"))
    found["mean that is left after a patch's own mean was taken off (0)"] = float(
        left.pixels.mean(dtype=np.float64)
    )
    return found


def splitting() -> Found:
    from rilievo.core.method.class_definition import CleanUse

    rng = np.random.default_rng(4)
    y, x = np.mgrid[:150, :190].astype(float)
    method = Method(outlines=(ClassDefinition(
        threshold=ThresholdUse.model_validate({"way": "hand", "parameters": {"level": 0.5}}),
        clean=(CleanUse.model_validate({"cleaner": "split_distance"}),)),))  # fmt: skip

    def count(mask: np.ndarray) -> int:
        return Analysis(Sample("s", {"g": Plane(mask.astype(np.float32))}), method).regions().count

    def row(n: int) -> np.ndarray:
        r, t, share = rng.uniform(6, 18), rng.uniform(0, 7), rng.uniform(0.2, 0.3)
        mask = np.zeros(x.shape, bool)
        for k in range(n):
            away = (k - (n - 1) / 2) * 2 * r * (1 - share)
            mask |= np.hypot(x - 95 - away * np.cos(t), y - 75 - away * np.sin(t)) < r
        return mask

    def triangle() -> np.ndarray:
        r, t, share = rng.uniform(6, 18), rng.uniform(0, 7), rng.uniform(0.2, 0.3)
        away = 2 * r * (1 - share) / math.sqrt(3)
        return np.any(
            [
                np.hypot(
                    x - 95 - away * np.cos(t + k * 2.0944), y - 75 - away * np.sin(t + k * 2.0944)
                )
                < r
                for k in range(3)
            ],
            axis=0,
        )

    def ellipse() -> np.ndarray:
        b, t = rng.uniform(5, 12), rng.uniform(0, np.pi)
        a = b * rng.uniform(1, 4)
        u, v = (
            (x - 95.2) * np.cos(t) + (y - 75.3) * np.sin(t),
            -(x - 95.2) * np.sin(t) + (y - 75.3) * np.cos(t),
        )
        return (u / a) ** 2 + (v / b) ** 2 < 1

    return {
        "pairs of discs overlapping 20–30 % parted, %": 100
        * float(np.mean([count(row(2)) == 2 for _ in range(100)])),
        "three in a row, %": 100 * float(np.mean([count(row(3)) == 3 for _ in range(100)])),
        "three in a triangle, %": 100
        * float(np.mean([count(triangle()) == 3 for _ in range(100)])),
        "single ellipses up to aspect 4 that fall apart, %": 100
        * float(np.mean([count(ellipse()) > 1 for _ in range(100)])),
    }


PARTS = (box_in_units, thresholds, intervals, curves, shapes, stars, backgrounds, splitting)


def main() -> None:
    found: Found = {}
    for part in PARTS:
        found |= part()
    text = json.dumps(found, indent=1, ensure_ascii=False)
    if len(sys.argv) > 1:
        Path(sys.argv[1]).write_text(text + "\n", encoding="utf-8")
    else:
        print(text)


if __name__ == "__main__":
    main()
